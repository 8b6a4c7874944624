DROP FUNCTION may_fail_from(jsonb);
DROP INDEX chart_points_signalled;
DROP TABLE culprit_findings;
ALTER TABLE chart_points DROP COLUMN temperature;
