ALTER TABLE segments DROP COLUMN design_group;
ALTER TABLE segments ADD COLUMN design_group text GENERATED ALWAYS AS (md5(
    coalesce((design->'raising')::text, '') || '|' || coalesce((design->'basis')::text, '') || '|' ||
    coalesce((design->'ewma')::text, '') || '|' || coalesce((design->'cusum')::text, '') || '|' ||
    coalesce((design->'resolution_floor')::text, '') || '|' ||
    coalesce(round(((design->>'below')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '') || '|' ||
    coalesce(round(((design->>'above')::float8 / nullif((design->>'sigma')::float8, 0))::numeric, 3)::text, '')
)) STORED;

ALTER TABLE attempts
    DROP CONSTRAINT attempts_kind_check,
    ADD CONSTRAINT attempts_kind_check CHECK (kind IN ('far', 'setting', 'tag', 'condition')) NOT VALID;

DELETE FROM mails WHERE notice_id IN (SELECT id FROM notices WHERE kind = 'paper_to_countersign');
DELETE FROM notices WHERE kind = 'paper_to_countersign';
ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed', 'limits_to_countersign'));
ALTER TABLE sites DROP COLUMN one_lead;
DROP TABLE check_orders;
DROP TABLE paper_sheets;
ALTER TABLE files DROP CONSTRAINT files_one_owner;
ALTER TABLE files DROP COLUMN plan_version_id;
ALTER TABLE files ADD CONSTRAINT files_check
    CHECK (num_nonnulls(instrument_id, certificate_id, check_id) = 1) NOT VALID;
ALTER TABLE checks DROP COLUMN counts, DROP COLUMN beside, DROP COLUMN late_place;
ALTER TABLE baselines DROP COLUMN alone;
ALTER TABLE limit_proposals
    DROP CONSTRAINT limit_proposals_second,
    DROP COLUMN alone,
    ADD CONSTRAINT limit_proposals_check2
        CHECK (state NOT IN ('countersigned', 'rejected') OR decided_by <> proposed_by) NOT VALID;
ALTER TABLE readings DROP COLUMN seconded_by;
DROP TABLE sign_in_attempts;
