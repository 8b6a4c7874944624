-- Large tables, looks over everything and reports leave the request, too: see jobs.

-- A table that somebody said yes to is coming in: its values are written in pieces and count for nothing until all are there.
ALTER TABLE imports
    DROP CONSTRAINT imports_state_check,
    DROP CONSTRAINT imports_check,
    DROP CONSTRAINT imports_check1,
    ADD CONSTRAINT imports_state_check CHECK (state IN ('looked_at', 'coming', 'done', 'withdrawn')),
    ADD CONSTRAINT imports_lines_when_in CHECK ((state IN ('looked_at', 'coming')) = (lines IS NULL)),
    ADD CONSTRAINT imports_done_when_in CHECK ((state IN ('looked_at', 'coming')) = (done_at IS NULL)),
    -- What reading it found, and which columns were said to be what; why it did not come in, where it did not.
    ADD COLUMN reading jsonb,
    ADD COLUMN refused text NOT NULL DEFAULT '';
GRANT UPDATE (reading, refused) ON imports TO vaaka_app;

CREATE OR REPLACE FUNCTION keep_imports() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        IF OLD.state <> 'looked_at' THEN
            RAISE EXCEPTION 'a table that was brought in is kept as it came';
        END IF;
        RETURN OLD;
    END IF;
    IF OLD.state IN ('done', 'withdrawn') AND (NEW.kind, NEW.file_name, NEW.bytes, NEW.sha256,
            NEW.person_id, NEW.at, NEW.lines, NEW.done_at)
            IS DISTINCT FROM (OLD.kind, OLD.file_name, OLD.bytes, OLD.sha256, OLD.person_id, OLD.at, OLD.lines,
            OLD.done_at) THEN
        RAISE EXCEPTION 'a table that was brought in is kept as it came';
    END IF;
    RETURN NEW;
END $$;

-- Values of a table that did not come in after all are taken away again; all others stay.
CREATE FUNCTION keep_earlier_values() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' AND (SELECT state FROM imports WHERE id = OLD.import_id) = 'coming' THEN
        RETURN OLD;
    END IF;
    RAISE EXCEPTION 'a kept record is never changed';
END $$;
DROP TRIGGER earlier_values_kept ON earlier_values;
CREATE TRIGGER earlier_values_kept BEFORE UPDATE OR DELETE ON earlier_values
    FOR EACH ROW EXECUTE FUNCTION keep_earlier_values();
GRANT DELETE ON earlier_values TO vaaka_app;
-- A piece that was written twice would be a line twice.
DROP INDEX earlier_values_import_id;
CREATE UNIQUE INDEX earlier_values_line ON earlier_values (import_id, line);

-- Looks over everything: how far each has come, then what it found.
CREATE TABLE trail_looks (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    asked_by bigint NOT NULL REFERENCES people,
    at timestamptz NOT NULL,
    look jsonb NOT NULL,
    finished_at timestamptz
);
CREATE INDEX trail_looks_asked_by ON trail_looks (asked_by);
-- Reports over long periods, written once and kept as they were.
CREATE TABLE reports (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    instrument_id bigint NOT NULL REFERENCES instruments,
    from_day date NOT NULL,
    until_day date NOT NULL CHECK (until_day >= from_day),
    asked_by bigint NOT NULL REFERENCES people,
    at timestamptz NOT NULL,
    body jsonb,
    sha256 bytea CHECK (length(sha256) = 32),
    finished_at timestamptz,
    CHECK ((body IS NULL) = (finished_at IS NULL)),
    CHECK ((body IS NULL) = (sha256 IS NULL))
);
CREATE INDEX reports_instrument ON reports (instrument_id, id);
CREATE INDEX reports_asked_by ON reports (asked_by);
CREATE FUNCTION keep_finished() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' OR OLD.finished_at IS NOT NULL THEN
        RAISE EXCEPTION 'what is finished is kept as it is';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER trail_looks_kept BEFORE UPDATE OR DELETE ON trail_looks
    FOR EACH ROW EXECUTE FUNCTION keep_finished();
CREATE TRIGGER reports_kept BEFORE UPDATE OR DELETE ON reports
    FOR EACH ROW EXECUTE FUNCTION keep_finished();
GRANT SELECT, INSERT ON trail_looks, reports TO vaaka_app;
GRANT UPDATE (look, finished_at) ON trail_looks TO vaaka_app;
GRANT UPDATE (body, sha256, finished_at) ON reports TO vaaka_app;

-- A certified value may depend on something else than the temperature: on a wavelength, a frequency, a level.
ALTER TABLE certified_values ADD COLUMN at_unit text
    CHECK (at_unit IS NULL OR (temperature IS NOT NULL AND at_unit <> '' AND at_unit <> '°C'));
