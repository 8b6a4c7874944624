ALTER TABLE chart_streams DROP COLUMN is_indication;
ALTER TABLE instrument_states DROP COLUMN set_up_id;
ALTER TABLE set_ups DROP CONSTRAINT set_ups_of_instrument, DROP COLUMN restricted_to, DROP COLUMN state;
