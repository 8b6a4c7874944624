-- Places move when a chart is replayed: what no two points may share is asked when all have moved, so that a
-- replay writes each point once.
ALTER TABLE chart_points
    DROP CONSTRAINT chart_points_segment_id_ordinal_key,
    ADD CONSTRAINT chart_points_segment_id_ordinal_key UNIQUE (segment_id, ordinal)
        DEFERRABLE INITIALLY IMMEDIATE;

-- What eight counted points in a row come to, kept beside them: ten years of a chart are drawn from these,
-- not from eleven thousand points. Triggers keep them, so that whoever writes points cannot forget.
CREATE TABLE chart_blocks (
    segment_id bigint NOT NULL REFERENCES segments,
    -- The ordinal divided by eight.
    block bigint NOT NULL CHECK (block >= 0),
    first_at timestamptz NOT NULL,
    last_at timestamptz NOT NULL,
    count bigint NOT NULL CHECK (count BETWEEN 1 AND 8),
    least double precision NOT NULL,
    most double precision NOT NULL,
    mean double precision NOT NULL,
    ewma double precision,
    std_dev double precision,
    -- These are of its last point.
    ewma_half_width double precision,
    center_line double precision,
    lower_control_limit double precision,
    upper_control_limit double precision,
    lower_tolerance_limit double precision,
    upper_tolerance_limit double precision,
    provisional boolean NOT NULL,
    PRIMARY KEY (segment_id, block)
);

-- Works out blocks anew, given by pairs of segment and block. One without points is gone.
CREATE FUNCTION refresh_chart_blocks(of_segments bigint[], of_blocks bigint[]) RETURNS void
LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp AS $$
    DELETE FROM chart_blocks b USING unnest(of_segments, of_blocks) AS asked (segment_id, block)
        WHERE b.segment_id = asked.segment_id AND b.block = asked.block;
    INSERT INTO chart_blocks
        SELECT made.segment_id, made.block, made.first_at, made.last_at, made.count, made.least,
            made.most, made.mean, made.ewma, made.std_dev, newest.ewma_half_width,
            newest.center_line, newest.lower_control_limit, newest.upper_control_limit,
            newest.lower_tolerance_limit, newest.upper_tolerance_limit, newest.provisional
        FROM (
            SELECT asked.segment_id, asked.block, min(p.measured_at) AS first_at,
                max(p.measured_at) AS last_at, count(*) AS count, min(p.value) AS least,
                max(p.value) AS most, avg(p.value) AS mean, avg(p.ewma) AS ewma,
                avg(p.std_dev) AS std_dev, max(p.ordinal) AS newest
            FROM unnest(of_segments, of_blocks) AS asked (segment_id, block)
            JOIN chart_points p ON p.segment_id = asked.segment_id
                AND p.ordinal >= asked.block * 8 AND p.ordinal < asked.block * 8 + 8
            WHERE NOT p.excluded
            GROUP BY asked.segment_id, asked.block
        ) made
        JOIN chart_points newest ON newest.segment_id = made.segment_id
            AND newest.ordinal = made.newest
        ORDER BY made.segment_id, made.block;
$$;

CREATE FUNCTION keep_chart_blocks() RETURNS trigger LANGUAGE plpgsql
SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE
    of_segments bigint[];
    of_blocks bigint[];
BEGIN
    IF TG_OP = 'INSERT' THEN
        SELECT array_agg(segment_id), array_agg(block) INTO of_segments, of_blocks
        FROM (SELECT DISTINCT segment_id, ordinal / 8 AS block FROM written
              WHERE ordinal IS NOT NULL) touched;
    ELSE
        SELECT array_agg(segment_id), array_agg(block) INTO of_segments, of_blocks
        FROM (SELECT segment_id, ordinal / 8 AS block FROM written WHERE ordinal IS NOT NULL
              UNION
              SELECT segment_id, ordinal / 8 FROM previous WHERE ordinal IS NOT NULL) touched;
    END IF;
    IF of_segments IS NOT NULL THEN
        PERFORM refresh_chart_blocks(of_segments, of_blocks);
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER chart_blocks_added AFTER INSERT ON chart_points
    REFERENCING NEW TABLE AS written FOR EACH STATEMENT EXECUTE FUNCTION keep_chart_blocks();
CREATE TRIGGER chart_blocks_changed AFTER UPDATE ON chart_points
    REFERENCING OLD TABLE AS previous NEW TABLE AS written
    FOR EACH STATEMENT EXECUTE FUNCTION keep_chart_blocks();

-- Those of all points that are there.
SELECT refresh_chart_blocks(array_agg(segment_id), array_agg(block))
FROM (SELECT DISTINCT segment_id, ordinal / 8 AS block FROM chart_points
      WHERE ordinal IS NOT NULL) there;

GRANT SELECT ON chart_blocks TO vaaka_app;
REVOKE EXECUTE ON FUNCTION refresh_chart_blocks(bigint[], bigint[]) FROM PUBLIC;

-- Designs that behave alike share a word, so that the round counts them without opening a thousand of them.
ALTER TABLE segments ADD COLUMN design_group text GENERATED ALWAYS AS (md5(
    coalesce((design->'raising')::text, '') || '|' || coalesce((design->'basis')::text, '') || '|' ||
    coalesce((design->'ewma')::text, '') || '|' || coalesce((design->'cusum')::text, '') || '|' ||
    coalesce((design->'resolution_floor')::text, '') || '|' ||
    coalesce(round(((design->>'below')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '') || '|' ||
    coalesce(round(((design->>'above')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '')
)) STORED;
