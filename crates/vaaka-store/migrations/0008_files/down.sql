DROP TABLE files;
ALTER TABLE instruments
    DROP COLUMN family, DROP COLUMN work_low, DROP COLUMN work_high, DROP COLUMN calibration_file,
    DROP COLUMN configuration_names, DROP COLUMN configuration_values;
DROP INDEX set_ups_cell;
ALTER TABLE set_ups DROP COLUMN probe, DROP COLUMN scale, DROP COLUMN material, DROP COLUMN in_use;
