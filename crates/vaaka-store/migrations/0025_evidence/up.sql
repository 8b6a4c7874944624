-- Evidence: for each row that a record rests on, the hash of what stands in it, appended whenever it changes, with the
-- transaction that changed it. Seals cover these hashes with the audit entries of the same transactions, so that a row
-- that is edited, taken away, put in or swapped behind the application's back does not fit any more.
CREATE TABLE evidence (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    relation text NOT NULL,
    row_key text NOT NULL,
    -- None: the row was taken away.
    hash bytea CHECK (length(hash) = 32),
    tx xid8 NOT NULL DEFAULT pg_current_xact_id()
);
CREATE INDEX evidence_row ON evidence (relation, row_key, id);
CREATE INDEX evidence_tx ON evidence (tx);
CREATE TRIGGER evidence_kept BEFORE UPDATE OR DELETE ON evidence
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
GRANT SELECT ON evidence TO vaaka_app;

-- Entries of before have none.
ALTER TABLE audit_entries ADD COLUMN tx xid8;
ALTER TABLE audit_entries ALTER COLUMN tx SET DEFAULT pg_current_xact_id();
CREATE INDEX audit_entries_tx ON audit_entries (tx);

ALTER TABLE audit_seals
    ADD COLUMN evidence_rows integer CHECK (evidence_rows >= 0),
    ADD COLUMN evidence_hash bytea CHECK (length(evidence_hash) = 32),
    ADD CONSTRAINT audit_seals_evidence CHECK ((evidence_rows IS NULL) = (evidence_hash IS NULL));

-- What stands in a row: every column that has a value, in an order and a form that no setting of a session changes, so
-- that a column which a later version adds changes no hash while it is empty. The bytes of a file stand for themselves by
-- their own hash.
CREATE FUNCTION evidence_hash(row_as_json jsonb) RETURNS bytea LANGUAGE sql IMMUTABLE PARALLEL SAFE
    RETURN sha256(convert_to((jsonb_strip_nulls(row_as_json) - 'bytes')::text, 'UTF8'));

CREATE FUNCTION note_evidence() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
SET search_path = public, pg_temp SET timezone = 'UTC' SET extra_float_digits = 1 SET bytea_output = 'hex' AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        INSERT INTO evidence (relation, row_key)
        SELECT TG_TABLE_NAME, concat_ws('/', r->>TG_ARGV[0], r->>TG_ARGV[1])
        FROM (SELECT to_jsonb(o) AS r FROM old_rows o) gone;
    ELSE
        INSERT INTO evidence (relation, row_key, hash)
        SELECT TG_TABLE_NAME, concat_ws('/', r->>TG_ARGV[0], r->>TG_ARGV[1]), evidence_hash(r)
        FROM (SELECT to_jsonb(n) AS r FROM new_rows n) there;
    END IF;
    RETURN NULL;
END $$;
REVOKE EXECUTE ON FUNCTION note_evidence() FROM PUBLIC;

-- The tables that are evidence, with the columns of their keys.
CREATE TABLE evidence_tables (relation text PRIMARY KEY, key_columns text[] NOT NULL);
GRANT SELECT ON evidence_tables TO vaaka_app;
INSERT INTO evidence_tables VALUES
    ('adjustments', '{id}'), ('amendments', '{id}'), ('attempts', '{id}'), ('baselines', '{id}'),
    ('budgets', '{result_id,key}'), ('certificate_acceptances', '{id}'), ('certificates', '{id}'),
    ('certified_values', '{id}'), ('characteristics', '{id}'), ('chart_points', '{id}'),
    ('chart_streams', '{id}'), ('check_hands', '{id}'), ('check_orders', '{id}'), ('check_standards', '{check_id,place}'),
    ('checks', '{id}'), ('crossovers', '{id}'), ('files', '{id}'), ('instrument_events', '{id}'),
    ('instrument_states', '{id}'), ('ladder_steps', '{id}'), ('limit_proposals', '{id}'),
    ('look_backs', '{id}'), ('paper_sheets', '{id}'), ('plan_points', '{id}'),
    ('plan_versions', '{id}'), ('point_marks', '{id}'), ('readings', '{id}'),
    ('reading_voids', '{reading_id}'), ('results', '{id}'), ('segments', '{id}'),
    ('signal_steps', '{id}'), ('signals', '{id}'), ('signatures', '{id}'), ('standard_lots', '{id}'),
    ('standard_states', '{id}'), ('standards', '{id}'), ('trainings', '{id}');

