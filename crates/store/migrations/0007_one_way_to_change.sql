-- A pour point keeps how far and to what it was snapped. The choices of the study were used for all of them so far.
ALTER TABLE pour_point ADD COLUMN snap_m double precision, ADD COLUMN snap_to text;
UPDATE pour_point p SET
    snap_m = coalesce((s.settings->>'snap_m')::double precision, 100),
    snap_to = coalesce(s.settings->>'snap_to', 'largest')
FROM study s WHERE s.id = p.study_id;
ALTER TABLE pour_point ALTER COLUMN snap_m SET NOT NULL, ALTER COLUMN snap_to SET NOT NULL,
    ADD CHECK (snap_m >= 0), ADD CHECK (snap_to IN ('largest', 'nearest_stream'));

-- Trials of one study have different names; one at most is the study's network.
UPDATE trial t SET name = t.name || '_' || t.id WHERE t.deleted_at IS NULL AND EXISTS
    (SELECT 1 FROM trial o WHERE o.study_id = t.study_id AND o.name = t.name AND o.id < t.id AND o.deleted_at IS NULL);
UPDATE trial t SET justification = NULL WHERE t.justification IS NOT NULL AND EXISTS
    (SELECT 1 FROM trial o WHERE o.study_id = t.study_id AND o.id > t.id AND o.justification IS NOT NULL);
CREATE UNIQUE INDEX trial_name ON trial (study_id, name) WHERE deleted_at IS NULL;
CREATE UNIQUE INDEX trial_chosen ON trial (study_id) WHERE justification IS NOT NULL;

-- Of some files a study has one at most.
DELETE FROM file f WHERE f.role IN ('dem', 'prj', 'weights', 'package') AND f.superseded_at IS NULL AND EXISTS
    (SELECT 1 FROM file o WHERE o.study_id = f.study_id AND o.role = f.role AND o.superseded_at IS NULL
        AND o.parked IS NOT DISTINCT FROM f.parked AND o.id > f.id);
CREATE UNIQUE INDEX file_of_study ON file (study_id, role, parked) NULLS NOT DISTINCT
    WHERE superseded_at IS NULL AND role IN ('dem', 'prj', 'weights', 'package');

-- Only what this version knows.
ALTER TABLE job ADD CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled', 'interrupted'));
ALTER TABLE job ADD CHECK (progress >= 0 AND progress <= 1);
ALTER TABLE file ADD CHECK (role IN ('dem', 'dem_part', 'prj', 'weights', 'layer_part', 'package'));
ALTER TABLE barrier ADD CHECK (decision IN ('breach', 'fill', 'keep'));
ALTER TABLE barrier ADD CHECK (score >= 0 AND score <= 1);

-- What is asked for.
CREATE INDEX job_active ON job (id) WHERE state IN ('queued', 'running');
CREATE INDEX job_last ON job (study_id, id DESC);
CREATE INDEX log_last ON log_entry (study_id, id DESC);
CREATE INDEX undo_last ON undo_entry (study_id, id DESC);
CREATE INDEX barrier_decided ON barrier (study_id) WHERE decision IS NOT NULL;
