DROP TABLE look_backs, crossovers, certificate_acceptances, standard_uses, standard_states;
ALTER TABLE certified_values
    DROP CONSTRAINT certified_values_one,
    DROP COLUMN temperature, DROP COLUMN non_uniformity,
    ADD CONSTRAINT certified_values_certificate_id_piece_key UNIQUE (certificate_id, piece);
ALTER TABLE certificates
    DROP CONSTRAINT certificates_replaces, DROP COLUMN change, DROP COLUMN replaces_id;
DROP INDEX standard_lots_one_in_use;
ALTER TABLE standard_lots
    DROP COLUMN expires_on, DROP COLUMN opened_at, DROP COLUMN open_hours, DROP COLUMN use_kind,
    DROP COLUMN use_limit, DROP COLUMN face_width, DROP COLUMN face_height,
    DROP COLUMN face_spacing, DROP COLUMN face_edge,
    DROP CONSTRAINT standard_lots_ended;
DELETE FROM standard_lots WHERE in_use_from IS NULL;
ALTER TABLE standard_lots ALTER COLUMN in_use_from SET NOT NULL;
CREATE UNIQUE INDEX standard_lots_one_in_use ON standard_lots (standard_id)
    WHERE in_use_until IS NULL;
ALTER TABLE standards
    DROP COLUMN location, DROP COLUMN state, DROP COLUMN state_reason, DROP COLUMN version;
