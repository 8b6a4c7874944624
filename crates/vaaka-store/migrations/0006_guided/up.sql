-- Settings, conditions and waits are entries like any other; a wait carries the times that the
-- server set when it began, so that no page and no process has to remember it.
ALTER TABLE readings
    ADD COLUMN ready_at timestamptz,
    ADD COLUMN latest_at timestamptz,
    DROP CONSTRAINT readings_kind_check,
    DROP CONSTRAINT readings_check,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'setting', 'condition',
        'wait_started', 'wait_over', 'reading')),
    ADD CONSTRAINT readings_value_of_kind
        CHECK ((kind IN ('reading', 'condition')) = (indication IS NOT NULL)),
    ADD CONSTRAINT readings_times_of_wait CHECK ((kind = 'wait_started') = (ready_at IS NOT NULL)),
    ADD CONSTRAINT readings_latest_after_ready CHECK (latest_at > ready_at),
    ADD CONSTRAINT readings_latest_of_wait CHECK (latest_at IS NULL OR ready_at IS NOT NULL);
CREATE INDEX readings_waits ON readings (check_id) WHERE kind = 'wait_started';

-- Limits of every single reading, where they differ from those of the mean.
ALTER TABLE characteristics
    ADD COLUMN lower_single_limit numeric,
    ADD COLUMN upper_single_limit numeric;
