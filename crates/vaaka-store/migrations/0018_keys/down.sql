DROP TABLE program_keys;
