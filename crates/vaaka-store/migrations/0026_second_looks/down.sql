DELETE FROM mails WHERE notice_id IN (SELECT id FROM notices WHERE kind IN ('certificate_to_countersign', 'plan_to_approve', 'plan_sent_back'));
DELETE FROM notices WHERE kind IN ('certificate_to_countersign', 'plan_to_approve', 'plan_sent_back');
ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed', 'limits_to_countersign', 'paper_to_countersign'));
DROP TRIGGER plan_versions_second ON plan_versions;
DROP FUNCTION refuse_own_approval();
-- What one lead approved alone stays; nothing more of it comes.
ALTER TABLE plan_versions
    ADD CONSTRAINT plan_versions_check2 CHECK (approved_by <> created_by) NOT VALID;
DELETE FROM evidence_tables WHERE relation IN ('certificate_reviews', 'plan_rejections');
DROP TABLE plan_rejections;
DROP TABLE certificate_reviews;
