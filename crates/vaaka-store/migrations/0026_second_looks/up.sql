-- What one lead typed from a certificate serves when another has compared it with the paper. A certificate of before this has
-- no row here and stays in force.
CREATE TABLE certificate_reviews (
    certificate_id bigint PRIMARY KEY REFERENCES certificates,
    entered_by bigint NOT NULL REFERENCES people,
    entered_at timestamptz NOT NULL,
    -- The look-back that its values ask for, opened when it is countersigned.
    finding text,
    suspect_from timestamptz,
    state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'countersigned', 'rejected')),
    decided_by bigint REFERENCES people,
    decided_at timestamptz,
    decided_reason text,
    -- The site has one lead, and says so.
    alone boolean NOT NULL DEFAULT false,
    CHECK ((finding IS NULL) = (suspect_from IS NULL)),
    CHECK ((state = 'waiting') = (decided_at IS NULL)),
    CHECK ((decided_by IS NULL) = (decided_at IS NULL)),
    CHECK ((decided_reason IS NULL) = (decided_at IS NULL)),
    CONSTRAINT certificate_reviews_second
        CHECK (state <> 'countersigned' OR alone OR decided_by <> entered_by)
);
CREATE INDEX certificate_reviews_entered_by ON certificate_reviews (entered_by);
CREATE INDEX certificate_reviews_decided_by ON certificate_reviews (decided_by);
GRANT SELECT, INSERT ON certificate_reviews TO vaaka_app;
GRANT UPDATE (state, decided_by, decided_at, decided_reason, alone) ON certificate_reviews TO vaaka_app;

-- A draft that a lead sent back to its author, with words; saved again it may be decided anew.
CREATE TABLE plan_rejections (
    plan_version_id bigint NOT NULL REFERENCES plan_versions,
    saves integer NOT NULL,
    reason text NOT NULL CHECK (reason <> ''),
    person_id bigint NOT NULL REFERENCES people,
    at timestamptz NOT NULL,
    PRIMARY KEY (plan_version_id, saves)
);
CREATE INDEX plan_rejections_person_id ON plan_rejections (person_id);
CREATE TRIGGER plan_rejections_kept BEFORE UPDATE OR DELETE ON plan_rejections
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
GRANT SELECT, INSERT ON plan_rejections TO vaaka_app;

-- The one lead of a site approves what he wrote himself, and everything says "not countersigned".
ALTER TABLE plan_versions DROP CONSTRAINT plan_versions_check2;
CREATE FUNCTION refuse_own_approval() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.approved_by = NEW.created_by AND NOT EXISTS (SELECT FROM sites WHERE one_lead) THEN
        RAISE EXCEPTION 'another lead than its author approves a plan version'
            USING ERRCODE = 'check_violation', CONSTRAINT = 'plan_versions_second';
    END IF;
    RETURN NEW;
END
$$;
CREATE TRIGGER plan_versions_second BEFORE INSERT OR UPDATE OF approved_by ON plan_versions
    FOR EACH ROW WHEN (NEW.approved_by IS NOT NULL) EXECUTE FUNCTION refuse_own_approval();

ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed', 'limits_to_countersign', 'paper_to_countersign',
        'certificate_to_countersign', 'plan_to_approve', 'plan_sent_back'));

-- What is checked less often than each month.
ALTER TABLE plan_versions
    DROP CONSTRAINT plan_versions_due_rule_check,
    ADD CONSTRAINT plan_versions_due_rule_check CHECK (due_rule IN
        ('each_shift', 'each_day', 'each_week', 'each_month', 'each_quarter', 'each_year', 'before_use'));

-- Who made an instrument, as what, and until when its own calibration holds.
ALTER TABLE instruments
    ADD COLUMN maker text NOT NULL DEFAULT '',
    ADD COLUMN model text NOT NULL DEFAULT '',
    ADD COLUMN calibrated_until date;

-- A password that an administrator set is good for one sign-in: then the person sets an own one.
ALTER TABLE people ADD COLUMN must_change boolean NOT NULL DEFAULT false;

-- Why a check was missed: it stays missed, and it is known why.
CREATE TABLE missed_reasons (
    plan_id bigint NOT NULL REFERENCES plans,
    window_from timestamptz NOT NULL,
    reason text NOT NULL CHECK (reason <> ''),
    person_id bigint NOT NULL REFERENCES people,
    at timestamptz NOT NULL,
    PRIMARY KEY (plan_id, window_from)
);
CREATE INDEX missed_reasons_person_id ON missed_reasons (person_id);
CREATE TRIGGER missed_reasons_kept BEFORE UPDATE OR DELETE ON missed_reasons
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
GRANT SELECT, INSERT ON missed_reasons TO vaaka_app;

-- Whose a signal is, and until when.
ALTER TABLE signals
    ADD COLUMN owner_id bigint REFERENCES people,
    ADD COLUMN due_on date;
CREATE INDEX signals_owner_id ON signals (owner_id);
ALTER TABLE signal_steps DROP CONSTRAINT signal_steps_step_check,
    ADD CONSTRAINT signal_steps_step_check CHECK (step IN
        ('acknowledged', 'cause_assigned', 'acted', 'closed', 'reopened', 'came_back', 'assigned'));

INSERT INTO evidence_tables VALUES
    ('certificate_reviews', '{certificate_id}'), ('plan_rejections', '{plan_version_id,saves}'),
    ('missed_reasons', '{plan_id,window_from}');
DO $$
DECLARE
    one record;
    keys text;
BEGIN
    FOR one IN SELECT * FROM evidence_tables 
        WHERE relation IN ('certificate_reviews', 'plan_rejections', 'missed_reasons') LOOP
        SELECT string_agg(quote_literal(k), ', ') INTO keys FROM unnest(one.key_columns) k;
        EXECUTE format('CREATE TRIGGER %I_evidence_in AFTER INSERT ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_changed AFTER UPDATE ON %I REFERENCING NEW TABLE AS new_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
        EXECUTE format('CREATE TRIGGER %I_evidence_gone AFTER DELETE ON %I REFERENCING OLD TABLE AS old_rows
            FOR EACH STATEMENT EXECUTE FUNCTION note_evidence(%s)', one.relation, one.relation, keys);
    END LOOP;
END $$;
