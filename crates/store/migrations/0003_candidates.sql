CREATE TABLE candidate (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    name text NOT NULL,
    source jsonb,
    terrain jsonb,
    review jsonb,
    routing jsonb,
    network jsonb
);
CREATE INDEX ON candidate (study_id);
ALTER TABLE raster ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE file ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE barrier ADD COLUMN parked bigint REFERENCES candidate ON DELETE CASCADE;
ALTER TABLE raster DROP CONSTRAINT raster_study_id_role_key;
ALTER TABLE raster ADD UNIQUE NULLS NOT DISTINCT (study_id, role, parked);
