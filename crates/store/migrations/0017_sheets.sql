-- Map sheets, and pictures of the analyst's that stand on them, by their SHA-256.
CREATE TABLE sheet (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL CHECK (name <> ''),
    sheet jsonb NOT NULL,
    version integer NOT NULL DEFAULT 1,
    updated_at timestamptz NOT NULL,
    deleted_at timestamptz
);
CREATE INDEX ON sheet (study_id);
CREATE TABLE sheet_picture (
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    sha256 text NOT NULL CHECK (sha256 ~ '^[0-9a-f]{64}$'),
    png bytea NOT NULL,
    PRIMARY KEY (study_id, sha256)
);
ALTER TABLE sheet_picture ALTER COLUMN png SET STORAGE EXTERNAL;
-- Atlases: a sheet once for each catchment.
ALTER TABLE file DROP CONSTRAINT file_role_check;
ALTER TABLE file ADD CONSTRAINT file_role_check
    CHECK (role IN ('dem', 'dem_part', 'prj', 'weights', 'values', 'layer_part', 'package', 'earlier_package', 'atlas'));
ALTER TABLE job DROP CONSTRAINT job_kind_check;
ALTER TABLE job ADD CONSTRAINT job_kind_check CHECK
    (kind IN ('fetch', 'import', 'prepare', 'layer', 'review', 'route', 'package', 'realise', 'atlas'));
