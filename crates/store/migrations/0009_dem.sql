-- The DEMs of a study, the one at work and those set aside, are rows of one table; rasters, files and barriers belong to one.
CREATE TABLE dem (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    -- what it is called while it is set aside
    name text NOT NULL,
    at_work boolean NOT NULL,
    source jsonb,
    terrain jsonb,
    review jsonb,
    routing jsonb,
    network jsonb
);
INSERT INTO dem (id, study_id, name, at_work, source, terrain, review, routing, network)
    SELECT id, study_id, name, false, source, terrain, review, routing, network FROM candidate;
SELECT setval('dem_id_seq', greatest((SELECT max(id) FROM dem), 1), EXISTS (SELECT 1 FROM dem));
INSERT INTO dem (study_id, name, at_work, source, terrain, review, routing, network)
    SELECT id, '', true, source, terrain, review, routing, network FROM study ORDER BY id;
CREATE UNIQUE INDEX dem_at_work ON dem (study_id) WHERE at_work;
CREATE INDEX ON dem (study_id);

ALTER TABLE raster ADD COLUMN dem_id bigint REFERENCES dem ON DELETE CASCADE;
UPDATE raster r SET dem_id = coalesce(r.parked, (SELECT d.id FROM dem d WHERE d.study_id = r.study_id AND d.at_work));
ALTER TABLE raster ALTER COLUMN dem_id SET NOT NULL, DROP COLUMN parked;
CREATE UNIQUE INDEX raster_of_dem ON raster (dem_id, role) WHERE superseded_at IS NULL;

ALTER TABLE barrier ADD COLUMN dem_id bigint REFERENCES dem ON DELETE CASCADE;
UPDATE barrier b SET dem_id = coalesce(b.parked, (SELECT d.id FROM dem d WHERE d.study_id = b.study_id AND d.at_work));
ALTER TABLE barrier ALTER COLUMN dem_id SET NOT NULL, DROP COLUMN parked;
CREATE INDEX ON barrier (dem_id);

-- Weights, packages and layers on their way in belong to the study, whatever DEM it works on.
ALTER TABLE file ADD COLUMN dem_id bigint REFERENCES dem ON DELETE CASCADE;
UPDATE file f SET dem_id = coalesce(f.parked, (SELECT d.id FROM dem d WHERE d.study_id = f.study_id AND d.at_work))
    WHERE f.role IN ('dem', 'dem_part', 'prj');
ALTER TABLE file DROP COLUMN parked;
ALTER TABLE file ADD CHECK ((dem_id IS NOT NULL) = (role IN ('dem', 'dem_part', 'prj')));
CREATE UNIQUE INDEX file_of_study ON file (study_id, role, dem_id) NULLS NOT DISTINCT
    WHERE superseded_at IS NULL AND role IN ('dem', 'prj', 'weights', 'package');
CREATE INDEX ON file (dem_id);

CREATE OR REPLACE FUNCTION study_fingerprint(which bigint) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT md5(concat_ws('|',
        s.name, d.source, d.terrain, d.routing, d.network, s.settings - 'style',
        (SELECT string_agg(concat_ws(',', p.id, p.name, p.x, p.y, p.snap_m, p.snap_to, p.catchment), ';' ORDER BY p.id)
            FROM pour_point p WHERE p.study_id = s.id AND p.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', l.id, l.version, l.name, l.provenance), ';' ORDER BY l.id)
            FROM layer l WHERE l.study_id = s.id AND l.deleted_at IS NULL AND l.role <> 'provisional'),
        (SELECT string_agg(concat_ws(',', b.id, b.name, b.provenance), ';' ORDER BY b.id)
            FROM backdrop b WHERE b.study_id = s.id AND b.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', t.id, t.name, t.remark, t.justification), ';' ORDER BY t.id)
            FROM trial t WHERE t.study_id = s.id AND t.deleted_at IS NULL),
        (SELECT string_agg(r.id::text, ';' ORDER BY r.id) FROM raster r WHERE r.dem_id = d.id AND r.superseded_at IS NULL)))
    FROM study s JOIN dem d ON d.study_id = s.id AND d.at_work WHERE s.id = which
$$;
ALTER TABLE study DROP COLUMN source, DROP COLUMN terrain, DROP COLUMN review, DROP COLUMN routing, DROP COLUMN network;
DROP TABLE candidate;
