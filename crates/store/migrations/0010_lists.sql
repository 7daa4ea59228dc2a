-- Packages that are up to date stay so, although what they rest on is kept otherwise.
CREATE TEMPORARY TABLE fresh ON COMMIT DROP AS
    SELECT id FROM file WHERE role = 'package' AND fingerprint = study_fingerprint(study_id);

-- Changes of streams by hand, in the order in which they apply.
CREATE TABLE stream_edit (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    place integer NOT NULL,
    kind text NOT NULL CHECK (kind IN ('prune', 'head', 'within')),
    -- where, and what else belongs to its kind
    edit jsonb NOT NULL,
    reason text NOT NULL,
    UNIQUE (study_id, place),
    CHECK (edit->>'kind' = kind)
);
-- What was said of stretches where network and map differ.
CREATE TABLE shortfall_mark (
    id bigserial PRIMARY KEY,
    study_id bigint NOT NULL REFERENCES study ON DELETE CASCADE,
    place integer NOT NULL,
    side text NOT NULL CHECK (side IN ('extra', 'missed')),
    x double precision NOT NULL,
    y double precision NOT NULL,
    verdict text NOT NULL CHECK (verdict IN ('accepted', 'to_mend')),
    remark text NOT NULL,
    UNIQUE (study_id, place)
);
-- The files that a DEM is put together from, beside the first.
CREATE TABLE source_file (
    id bigserial PRIMARY KEY,
    dem_id bigint NOT NULL REFERENCES dem ON DELETE CASCADE,
    place integer NOT NULL,
    name text NOT NULL,
    bytes bigint NOT NULL CHECK (bytes >= 0),
    sha256 text NOT NULL CHECK (sha256 ~ '^[0-9a-f]{64}$'),
    band integer NOT NULL CHECK (band > 0),
    vertical_unit jsonb NOT NULL,
    crs jsonb NOT NULL,
    info jsonb NOT NULL,
    provenance jsonb NOT NULL,
    UNIQUE (dem_id, place)
);

-- The list of a name in a document; none where it is not there.
CREATE FUNCTION list_in(document jsonb, name text) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE WHEN jsonb_typeof(document -> name) = 'array' THEN document -> name ELSE '[]' END
$$;

-- A document without its lists of these names.
CREATE FUNCTION without_lists(document jsonb, names text[]) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE WHEN jsonb_typeof(document) = 'object' THEN document - coalesce((SELECT array_agg(n)
        FROM unnest(names) n WHERE jsonb_typeof(document -> n) = 'array'), '{}') ELSE document END
$$;

-- Keeps the choices of a study; the lists among them become rows.
CREATE FUNCTION put_settings(which bigint, document jsonb) RETURNS void LANGUAGE sql AS $$
    DELETE FROM stream_edit WHERE study_id = which;
    INSERT INTO stream_edit (study_id, place, kind, edit, reason)
        SELECT which, e.place, e.item -> 'edit' ->> 'kind', e.item -> 'edit', coalesce(e.item ->> 'reason', '')
        FROM jsonb_array_elements(list_in(document, 'edits')) WITH ORDINALITY AS e (item, place);
    DELETE FROM shortfall_mark WHERE study_id = which;
    INSERT INTO shortfall_mark (study_id, place, side, x, y, verdict, remark)
        SELECT which, m.place, m.item ->> 'side', (m.item -> 'at' ->> 0)::double precision,
            (m.item -> 'at' ->> 1)::double precision, m.item ->> 'verdict', coalesce(m.item ->> 'remark', '')
        FROM jsonb_array_elements(list_in(document, 'shortfalls')) WITH ORDINALITY AS m (item, place);
    UPDATE study SET settings = without_lists(document, '{edits,shortfalls}') WHERE id = which;
$$;

-- The choices of a study as one document.
CREATE FUNCTION settings_of(which bigint) RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT CASE WHEN jsonb_typeof(s.settings) <> 'object' THEN s.settings ELSE jsonb_build_object(
        'edits', (SELECT coalesce(jsonb_agg(jsonb_build_object('edit', e.edit, 'reason', e.reason) ORDER BY e.place), '[]')
            FROM stream_edit e WHERE e.study_id = s.id),
        'shortfalls', (SELECT coalesce(jsonb_agg(jsonb_build_object('side', m.side, 'at', jsonb_build_array(m.x, m.y),
                'verdict', m.verdict, 'remark', m.remark) ORDER BY m.place), '[]')
            FROM shortfall_mark m WHERE m.study_id = s.id)) || s.settings END
    FROM study s WHERE s.id = which
