-- A step may ask for a choice, a line of text or a count. What a family's results are called is its own matter: the
-- database holds the form of the word and no list of families.
ALTER TABLE readings
    DROP CONSTRAINT readings_kind_check,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'setting', 'choice', 'text', 'count',
        'condition', 'wait_started', 'wait_over', 'reading')),
    ADD CONSTRAINT readings_count_is_whole CHECK (kind <> 'count' OR typed ~ '^[0-9]{1,6}$');

ALTER TABLE characteristics
    DROP CONSTRAINT characteristics_kind_check,
    ADD CONSTRAINT characteristics_kind_check CHECK (kind ~ '^[a-z][a-z0-9_]*$');
