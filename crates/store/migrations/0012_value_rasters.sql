-- Rasters whose values are told of catchments: files of their own, named in the settings by their SHA-256.
ALTER TABLE file DROP CONSTRAINT file_role_check;
ALTER TABLE file ADD CONSTRAINT file_role_check
    CHECK (role IN ('dem', 'dem_part', 'prj', 'weights', 'values', 'layer_part', 'package'));

-- How sub-basins are drawn goes into a package too.
CREATE TEMPORARY TABLE fresh_styles ON COMMIT DROP AS
    SELECT id FROM file WHERE role = 'package' AND superseded_at IS NULL AND fingerprint = study_fingerprint(study_id);

CREATE OR REPLACE FUNCTION study_fingerprint(which bigint) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT md5(concat_ws('|',
        s.name, source_of(d.id), d.terrain, d.routing, d.network, settings_of(s.id) - 'style',
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
        (SELECT string_agg(r.id::text, ';' ORDER BY r.id) FROM raster r WHERE r.dem_id = d.id AND r.superseded_at IS NULL)))
    FROM study s JOIN dem d ON d.study_id = s.id AND d.at_work WHERE s.id = which
$$;
UPDATE file SET fingerprint = study_fingerprint(study_id) WHERE id IN (SELECT id FROM fresh_styles);
