CREATE TABLE study (
    id bigserial PRIMARY KEY,
    name text NOT NULL,
    description text NOT NULL,
    created_at timestamptz NOT NULL,
    updated_at timestamptz NOT NULL,
    deleted_at timestamptz,
    source jsonb,
    terrain jsonb,
    routing jsonb,
    network jsonb,
    settings jsonb NOT NULL
);
CREATE TABLE file (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    name text NOT NULL,
    bytes bigint NOT NULL,
    sha256 text NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE INDEX ON file (study_id);
CREATE TABLE file_chunk (
    file_id bigint NOT NULL REFERENCES file ON DELETE CASCADE,
    sequence integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (file_id, sequence)
);
-- Both are compressed already, or not worth it.
ALTER TABLE file_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE raster (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    cell_type text NOT NULL,
    rows integer NOT NULL,
    cols integer NOT NULL,
    levels integer NOT NULL,
    "left" double precision NOT NULL,
    top double precision NOT NULL,
    cell_x double precision NOT NULL,
    cell_y double precision NOT NULL,
    UNIQUE (study_id, role)
);
CREATE TABLE raster_block (
    raster_id bigint NOT NULL REFERENCES raster ON DELETE CASCADE,
    level integer NOT NULL,
    row integer NOT NULL,
    col integer NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (raster_id, level, row, col)
);
ALTER TABLE raster_block ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE job (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    kind text NOT NULL,
    parameters jsonb NOT NULL,
    state text NOT NULL,
    progress double precision NOT NULL,
    message text NOT NULL,
    cancel_requested boolean NOT NULL,
    attempts integer NOT NULL,
    worker text,
    heartbeat_at timestamptz,
    created_at timestamptz NOT NULL,
    started_at timestamptz,
    finished_at timestamptz
);
CREATE INDEX ON job (study_id);
CREATE UNIQUE INDEX one_job_per_study ON job (study_id) WHERE state IN ('queued', 'running');
CREATE TABLE log_entry (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    at timestamptz NOT NULL,
    stage text NOT NULL,
    text text NOT NULL,
    settings jsonb NOT NULL,
    took_ms bigint NOT NULL
);
CREATE INDEX ON log_entry (study_id);
CREATE TABLE pour_point (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    x double precision NOT NULL,
    y double precision NOT NULL,
    catchment jsonb,
    outline jsonb,
    problem text,
    deleted_at timestamptz
);
CREATE INDEX ON pour_point (study_id);
CREATE TABLE undo_entry (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    label text NOT NULL,
    inverse jsonb NOT NULL
);
CREATE INDEX ON undo_entry (study_id);
