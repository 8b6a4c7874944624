ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed', 'limits_to_countersign', 'paper_to_countersign',
        'certificate_to_countersign', 'plan_to_approve', 'plan_sent_back', 'job_failed')) NOT VALID;
