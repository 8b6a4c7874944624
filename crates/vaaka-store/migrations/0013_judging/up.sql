-- How a plan decides, with its numbers, and what it adds to the uncertainty budget.
ALTER TABLE plan_versions
    DROP CONSTRAINT plan_versions_decision_rule_check,
    ADD CONSTRAINT plan_versions_decision_rule_check CHECK (decision_rule IN
        ('simple_acceptance', 'guard_band_u', 'guard_band_share', 'proven95', 'global_risk')),
    ADD COLUMN decision_share numeric NOT NULL DEFAULT 1
        CHECK (decision_share > 0 AND decision_share <= 3),
    ADD COLUMN decision_risk numeric NOT NULL DEFAULT 0.02
        CHECK (decision_risk > 0 AND decision_risk < 0.5),
    ADD COLUMN coverage text NOT NULL DEFAULT 'p9545'
        CHECK (coverage IN ('p9545', 'p99', 'p9973')),
    ADD COLUMN addition_sources text[] NOT NULL DEFAULT '{}',
    ADD COLUMN addition_labels text[] NOT NULL DEFAULT '{}',
    ADD COLUMN addition_half_widths numeric[] NOT NULL DEFAULT '{}',
    ADD COLUMN addition_per_year boolean[] NOT NULL DEFAULT '{}',
    ADD CONSTRAINT plan_versions_additions CHECK (
        cardinality(addition_sources) = cardinality(addition_labels)
        AND cardinality(addition_sources) = cardinality(addition_half_widths)
        AND cardinality(addition_sources) = cardinality(addition_per_year));

-- Nothing but the class of a piece is known: its "uncertainty" is the limit of that class.
ALTER TABLE certified_values ADD COLUMN class_limit boolean NOT NULL DEFAULT false;

-- The budget of a characteristic, line by line, and what the decision rule made of it. Infinite
-- degrees of freedom: taken as known.
CREATE TABLE budgets (
    result_id bigint NOT NULL,
    key text NOT NULL,
    sources text[] NOT NULL,
    labels text[] NOT NULL,
    standard_uncertainties double precision[] NOT NULL,
    degrees_of_freedom double precision[] NOT NULL,
    coverage text NOT NULL CHECK (coverage IN ('p9545', 'p99', 'p9973')),
    statement text
        CHECK (statement IN ('pass', 'conditional_pass', 'conditional_fail', 'fail')),
    guard_band double precision NOT NULL CHECK (guard_band >= 0),
    guard_basis jsonb NOT NULL,
    lower_acceptance_limit numeric,
    upper_acceptance_limit numeric,
    conformance_probability double precision
        CHECK (conformance_probability BETWEEN 0 AND 1),
    PRIMARY KEY (result_id, key),
    FOREIGN KEY (result_id, key) REFERENCES characteristics (result_id, key),
    CHECK (cardinality(sources) = cardinality(labels)
        AND cardinality(sources) = cardinality(standard_uncertainties)
        AND cardinality(sources) = cardinality(degrees_of_freedom))
);
CREATE TRIGGER budgets_kept BEFORE UPDATE OR DELETE ON budgets
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
GRANT SELECT, INSERT ON budgets TO vaaka_app;

-- A trial on the reaction ladder is evaluated and kept, and counts for nothing.
ALTER TABLE checks
    DROP CONSTRAINT checks_purpose_check,
    ADD CONSTRAINT checks_purpose_check CHECK (purpose IN ('as_found', 'as_left', 'trial'));

-- The newest check of a plan version is found without sorting the others.
DROP INDEX checks_plan_version_id;
CREATE INDEX checks_plan_version_id ON checks (plan_version_id, opened_at);
