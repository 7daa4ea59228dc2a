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
-- What is chosen of the report goes into a package where the report is handed out, sheets where they are; both are drawn in the
-- styles of the map.
CREATE OR REPLACE FUNCTION study_fingerprint(which bigint) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT md5(concat_ws('|',
        s.name, source_of(d.id), d.terrain, d.routing, d.network, settings_of(s.id) - 'style' - 'report',
        (SELECT string_agg(drawn.key || ' ' || (drawn.value - '{opacity,place,from,by}'::text[])::text, ';' ORDER BY drawn.key)
            FROM jsonb_each(CASE jsonb_typeof(s.settings -> 'style') WHEN 'object' THEN s.settings -> 'style' ELSE '{}' END)
                AS drawn
            WHERE drawn.key IN ('streams', 'catchments', 'subbasins') AND jsonb_typeof(drawn.value) = 'object'),
        (SELECT string_agg(concat_ws(',', p.id, p.name, p.x, p.y, p.snap_m, p.snap_to, p.catchment), ';' ORDER BY p.id)
            FROM pour_point p WHERE p.study_id = s.id AND p.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', l.id, l.version, l.name, l.provenance), ';' ORDER BY l.id)
            FROM layer l WHERE l.study_id = s.id AND l.deleted_at IS NULL AND l.role <> 'provisional'),
        (SELECT string_agg(concat_ws(',', b.id, b.name, b.provenance), ';' ORDER BY b.id)
            FROM backdrop b WHERE b.study_id = s.id AND b.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', t.id, t.name, t.remark, t.justification), ';' ORDER BY t.id)
            FROM trial t WHERE t.study_id = s.id AND t.deleted_at IS NULL),
        (SELECT string_agg(r.id::text, ';' ORDER BY r.id) FROM raster r WHERE r.dem_id = d.id AND r.superseded_at IS NULL),
        CASE WHEN s.settings @? '$.handover ? (@.sheets == true || @.report == true)'
            THEN concat_ws('|', s.settings -> 'style', s.settings -> 'report') END,
        CASE WHEN s.settings @? '$.handover ? (@.sheets == true)' THEN
            (SELECT string_agg(concat_ws(',', m.id, m.name, md5(m.sheet::text)), ';' ORDER BY m.id)
                FROM sheet m WHERE m.study_id = s.id AND m.deleted_at IS NULL) END))
    FROM study s JOIN dem d ON d.study_id = s.id AND d.at_work WHERE s.id = which
$$;
