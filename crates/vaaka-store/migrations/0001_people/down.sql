DROP TABLE audit_entries, sessions, people;
DROP FUNCTION refuse_change;
-- The role stays: it belongs to the cluster, and other databases may use it.
