-- Counts the changes of a study, so that what was read of it can be kept in memory and known to be current.
ALTER TABLE study ADD COLUMN revision bigint NOT NULL DEFAULT 0;
CREATE FUNCTION study_revised() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.revision := OLD.revision + 1;
    RETURN NEW;
END $$;
CREATE TRIGGER study_revised BEFORE UPDATE ON study FOR EACH ROW EXECUTE FUNCTION study_revised();

-- What is replaced stays for a while, for those who are reading it.
ALTER TABLE raster ADD COLUMN superseded_at timestamptz;
DO $$
DECLARE
    old text;
BEGIN
    FOR old IN SELECT conname FROM pg_constraint WHERE conrelid = 'raster'::regclass AND contype = 'u' LOOP
        EXECUTE format('ALTER TABLE raster DROP CONSTRAINT %I', old);
    END LOOP;
END $$;
CREATE UNIQUE INDEX raster_of_study ON raster (study_id, role, parked) NULLS NOT DISTINCT WHERE superseded_at IS NULL;
CREATE INDEX raster_superseded ON raster (superseded_at) WHERE superseded_at IS NOT NULL;
ALTER TABLE file ADD COLUMN superseded_at timestamptz, ADD COLUMN read_until timestamptz;
CREATE INDEX file_superseded ON file (superseded_at) WHERE superseded_at IS NOT NULL;

-- A job that is begun a second time is worked on apart from the server.
ALTER TABLE job ADD COLUMN apart boolean NOT NULL DEFAULT false;
