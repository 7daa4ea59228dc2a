-- Runs of recipes: a batch holds what its runs read; each run is claimed by one worker, and keeps what it wrote.
CREATE TABLE batch (
    id bigserial PRIMARY KEY,
    name text NOT NULL CHECK (name <> ''),
    made_by text NOT NULL CHECK (made_by IN ('page', 'service')),
    keys jsonb NOT NULL,
    -- the program and version that made it, and that alone works on it
    program text NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE TABLE run (
    id bigserial PRIMARY KEY,
    batch_id bigint NOT NULL REFERENCES batch ON DELETE CASCADE,
    number integer NOT NULL,
    name text NOT NULL,
    own jsonb NOT NULL,
    recipe text NOT NULL,
    state text NOT NULL CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled', 'interrupted')),
    progress double precision NOT NULL DEFAULT 0,
    message text NOT NULL DEFAULT '',
    cancel_requested boolean NOT NULL DEFAULT false,
    worker text,
    attempts integer NOT NULL DEFAULT 0,
    heartbeat_at timestamptz,
    created_at timestamptz NOT NULL,
    started_at timestamptz,
    finished_at timestamptz,
    summary jsonb,
    UNIQUE (batch_id, number)
);
CREATE INDEX ON run (id) WHERE state IN ('queued', 'running');
-- What runs read (of the batch) and wrote (of a run).
CREATE TABLE batch_file (
    id bigserial PRIMARY KEY,
    batch_id bigint NOT NULL REFERENCES batch ON DELETE CASCADE,
    run_id bigint REFERENCES run ON DELETE CASCADE,
    name text NOT NULL,
    bytes bigint NOT NULL,
    UNIQUE NULLS NOT DISTINCT (batch_id, run_id, name)
);
CREATE INDEX ON batch_file (run_id);
CREATE TABLE batch_file_chunk (
    file_id bigint NOT NULL REFERENCES batch_file ON DELETE CASCADE,
    sequence integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (file_id, sequence)
);
-- Mostly compressed already.
ALTER TABLE batch_file_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
-- What scripts must know to be let in.
CREATE TABLE service (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    token text NOT NULL CHECK (token ~ '^[0-9a-f]{64}$')
);
-- A recipe that a study took up, with what it reads; and the job that follows it.
ALTER TABLE file DROP CONSTRAINT file_role_check;
ALTER TABLE file ADD CONSTRAINT file_role_check CHECK (role IN
    ('dem', 'dem_part', 'prj', 'weights', 'values', 'layer_part', 'package', 'earlier_package', 'atlas', 'recipe'));
ALTER TABLE job DROP CONSTRAINT job_kind_check;
ALTER TABLE job ADD CONSTRAINT job_kind_check CHECK
    (kind IN ('fetch', 'import', 'prepare', 'layer', 'review', 'route', 'package', 'realise', 'atlas', 'follow'));
