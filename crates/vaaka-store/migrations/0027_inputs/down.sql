ALTER TABLE characteristics
    DROP CONSTRAINT characteristics_kind_check,
    ADD CONSTRAINT characteristics_kind_check CHECK (kind IN ('error', 'repeatability', 'hysteresis', 'return_to_zero'));

ALTER TABLE readings
    DROP CONSTRAINT readings_count_is_whole,
    DROP CONSTRAINT readings_kind_check,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'setting', 'condition',
        'wait_started', 'wait_over', 'reading'));
