DROP TABLE captures;
DELETE FROM evidence_tables WHERE relation = 'captures';
DROP TABLE link_turns;
DROP TABLE instrument_links;
ALTER TABLE program_keys DROP COLUMN station, DROP COLUMN asked_at;
