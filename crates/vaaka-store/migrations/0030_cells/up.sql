-- A cell (probe × scale × material) stands by itself: what fails on one says nothing of another, and what passes proves no other.
-- Away or gone is the whole instrument, whose own state stands over that of its cells.
ALTER TABLE set_ups
    ADD COLUMN state text NOT NULL DEFAULT 'in_service' CHECK (state IN ('in_service', 'restricted', 'on_hold')),
    ADD COLUMN restricted_to text,
    ADD CONSTRAINT set_ups_restricted_to CHECK ((state = 'restricted') = (restricted_to IS NOT NULL)),
    ADD CONSTRAINT set_ups_of_instrument UNIQUE (instrument_id, id);

-- Which cell a change of state is about; none where it is about the whole instrument. Never one of another instrument.
ALTER TABLE instrument_states
    ADD COLUMN set_up_id bigint,
    ADD CONSTRAINT instrument_states_set_up_id FOREIGN KEY (instrument_id, set_up_id)
        REFERENCES set_ups (instrument_id, id),
    ADD CONSTRAINT instrument_states_cell CHECK (set_up_id IS NULL OR state IN ('in_service', 'restricted', 'on_hold'));
CREATE INDEX instrument_states_set_up_id ON instrument_states (set_up_id) WHERE set_up_id IS NOT NULL;

-- What a chart shows of something that nothing certifies (the code of a sensor, the density of a heap): its values are told without
-- a sign. Empty for errors.
ALTER TABLE chart_streams ADD COLUMN is_indication boolean CHECK (is_indication);
