ALTER TABLE study ADD COLUMN review jsonb;
CREATE TABLE layer (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    role text NOT NULL,
    name text NOT NULL,
    provenance jsonb NOT NULL,
    features integer NOT NULL,
    version integer NOT NULL,
    data bytea NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE layer ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE INDEX ON layer (study_id);
CREATE TABLE barrier (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    x double precision NOT NULL,
    y double precision NOT NULL,
    facts jsonb NOT NULL,
    score double precision NOT NULL,
    found boolean NOT NULL,
    decision text,
    line jsonb
);
CREATE INDEX ON barrier (study_id);
