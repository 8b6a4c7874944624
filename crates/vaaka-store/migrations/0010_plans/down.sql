DROP TRIGGER plan_points_kept ON plan_points;
DROP TRIGGER plan_versions_kept ON plan_versions;
DROP FUNCTION refuse_change_of_approved_points;
DROP FUNCTION refuse_change_of_approved_plan;
DROP INDEX plan_versions_one_draft;
ALTER TABLE plan_points DROP COLUMN standard_id;
REVOKE DELETE ON plan_points FROM vaaka_app;
ALTER TABLE plan_versions
    DROP CONSTRAINT plan_versions_approved,
    DROP CONSTRAINT plan_versions_one_standard,
    DROP CONSTRAINT plan_versions_state_check,
    ADD CONSTRAINT plan_versions_state_check CHECK (state IN ('draft', 'approved', 'superseded')),
    ADD CONSTRAINT plan_versions_check CHECK ((state = 'draft') = (approved_by IS NULL)),
    DROP CONSTRAINT plan_versions_due_rule_check,
    ADD CONSTRAINT plan_versions_due_rule_check CHECK (due_rule IN ('each_shift')),
    ALTER COLUMN standard_id SET NOT NULL,
    DROP COLUMN standard_kind, DROP COLUMN unit, DROP COLUMN resolution, DROP COLUMN range_low,
    DROP COLUMN maximum, DROP COLUMN configuration_names, DROP COLUMN configuration_values,
    DROP COLUMN fixture, DROP COLUMN decision_rule, DROP COLUMN adjustment_policy,
    DROP COLUMN reaction, DROP COLUMN change_note, DROP COLUMN saves;
