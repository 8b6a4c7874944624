UPDATE signals SET state = 'closed' WHERE state = 'withdrawn';
ALTER TABLE signals
    DROP CONSTRAINT signals_state_check,
    ADD CONSTRAINT signals_state_check CHECK (state IN ('open', 'closed'));
ALTER TABLE chart_points DROP COLUMN withdrawn;
ALTER TABLE characteristics DROP COLUMN mean;
ALTER TABLE readings
    DROP CONSTRAINT readings_source_check,
    ADD CONSTRAINT readings_source_check CHECK (source IN ('keyed', 'device'));
DROP TABLE check_standards, check_hands;
DROP INDEX checks_open;
ALTER TABLE checks
    DROP CONSTRAINT checks_late, DROP CONSTRAINT checks_voided, DROP CONSTRAINT checks_voided_at,
    DROP COLUMN held_by, DROP COLUMN late_reason, DROP COLUMN measured_by,
    DROP COLUMN voided_by, DROP COLUMN voided_at;
