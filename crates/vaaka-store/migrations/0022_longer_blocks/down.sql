-- Blocks of eight counted points.
TRUNCATE chart_blocks;
ALTER TABLE chart_blocks
    DROP CONSTRAINT chart_blocks_count_check,
    ADD CONSTRAINT chart_blocks_count_check CHECK (count BETWEEN 1 AND 8);

-- Works out blocks anew, given by pairs of segment and block. One without points is gone.
CREATE OR REPLACE FUNCTION refresh_chart_blocks(of_segments bigint[], of_blocks bigint[]) RETURNS void
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

CREATE OR REPLACE FUNCTION keep_chart_blocks() RETURNS trigger LANGUAGE plpgsql
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

SELECT refresh_chart_blocks(array_agg(segment_id), array_agg(block))
FROM (SELECT DISTINCT segment_id, ordinal / 8 AS block FROM chart_points
      WHERE ordinal IS NOT NULL) there;
