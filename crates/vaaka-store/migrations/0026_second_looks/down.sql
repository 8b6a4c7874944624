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
ALTER TABLE signal_steps DROP CONSTRAINT signal_steps_step_check,
    ADD CONSTRAINT signal_steps_step_check CHECK (step IN
        ('acknowledged', 'cause_assigned', 'acted', 'closed', 'reopened', 'came_back')) NOT VALID;
ALTER TABLE signals DROP COLUMN due_on, DROP COLUMN owner_id;
ALTER TABLE people DROP COLUMN must_change;
ALTER TABLE instruments DROP COLUMN calibrated_until, DROP COLUMN model, DROP COLUMN maker;
ALTER TABLE plan_versions
    DROP CONSTRAINT plan_versions_due_rule_check,
    ADD CONSTRAINT plan_versions_due_rule_check CHECK (due_rule IN
        ('each_shift', 'each_day', 'each_week', 'each_month', 'before_use')) NOT VALID;
DELETE FROM evidence_tables WHERE relation IN ('certificate_reviews', 'plan_rejections', 'missed_reasons');
DROP TABLE missed_reasons;
DROP TABLE plan_rejections;
DROP TABLE certificate_reviews;
