-- What a package rests on, so that it is known whether the study is still that: its documents, pour points, layers,
-- pictures, decisions, trials and the flow that was routed. How the map is drawn is no part of it.
CREATE FUNCTION study_fingerprint(which bigint) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT md5(concat_ws('|',
        s.name, s.source, s.terrain, s.routing, s.network, s.settings - 'style',
        (SELECT string_agg(concat_ws(',', p.id, p.name, p.x, p.y, p.snap_m, p.snap_to, p.catchment), ';' ORDER BY p.id)
            FROM pour_point p WHERE p.study_id = s.id AND p.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', l.id, l.version, l.name, l.provenance), ';' ORDER BY l.id)
            FROM layer l WHERE l.study_id = s.id AND l.deleted_at IS NULL AND l.role <> 'provisional'),
        (SELECT string_agg(concat_ws(',', b.id, b.name, b.provenance), ';' ORDER BY b.id)
            FROM backdrop b WHERE b.study_id = s.id AND b.deleted_at IS NULL),
        (SELECT string_agg(concat_ws(',', t.id, t.name, t.remark, t.justification), ';' ORDER BY t.id)
            FROM trial t WHERE t.study_id = s.id AND t.deleted_at IS NULL),
        (SELECT string_agg(r.id::text, ';' ORDER BY r.id) FROM raster r WHERE r.study_id = s.id AND r.parked IS NULL
            AND r.superseded_at IS NULL)))
    FROM study s WHERE s.id = which
$$;
ALTER TABLE file ADD COLUMN fingerprint text;
-- Packages that were up to date by the rule of before stay so.
UPDATE file f SET fingerprint = study_fingerprint(f.study_id)
    WHERE f.role = 'package' AND f.superseded_at IS NULL
    AND (SELECT l.stage FROM log_entry l WHERE l.study_id = f.study_id ORDER BY l.id DESC LIMIT 1) = 'Handover';
