DROP TABLE signals, chart_points, baselines, segments, chart_streams;
