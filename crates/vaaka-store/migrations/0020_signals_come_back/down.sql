ALTER TABLE signal_steps DISABLE TRIGGER signal_steps_kept;
DELETE FROM signal_steps WHERE step = 'came_back';
ALTER TABLE signal_steps ENABLE TRIGGER signal_steps_kept;
ALTER TABLE signal_steps DROP CONSTRAINT signal_steps_person_check,
    ALTER COLUMN person_id SET NOT NULL,
    DROP CONSTRAINT signal_steps_step_check,
    ADD CONSTRAINT signal_steps_step_check CHECK (step IN
        ('acknowledged', 'cause_assigned', 'acted', 'closed', 'reopened'));
