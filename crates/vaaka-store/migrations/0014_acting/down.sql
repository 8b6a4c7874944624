DROP INDEX audit_entries_at;
DROP TABLE audit_seals, amendments, signatures;
ALTER TABLE instrument_events DROP COLUMN applied_gain;
DROP TABLE adjustments, mails, notices, ladder_steps;
ALTER TABLE people DROP COLUMN email;
