-- Long work that leaves the request: asked for in the transaction of what asks for it, done in parts by whichever process
-- comes to it. What it does is on record by itself; this says how far it has come.
CREATE TABLE jobs (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work jsonb NOT NULL CHECK (work ? 'kind'),
    path text NOT NULL CHECK (path LIKE '/%'),
    asked_by bigint NOT NULL REFERENCES people,
    asked_at timestamptz NOT NULL,
    state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'running', 'done', 'failed')),
    done integer NOT NULL DEFAULT 0 CHECK (done >= 0),
    total integer NOT NULL CHECK (total >= 0),
    -- The piece that was done last, and since when it waits for its turn.
    place bigint NOT NULL DEFAULT 0,
    turn_at timestamptz NOT NULL DEFAULT now(),
    attempts integer NOT NULL DEFAULT 0 CHECK (attempts >= 0),
    trouble text,
    leased_until timestamptz,
    finished_at timestamptz,
    CHECK ((state = 'running') = (leased_until IS NOT NULL)),
    CHECK ((state = 'done') = (finished_at IS NOT NULL))
);
CREATE INDEX jobs_path ON jobs (path, id);
CREATE INDEX jobs_open ON jobs (turn_at, id) WHERE state IN ('waiting', 'running');
CREATE INDEX jobs_asked_by ON jobs (asked_by);
GRANT SELECT, INSERT ON jobs TO vaaka_app;
GRANT UPDATE (state, place, turn_at, done, total, attempts, trouble, leased_until, finished_at) ON jobs TO vaaka_app;

-- What does not go on by itself is told to the leads.
ALTER TABLE notices
    DROP CONSTRAINT notices_kind_check,
    ADD CONSTRAINT notices_kind_check CHECK (kind IN ('failed', 'confirmed', 'doubtful',
        'as_left_failed', 'adjusted', 'hold', 'missed', 'limits_to_countersign', 'paper_to_countersign',
        'certificate_to_countersign', 'plan_to_approve', 'plan_sent_back', 'job_failed'));
