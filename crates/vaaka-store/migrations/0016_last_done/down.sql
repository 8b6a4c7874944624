DROP TRIGGER checks_note_changed ON checks;
DROP TRIGGER checks_note_made ON checks;
DROP FUNCTION note_last_done();
ALTER TABLE plans DROP COLUMN last_done_on;
