DELETE FROM mails WHERE notice_id IN (SELECT id FROM notices WHERE kind = 'limits_to_countersign');
DELETE FROM notices WHERE kind = 'limits_to_countersign';
ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed'));

ALTER TABLE adjustments DROP CONSTRAINT adjustments_proposed,
    DROP COLUMN proposed_kind, DROP COLUMN proposed_offset, DROP COLUMN proposed_gain;
ALTER TABLE baselines DROP CONSTRAINT baselines_countersigned,
    DROP COLUMN countersigned_by, DROP COLUMN countersigned_reason;
DROP TABLE limit_proposals;
DROP TABLE attempts;
DROP TRIGGER plan_versions_kept ON plan_versions;
ALTER TABLE plan_versions DROP CONSTRAINT plan_versions_additions,
    DROP CONSTRAINT plan_versions_addition_grows;
ALTER TABLE plan_versions ADD COLUMN addition_per_year boolean[] NOT NULL DEFAULT '{}';
UPDATE plan_versions SET addition_per_year = ARRAY(
    SELECT grows IN ('years', 'years_load')
    FROM unnest(addition_grows) WITH ORDINALITY AS each (grows, place) ORDER BY place);
ALTER TABLE plan_versions DROP COLUMN addition_grows;
ALTER TABLE plan_versions ADD CONSTRAINT plan_versions_additions CHECK (
        cardinality(addition_sources) = cardinality(addition_labels)
        AND cardinality(addition_sources) = cardinality(addition_half_widths)
        AND cardinality(addition_sources) = cardinality(addition_per_year));
CREATE TRIGGER plan_versions_kept BEFORE UPDATE ON plan_versions
    FOR EACH ROW EXECUTE FUNCTION refuse_change_of_approved_plan();
ALTER TABLE budgets DROP CONSTRAINT budgets_counted, DROP COLUMN counted, DROP COLUMN single_guard_band;
