-- The temperature that was read at the check of a point, in °C: what a degree does is known from the baseline and taken into
-- account when a change is looked for. Of a check with several, the first that was asked for.
ALTER TABLE chart_points ADD COLUMN temperature double precision;
ALTER TABLE chart_points DISABLE TRIGGER USER;
UPDATE chart_points p SET temperature = read.value FROM (
    SELECT DISTINCT ON (r.check_id) r.check_id, r.indication::float8 AS value FROM readings r
    WHERE r.kind = 'condition' AND r.unit = '°C'
        AND NOT EXISTS (SELECT FROM readings n WHERE n.replaces_id = r.id)
        AND NOT EXISTS (SELECT FROM reading_voids v WHERE v.reading_id = r.id)
    ORDER BY r.check_id, r.step_key) read
WHERE read.check_id = p.check_id;
ALTER TABLE chart_points ENABLE TRIGGER USER;

-- What was said of whose fault a change is, when a signal came: kept as it was said, whatever is found later.
CREATE TABLE culprit_findings (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    check_id bigint NOT NULL REFERENCES checks,
    finding text NOT NULL CHECK (finding IN ('nothing', 'named', 'cannot_tell')),
    none double precision NOT NULL CHECK (none BETWEEN 0 AND 1),
    reads integer NOT NULL CHECK (reads > 0),
    -- Explanations with their probabilities, as they were told.
    explanations jsonb NOT NULL CHECK (jsonb_typeof(explanations) = 'array'),
    -- The check that would tell: instrument and standard, by how many sigmas the explanations differ there, how many it takes.
    instrument_id bigint REFERENCES instruments,
    standard_id bigint REFERENCES standards,
    differs_by double precision,
    checks integer CHECK (checks > 0),
    CHECK (num_nulls(instrument_id, standard_id, differs_by, checks) IN (0, 4))
);
CREATE INDEX culprit_findings_check_id ON culprit_findings (check_id);
CREATE INDEX culprit_findings_instrument_id ON culprit_findings (instrument_id);
CREATE INDEX culprit_findings_standard_id ON culprit_findings (standard_id);
CREATE TRIGGER culprit_findings_stand BEFORE UPDATE OR DELETE ON culprit_findings
    FOR EACH ROW EXECUTE FUNCTION refuse_change();
GRANT SELECT, INSERT ON culprit_findings TO vaaka_app;

-- The checks whose verdicts told a drift, for what came of it.
CREATE INDEX chart_points_signalled ON chart_points (measured_at) WHERE signalled;

-- From when on a drift that a verdict tells may take what it checks outside: the soonest of its charts, the moment of the
-- telling where a level is beyond its limit already; none where no drift is told.
CREATE FUNCTION may_fail_from(verdict jsonb) RETURNS timestamptz LANGUAGE sql STABLE PARALLEL SAFE AS $$
    SELECT min(CASE
        WHEN reason->'drift'->>'beyond' IS NOT NULL THEN (reason->'drift'->>'since')::timestamptz
        ELSE least((reason->'drift'->'first_check'->>'earliest')::timestamptz,
            (reason->'drift'->'crossing'->>'earliest')::timestamptz) END)
    FROM jsonb_array_elements(verdict->'reasons') AS reason WHERE reason->>'kind' = 'drifting'
$$;
GRANT EXECUTE ON FUNCTION may_fail_from(jsonb) TO vaaka_app;