DO $$
DECLARE
    one record;
    keys text;
    of_key text;
BEGIN
    FOR one IN SELECT * FROM evidence_tables LOOP
        SELECT string_agg(quote_literal(k), ', ') INTO keys FROM unnest(one.key_columns) k;
        SELECT string_agg(format('to_jsonb(r)->>%L', k), ', ') INTO of_key FROM unnest(one.key_columns) k;
        EXECUTE format('CREATE TRIGGER %I_evidence_in AFTER INSERT ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_changed AFTER UPDATE ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_gone AFTER DELETE ON %I REFERENCING OLD TABLE AS old_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
    END LOOP;
END $$;

-- What stands there today, by the same function: it is evidence from now on. A later migration that fills a new column of
-- such a table takes the evidence of that table again, with an entry in the audit trail.
CREATE FUNCTION take_evidence(of_relation text) RETURNS void LANGUAGE plpgsql SET search_path = public, pg_temp
SET timezone = 'UTC' SET extra_float_digits = 1 SET bytea_output = 'hex' AS $$
DECLARE
    one record;
    of_key text;
BEGIN
    FOR one IN SELECT * FROM evidence_tables WHERE relation = of_relation LOOP
        SELECT string_agg(format('to_jsonb(r)->>%L', k), ', ') INTO of_key FROM unnest(one.key_columns) k;
        EXECUTE format('INSERT INTO evidence (relation, row_key, hash)
            SELECT %L, concat_ws(''/'', %s), evidence_hash(to_jsonb(r)) FROM %I r', one.relation, of_key, one.relation);
    END LOOP;
END $$;
REVOKE EXECUTE ON FUNCTION take_evidence(text) FROM PUBLIC;
SELECT take_evidence(relation) FROM evidence_tables;

-- Rows of a table that do not fit their newest hash: changed, gone or put in. The newest hash of a row is what stands.
CREATE FUNCTION evidence_faults(of_relation text, most integer)
RETURNS TABLE (row_key text, fault text) LANGUAGE plpgsql STABLE SET search_path = public, pg_temp
SET timezone = 'UTC' SET extra_float_digits = 1 SET bytea_output = 'hex' AS $$
DECLARE
    keys text[];
    of_key text;
BEGIN
    SELECT key_columns INTO STRICT keys FROM evidence_tables WHERE relation = of_relation;
    SELECT string_agg(format('to_jsonb(r)->>%L', k), ', ') INTO of_key FROM unnest(keys) k;
    RETURN QUERY EXECUTE format(
        'SELECT coalesce(t.row_key, e.row_key),
             CASE WHEN e.row_key IS NULL THEN ''put in'' WHEN t.row_key IS NULL THEN ''gone''
                  WHEN e.hash IS NULL THEN ''put in'' ELSE ''changed'' END
         FROM (SELECT concat_ws(''/'', %s) AS row_key, evidence_hash(to_jsonb(r)) AS hash FROM %I r) t
         FULL JOIN (SELECT DISTINCT ON (row_key) row_key, hash FROM evidence WHERE relation = %L
             ORDER BY row_key, id DESC) e ON e.row_key = t.row_key
         WHERE t.hash IS DISTINCT FROM e.hash LIMIT %s', of_key, of_relation, of_relation, most);
END $$;
GRANT EXECUTE ON FUNCTION evidence_faults(text, integer) TO vaaka_app;

