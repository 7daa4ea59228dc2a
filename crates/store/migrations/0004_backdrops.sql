CREATE TABLE backdrop (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    width integer NOT NULL,
    height integer NOT NULL,
    place jsonb,
    provenance jsonb NOT NULL,
    version integer NOT NULL,
    picture bytea NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE backdrop ALTER COLUMN picture SET STORAGE EXTERNAL;
CREATE INDEX ON backdrop (study_id);
