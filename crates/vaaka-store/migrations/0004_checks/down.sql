DROP TABLE characteristics, results, reading_voids, readings, checks;
