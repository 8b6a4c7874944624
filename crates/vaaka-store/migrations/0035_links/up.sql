-- Instruments that are read over a line: where each is, what it is asked, how its line is read. One line an instrument.

-- A key may be that of a bench PC that reads instruments near it: a station, known by the key's name.
ALTER TABLE program_keys
    ADD COLUMN station boolean NOT NULL DEFAULT false,
    -- When it last asked whether there is something to read, to within some seconds.
    ADD COLUMN asked_at timestamptz;
GRANT UPDATE (asked_at) ON program_keys TO vaaka_app;

CREATE TABLE instrument_links (
    instrument_id bigint PRIMARY KEY REFERENCES instruments,
    -- None: the server reads it by itself.
    station_id bigint REFERENCES program_keys,
    address text NOT NULL CHECK (address <> ''),
    link jsonb NOT NULL,
    in_use boolean NOT NULL,
    version integer NOT NULL DEFAULT 1 CHECK (version >= 1),
    changed_by bigint NOT NULL REFERENCES people,
    changed_at timestamptz NOT NULL
);
CREATE INDEX instrument_links_station ON instrument_links (station_id);
CREATE INDEX instrument_links_changed_by ON instrument_links (changed_by);

-- Who is reading an instrument just now: one at a time. A row goes when it is read, and counts for nothing after its end.
CREATE TABLE link_turns (
    instrument_id bigint PRIMARY KEY REFERENCES instruments,
    turn uuid NOT NULL UNIQUE,
    person_id bigint NOT NULL REFERENCES people,
    -- None: the link is tried on its page.
    check_id bigint REFERENCES checks,
    began_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL CHECK (ends_at > began_at),
    -- What a station is to read, and what it answered: bytes, or words why there are none.
    station_id bigint REFERENCES program_keys,
    address text NOT NULL,
    link jsonb NOT NULL,
    taken_at timestamptz,
    answered_at timestamptz,
    answer bytea CHECK (length(answer) <= 4194304),
    trouble text,
    CHECK (num_nonnulls(answer, trouble) = num_nonnulls(answered_at))
);
CREATE INDEX link_turns_person ON link_turns (person_id);
CREATE INDEX link_turns_check ON link_turns (check_id);
CREATE INDEX link_turns_station ON link_turns (station_id);

-- What came of an instrument at a step of a check, as it came: whether it was kept is said by the entry with the same key.
CREATE TABLE captures (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    check_id bigint NOT NULL REFERENCES checks,
    step_key text NOT NULL,
    repeat integer NOT NULL CHECK (repeat >= 1),
    entry_key uuid NOT NULL,
    person_id bigint NOT NULL REFERENCES people,
    at timestamptz NOT NULL,
    address text NOT NULL,
    -- The bench PC that read it; empty where the server did.
    station text NOT NULL,
    -- What went into the field; empty for a file.
    typed text NOT NULL,
    bytes bytea NOT NULL CHECK (length(bytes) BETWEEN 1 AND 4194304),
    sha256 bytea NOT NULL CHECK (sha256 = sha256(bytes))
);
CREATE INDEX captures_check ON captures (check_id);
CREATE INDEX captures_person ON captures (person_id);
CREATE TRIGGER captures_kept BEFORE UPDATE OR DELETE ON captures FOR EACH ROW EXECUTE FUNCTION refuse_change();

INSERT INTO evidence_tables VALUES ('captures', '{id}');
DO $$
DECLARE
    one record;
    keys text;
BEGIN
    FOR one IN SELECT * FROM evidence_tables WHERE relation = 'captures' LOOP
        SELECT string_agg(quote_literal(k), ', ') INTO keys FROM unnest(one.key_columns) k;
        EXECUTE format('CREATE TRIGGER %I_evidence_in AFTER INSERT ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_changed AFTER UPDATE ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_gone AFTER DELETE ON %I REFERENCING OLD TABLE AS old_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
    END LOOP;
END $$;

GRANT SELECT, INSERT, UPDATE ON instrument_links TO vaaka_app;
GRANT SELECT, INSERT, UPDATE, DELETE ON link_turns TO vaaka_app;
GRANT SELECT, INSERT ON captures TO vaaka_app;
