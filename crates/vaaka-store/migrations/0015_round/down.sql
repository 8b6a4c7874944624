DROP TABLE round_sign_offs, handovers, instrument_uses;
ALTER TABLE instrument_events
    DROP CONSTRAINT instrument_events_kind_check,
    ADD CONSTRAINT instrument_events_kind_check
        CHECK (kind IN ('adjusted', 'moved', 'repaired', 'note'));
ALTER TABLE plan_versions
    DROP COLUMN due_triggers,
    DROP CONSTRAINT plan_versions_due_rule_check,
    ADD CONSTRAINT plan_versions_due_rule_check
        CHECK (due_rule IN ('each_shift', 'each_day', 'each_week', 'each_month'));
REVOKE DELETE ON shift_instances, shift_starts FROM vaaka_app;
ALTER TABLE shift_instances DROP COLUMN works;
DROP TABLE holidays;
ALTER TABLE shift_starts DROP COLUMN days;
