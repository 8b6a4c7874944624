ALTER TABLE characteristics DROP COLUMN lower_single_limit, DROP COLUMN upper_single_limit;
DROP INDEX readings_waits;
ALTER TABLE readings
    DROP CONSTRAINT readings_latest_of_wait,
    DROP CONSTRAINT readings_latest_after_ready,
    DROP CONSTRAINT readings_times_of_wait,
    DROP CONSTRAINT readings_value_of_kind,
    DROP CONSTRAINT readings_kind_check,
    DROP COLUMN ready_at,
    DROP COLUMN latest_at,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'reading')),
    ADD CONSTRAINT readings_check CHECK ((kind = 'reading') = (indication IS NOT NULL));
