DROP TABLE plan_points, plan_versions, plans;
