-- Thresholds that the analyst begins with in any study, each with a name and a reason.
CREATE TABLE kept_threshold (
    id bigserial PRIMARY KEY,
    name text NOT NULL CHECK (name <> ''),
    reason text NOT NULL CHECK (reason <> ''),
    area_m2 double precision NOT NULL CHECK (area_m2 > 0),
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX kept_threshold_name ON kept_threshold (lower(name));

-- Polygons that tell where a map of streams looks.
ALTER TABLE layer DROP CONSTRAINT layer_role_check;
ALTER TABLE layer ADD CONSTRAINT layer_role_check CHECK (role IN
    ('mapped_streams', 'breach_lines', 'walls', 'culverts', 'lakes', 'closed_basins', 'boundaries', 'rebuild_areas', 'elevation_points',
     'contour_lines', 'provisional', 'dams', 'sites', 'map_coverage'));
