-- A closed signal whose chart goes on signalling comes back by itself: a step that no person took.
ALTER TABLE signal_steps DROP CONSTRAINT signal_steps_step_check,
    ADD CONSTRAINT signal_steps_step_check CHECK (step IN
        ('acknowledged', 'cause_assigned', 'acted', 'closed', 'reopened', 'came_back')),
    ALTER COLUMN person_id DROP NOT NULL,
    ADD CONSTRAINT signal_steps_person_check CHECK ((step = 'came_back') = (person_id IS NULL));
