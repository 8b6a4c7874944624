ALTER TABLE segments DROP COLUMN design_group;
DROP TRIGGER chart_blocks_changed ON chart_points;
DROP TRIGGER chart_blocks_added ON chart_points;
DROP FUNCTION keep_chart_blocks();
DROP FUNCTION refresh_chart_blocks(bigint[], bigint[]);
DROP TABLE chart_blocks;
ALTER TABLE chart_points
    DROP CONSTRAINT chart_points_segment_id_ordinal_key,
    ADD CONSTRAINT chart_points_segment_id_ordinal_key UNIQUE (segment_id, ordinal);