$$;

-- Keeps what is known of the files of a DEM; those beside the first become rows.
CREATE FUNCTION put_source(which bigint, document jsonb) RETURNS void LANGUAGE sql AS $$
    DELETE FROM source_file WHERE dem_id = which;
    INSERT INTO source_file (dem_id, place, name, bytes, sha256, band, vertical_unit, crs, info, provenance)
        SELECT which, f.place, f.item ->> 'file', (f.item ->> 'bytes')::bigint, f.item ->> 'sha256',
            (f.item ->> 'band')::integer, f.item -> 'vertical_unit', f.item -> 'crs', f.item -> 'info',
            coalesce(f.item -> 'provenance', '{}')
        FROM jsonb_array_elements(list_in(document, 'more')) WITH ORDINALITY AS f (item, place);
    UPDATE dem SET source = without_lists(document, '{more}') WHERE id = which;
$$;

-- What is known of the files of a DEM as one document; null before a file came.
CREATE FUNCTION source_of(which bigint) RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT CASE WHEN jsonb_typeof(d.source) <> 'object' THEN d.source ELSE jsonb_build_object('more', (SELECT coalesce(jsonb_agg(jsonb_build_object(
            'file', f.name, 'bytes', f.bytes, 'sha256', f.sha256, 'band', f.band, 'vertical_unit', f.vertical_unit,
            'crs', f.crs, 'info', f.info, 'provenance', f.provenance) ORDER BY f.place), '[]')
        FROM source_file f WHERE f.dem_id = d.id)) || d.source END
    FROM dem d WHERE d.id = which
$$;

-- A document that holds what cannot be such rows stays as it is, and so does what is told of its study.
DO $$
DECLARE
    one record;
BEGIN
    FOR one IN SELECT id, settings FROM study LOOP
        BEGIN
            PERFORM put_settings(one.id, one.settings);
        EXCEPTION WHEN data_exception OR integrity_constraint_violation THEN
            RAISE WARNING 'the choices of study % are damaged: %', one.id, SQLERRM;
        END;
    END LOOP;
    FOR one IN SELECT id, source FROM dem WHERE source IS NOT NULL LOOP
        BEGIN
            PERFORM put_source(one.id, one.source);
        EXCEPTION WHEN data_exception OR integrity_constraint_violation THEN
            RAISE WARNING 'what is known of the files of DEM % is damaged: %', one.id, SQLERRM;
        END;
    END LOOP;
END $$;

CREATE OR REPLACE FUNCTION study_fingerprint(which bigint) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT md5(concat_ws('|',
        s.name, source_of(d.id), d.terrain, d.routing, d.network, settings_of(s.id) - 'style',
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
UPDATE file SET fingerprint = study_fingerprint(study_id) WHERE id IN (SELECT id FROM fresh);

-- Changes can be undone for a time; what was deleted is kept for as long.
ALTER TABLE undo_entry ADD COLUMN created_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX layer_deleted ON layer (deleted_at) WHERE deleted_at IS NOT NULL;
CREATE INDEX backdrop_deleted ON backdrop (deleted_at) WHERE deleted_at IS NOT NULL;
CREATE INDEX trial_deleted ON trial (deleted_at) WHERE deleted_at IS NOT NULL;
CREATE INDEX pour_point_deleted ON pour_point (deleted_at) WHERE deleted_at IS NOT NULL;
CREATE INDEX undo_created ON undo_entry (created_at);
CREATE INDEX job_finished ON job (finished_at) WHERE finished_at IS NOT NULL;

-- Only what this version knows.
ALTER TABLE raster ADD CHECK (role IN
    ('source', 'dem', 'filled', 'fill_depth', 'cut_fill', 'direction', 'accumulation', 'weighted'));
ALTER TABLE layer ADD CHECK (role IN
    ('mapped_streams', 'breach_lines', 'walls', 'culverts', 'lakes', 'closed_basins', 'boundaries', 'rebuild_areas',
     'elevation_points', 'contour_lines', 'provisional', 'dams', 'sites'));
ALTER TABLE job ADD CHECK (kind IN ('fetch', 'import', 'prepare', 'layer', 'review', 'route', 'package'));
