DROP TRIGGER chart_points_changed ON chart_points;
DROP TRIGGER chart_points_added ON chart_points;
DROP FUNCTION tell_charts();
ALTER TABLE sites DROP COLUMN signal_reminder_hours;
DROP TABLE signal_steps;
DROP INDEX signals_unclosed;
UPDATE signals SET state = 'open' WHERE state IN ('acknowledged', 'cause_assigned', 'acted');
ALTER TABLE signals DROP CONSTRAINT signals_state_check,
    ADD CONSTRAINT signals_state_check CHECK (state IN ('open', 'closed', 'withdrawn')),
    DROP COLUMN cause_id,
    DROP COLUMN touched_at;
DROP TABLE signal_causes;
DELETE FROM baselines WHERE sigma_source = 'given';
ALTER TABLE baselines DROP CONSTRAINT baselines_sigma_source_check,
    ADD CONSTRAINT baselines_sigma_source_check
        CHECK (sigma_source IN ('moving_range', 'sample_std_dev', 'resolution')),
    DROP COLUMN basis,
    DROP COLUMN excluded,
    DROP COLUMN review_due_at,
    DROP COLUMN shown;
DROP TABLE point_marks;
DROP INDEX chart_points_marked;
ALTER TABLE chart_points
    DROP COLUMN excluded,
    DROP COLUMN readings,
    DROP COLUMN std_dev,
    DROP COLUMN reading_range,
    DROP COLUMN lower_spread_limit,
    DROP COLUMN upper_spread_limit,
    DROP COLUMN standardised,
    DROP COLUMN cusum_above,
    DROP COLUMN cusum_below;
ALTER TABLE chart_streams DROP COLUMN derived, DROP COLUMN ended_at;
ALTER TABLE segments
    DROP COLUMN settled,
    DROP COLUMN settled_by,
    DROP COLUMN settled_at,
    DROP COLUMN settled_reason;
UPDATE segments SET design = (design - 'below' - 'above')
    || jsonb_build_object('half_width', design->'above')
    WHERE design ? 'above';
