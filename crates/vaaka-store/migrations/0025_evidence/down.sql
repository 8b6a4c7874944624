DROP FUNCTION evidence_faults(text, integer);
DO $$
DECLARE
    one record;
BEGIN
    FOR one IN SELECT * FROM evidence_tables LOOP
        EXECUTE format('DROP TRIGGER %I_evidence_in ON %I', one.relation, one.relation);
        EXECUTE format('DROP TRIGGER %I_evidence_changed ON %I', one.relation, one.relation);
        EXECUTE format('DROP TRIGGER %I_evidence_gone ON %I', one.relation, one.relation);
    END LOOP;
END $$;
DROP FUNCTION take_evidence(text);
DROP FUNCTION note_evidence();
DROP FUNCTION evidence_hash(jsonb);
DROP TABLE evidence_tables;
ALTER TABLE audit_seals DROP CONSTRAINT audit_seals_evidence, DROP COLUMN evidence_rows, DROP COLUMN evidence_hash;
ALTER TABLE audit_entries DROP COLUMN tx;
DROP TABLE evidence;
