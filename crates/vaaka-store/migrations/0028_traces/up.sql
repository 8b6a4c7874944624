-- A step may ask for a trace: one or several quantities over an axis, as typed arrays, with the file as it came beside them.
ALTER TABLE readings
    DROP CONSTRAINT readings_kind_check,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'setting', 'choice', 'text', 'count',
        'condition', 'wait_started', 'wait_over', 'reading', 'trace'));

-- Whether an array holds numbers and nothing else: one dimension, no gaps, none that is infinite or no number at all.
CREATE FUNCTION are_numbers(numbers double precision[]) RETURNS boolean LANGUAGE sql IMMUTABLE PARALLEL SAFE
    RETURN array_ndims(numbers) = 1 AND array_position(numbers, NULL) IS NULL
        AND NOT ('NaN' = ANY (numbers) OR 'Infinity' = ANY (numbers) OR '-Infinity' = ANY (numbers));

CREATE TABLE traces (
    reading_id bigint PRIMARY KEY REFERENCES readings,
    points integer NOT NULL CHECK (points BETWEEN 2 AND 200001),
    axis_unit text NOT NULL,
    axis double precision[] NOT NULL CHECK (are_numbers(axis)),
    -- Over the numbers alone, as the audit trail names it.
    digest bytea NOT NULL CHECK (length(digest) = 32),
    name text NOT NULL,
    bytes bytea NOT NULL CHECK (length(bytes) BETWEEN 1 AND 33554432),
    sha256 bytea NOT NULL,
    UNIQUE (reading_id, points),
    CHECK (cardinality(axis) = points),
    CHECK (sha256 = sha256(bytes))
);
CREATE TABLE trace_channels (
    reading_id bigint NOT NULL,
    sequence integer NOT NULL CHECK (sequence >= 1),
    points integer NOT NULL,
    name text NOT NULL CHECK (name <> ''),
    unit text NOT NULL,
    re double precision[] NOT NULL CHECK (are_numbers(re)),
    im double precision[] CHECK (are_numbers(im)),
    PRIMARY KEY (reading_id, sequence),
    -- The count of points is that of the axis: arrays of unequal length are no trace.
    FOREIGN KEY (reading_id, points) REFERENCES traces (reading_id, points),
    CHECK (cardinality(re) = points),
    CHECK (im IS NULL OR cardinality(im) = points)
);
CREATE TRIGGER traces_kept BEFORE UPDATE OR DELETE ON traces FOR EACH ROW EXECUTE FUNCTION refuse_change();
CREATE TRIGGER trace_channels_kept BEFORE UPDATE OR DELETE ON trace_channels
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
-- Already packed numbers pack no further; what is read is read whole.
ALTER TABLE traces ALTER COLUMN axis SET STORAGE EXTERNAL;
ALTER TABLE trace_channels ALTER COLUMN re SET STORAGE EXTERNAL, ALTER COLUMN im SET STORAGE EXTERNAL;

-- An entry that says it is a trace has one, and no other has: at the end of the transaction that keeps it.
CREATE FUNCTION trace_is_there() RETURNS trigger LANGUAGE plpgsql SET search_path = public, pg_temp AS $$
BEGIN
    IF NOT EXISTS (SELECT 1 FROM readings r WHERE r.id = NEW.reading_id AND r.kind = 'trace') THEN
        RAISE EXCEPTION 'a trace belongs to an entry of its kind' USING ERRCODE = 'check_violation';
    END IF;
    IF NOT EXISTS (SELECT 1 FROM trace_channels c WHERE c.reading_id = NEW.reading_id) THEN
        RAISE EXCEPTION 'a trace has a channel' USING ERRCODE = 'check_violation';
    END IF;
    RETURN NULL;
END $$;
CREATE CONSTRAINT TRIGGER traces_are_of_readings AFTER INSERT ON traces DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW EXECUTE FUNCTION trace_is_there();
CREATE FUNCTION reading_has_trace() RETURNS trigger LANGUAGE plpgsql SET search_path = public, pg_temp AS $$
BEGIN
    IF NOT EXISTS (SELECT 1 FROM traces t WHERE t.reading_id = NEW.id) THEN
        RAISE EXCEPTION 'an entry that is a trace has none' USING ERRCODE = 'check_violation';
    END IF;
    RETURN NULL;
END $$;
CREATE CONSTRAINT TRIGGER readings_have_traces AFTER INSERT ON readings DEFERRABLE INITIALLY DEFERRED
    FOR EACH ROW WHEN (NEW.kind = 'trace') EXECUTE FUNCTION reading_has_trace();

INSERT INTO evidence_tables VALUES ('traces', '{reading_id}'), ('trace_channels', '{reading_id,sequence}');
DO $$
DECLARE
    one record;
    keys text;
BEGIN
    FOR one IN SELECT * FROM evidence_tables WHERE relation IN ('traces', 'trace_channels') LOOP
        SELECT string_agg(quote_literal(k), ', ') INTO keys FROM unnest(one.key_columns) k;
        EXECUTE format('CREATE TRIGGER %I_evidence_in AFTER INSERT ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_changed AFTER UPDATE ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_gone AFTER DELETE ON %I REFERENCING OLD TABLE AS old_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
    END LOOP;
END $$;

GRANT SELECT, INSERT ON traces, trace_channels TO vaaka_app;
