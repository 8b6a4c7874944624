-- A version freezes what the instrument's display was when it was written: an edit of the
-- register changes no check that is open, and no plan without a new version.
ALTER TABLE plan_versions
    ALTER COLUMN standard_id DROP NOT NULL,
    ADD COLUMN standard_kind text,
    ADD COLUMN unit text,
    ADD COLUMN resolution numeric CHECK (resolution > 0),
    ADD COLUMN range_low numeric,
    ADD COLUMN maximum numeric,
    ADD COLUMN configuration_names text[] NOT NULL DEFAULT '{}',
    ADD COLUMN configuration_values numeric[] NOT NULL DEFAULT '{}',
    ADD COLUMN fixture text NOT NULL DEFAULT '',
    ADD COLUMN decision_rule text NOT NULL DEFAULT 'simple_acceptance'
        CHECK (decision_rule IN ('simple_acceptance', 'guard_band_u', 'proven95')),
    ADD COLUMN adjustment_policy text NOT NULL DEFAULT 'only_when_out'
        CHECK (adjustment_policy IN ('only_when_out', 'at_guard_fraction', 'before_each_use')),
    ADD COLUMN reaction text[] NOT NULL DEFAULT '{clean,settings,repeat,other_standard,other_person,adjust,service}',
    ADD COLUMN change_note text NOT NULL DEFAULT '',
    ADD COLUMN saves integer NOT NULL DEFAULT 1;
UPDATE plan_versions v SET unit = i.unit, resolution = i.resolution, range_low = i.range_low,
    maximum = i.maximum
    FROM plans p JOIN instruments i ON i.id = p.instrument_id WHERE p.id = v.plan_id;
ALTER TABLE plan_versions
    ALTER COLUMN unit SET NOT NULL,
    ALTER COLUMN resolution SET NOT NULL,
    ALTER COLUMN range_low SET NOT NULL,
    ALTER COLUMN maximum SET NOT NULL,
    ADD CONSTRAINT plan_versions_one_standard CHECK (num_nonnulls(standard_id, standard_kind) = 1),
    ADD CONSTRAINT plan_versions_range CHECK (range_low < maximum),
    ADD CONSTRAINT plan_versions_configuration
        CHECK (cardinality(configuration_names) = cardinality(configuration_values)),
    DROP CONSTRAINT plan_versions_due_rule_check,
    ADD CONSTRAINT plan_versions_due_rule_check
        CHECK (due_rule IN ('each_shift', 'each_day', 'each_week', 'each_month')),
    DROP CONSTRAINT plan_versions_state_check,
    ADD CONSTRAINT plan_versions_state_check
        CHECK (state IN ('draft', 'approved', 'superseded', 'withdrawn')),
    DROP CONSTRAINT plan_versions_check,
    ADD CONSTRAINT plan_versions_approved
        CHECK ((state IN ('draft', 'withdrawn')) = (approved_by IS NULL));
CREATE UNIQUE INDEX plan_versions_one_draft ON plan_versions (plan_id) WHERE state = 'draft';

-- A point may have a standard of its own.
ALTER TABLE plan_points ADD COLUMN standard_id bigint REFERENCES standards;
CREATE INDEX plan_points_standard_id ON plan_points (standard_id);

-- What was approved is kept as it was approved; only a draft is written over.
CREATE FUNCTION refuse_change_of_approved_plan() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF OLD.state <> 'draft' AND to_jsonb(NEW) - 'state' <> to_jsonb(OLD) - 'state' THEN
        RAISE EXCEPTION 'a plan version is kept as it was approved'
            USING ERRCODE = 'integrity_constraint_violation';
    END IF;
    RETURN NEW;
END
$$;
CREATE TRIGGER plan_versions_kept BEFORE UPDATE ON plan_versions
    FOR EACH ROW EXECUTE FUNCTION refuse_change_of_approved_plan();

CREATE FUNCTION refuse_change_of_approved_points() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NOT EXISTS (SELECT FROM plan_versions WHERE id = OLD.plan_version_id AND state = 'draft') THEN
        RAISE EXCEPTION 'the points of a plan version are kept as they were approved'
            USING ERRCODE = 'integrity_constraint_violation';
    END IF;
    RETURN OLD;
END
$$;
CREATE TRIGGER plan_points_kept BEFORE UPDATE OR DELETE ON plan_points
    FOR EACH ROW EXECUTE FUNCTION refuse_change_of_approved_points();
GRANT DELETE ON plan_points TO vaaka_app;
