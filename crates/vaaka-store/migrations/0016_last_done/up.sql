-- The business date of the newest concluded as-found check of a plan. A round asks it of every plan
-- of the site; kept here it costs nothing, looked for among the checks it cost a probe a plan.
ALTER TABLE plans ADD COLUMN last_done_on date;

-- Runs as the owner: the application may not write plans. The plan's row is locked before the checks
-- are read, so that a check concluded at the same moment is either seen or comes after.
CREATE FUNCTION note_last_done() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
SET search_path = public, pg_temp AS $$
DECLARE
    this_plan bigint;
BEGIN
    SELECT plan_id INTO STRICT this_plan FROM plan_versions WHERE id = NEW.plan_version_id;
    IF NEW.state = 'concluded' THEN
        UPDATE plans SET last_done_on = s.business_date FROM shift_instances s
        WHERE plans.id = this_plan AND s.id = NEW.shift_instance_id
            AND (last_done_on IS NULL OR last_done_on < s.business_date);
    ELSE
        PERFORM FROM plans WHERE id = this_plan FOR NO KEY UPDATE;
        UPDATE plans SET last_done_on = (
            SELECT max(s.business_date) FROM plan_versions v
            JOIN checks c ON c.plan_version_id = v.id
            JOIN shift_instances s ON s.id = c.shift_instance_id
            WHERE v.plan_id = this_plan AND c.state = 'concluded' AND c.purpose = 'as_found')
        WHERE id = this_plan;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER checks_note_made AFTER INSERT ON checks FOR EACH ROW
    WHEN (NEW.state = 'concluded' AND NEW.purpose = 'as_found') EXECUTE FUNCTION note_last_done();
CREATE TRIGGER checks_note_changed AFTER UPDATE OF state ON checks FOR EACH ROW
    WHEN (NEW.purpose = 'as_found' AND OLD.state <> NEW.state
        AND 'concluded' IN (OLD.state, NEW.state)) EXECUTE FUNCTION note_last_done();

UPDATE plans SET last_done_on = done.day
FROM (SELECT v.plan_id, max(s.business_date) AS day FROM plan_versions v
      JOIN checks c ON c.plan_version_id = v.id JOIN shift_instances s ON s.id = c.shift_instance_id
      WHERE c.state = 'concluded' AND c.purpose = 'as_found' GROUP BY v.plan_id) done
WHERE plans.id = done.plan_id;
