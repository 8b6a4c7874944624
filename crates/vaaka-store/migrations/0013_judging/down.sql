DROP INDEX checks_plan_version_id;
CREATE INDEX checks_plan_version_id ON checks (plan_version_id);
ALTER TABLE checks
    DROP CONSTRAINT checks_purpose_check,
    ADD CONSTRAINT checks_purpose_check CHECK (purpose IN ('as_found', 'as_left'));
DROP TABLE budgets;
ALTER TABLE certified_values DROP COLUMN class_limit;
ALTER TABLE plan_versions
    DROP COLUMN decision_share, DROP COLUMN decision_risk, DROP COLUMN coverage,
    DROP COLUMN addition_sources, DROP COLUMN addition_labels,
    DROP COLUMN addition_half_widths, DROP COLUMN addition_per_year,
    DROP CONSTRAINT plan_versions_decision_rule_check,
    ADD CONSTRAINT plan_versions_decision_rule_check
        CHECK (decision_rule IN ('simple_acceptance', 'guard_band_u', 'proven95'));
