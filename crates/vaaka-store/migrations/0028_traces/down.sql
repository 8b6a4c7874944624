DELETE FROM evidence_tables WHERE relation IN ('traces', 'trace_channels');
DROP TRIGGER readings_have_traces ON readings;
DROP FUNCTION reading_has_trace();
DROP TABLE trace_channels;
DROP TABLE traces;
DROP FUNCTION trace_is_there();
DROP FUNCTION are_numbers(double precision[]);

ALTER TABLE readings
    DROP CONSTRAINT readings_kind_check,
    ADD CONSTRAINT readings_kind_check CHECK (kind IN ('confirmed', 'tag', 'setting', 'choice', 'text', 'count',
        'condition', 'wait_started', 'wait_over', 'reading'));
