DROP TABLE trainings;
ALTER TABLE people DROP COLUMN version;
