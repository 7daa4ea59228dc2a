CREATE TABLE trial (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    facts jsonb NOT NULL,
    remark text NOT NULL,
    justification text,
    lines bytea NOT NULL,
    created_at timestamptz NOT NULL,
    deleted_at timestamptz
);
ALTER TABLE trial ALTER COLUMN lines SET STORAGE EXTERNAL;
CREATE INDEX ON trial (study_id);
