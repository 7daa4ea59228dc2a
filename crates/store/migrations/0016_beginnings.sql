-- Heads of channels that were surveyed.
ALTER TABLE layer DROP CONSTRAINT layer_role_check;
ALTER TABLE layer ADD CONSTRAINT layer_role_check CHECK (role IN
    ('mapped_streams', 'breach_lines', 'walls', 'culverts', 'lakes', 'closed_basins', 'boundaries', 'rebuild_areas', 'elevation_points',
     'contour_lines', 'provisional', 'dams', 'sites', 'map_coverage', 'channel_heads'));
-- Pour points that snap to the cell that fits a known area, in square metres.
ALTER TABLE pour_point DROP CONSTRAINT pour_point_snap_to_check;
ALTER TABLE pour_point ADD CONSTRAINT pour_point_snap_to_check CHECK
    (snap_to IN ('largest', 'nearest_stream') OR snap_to ~ '^area_[1-9][0-9]*$');
-- What flow was divided over, where that is not the ground.
ALTER TABLE raster DROP CONSTRAINT raster_role_check;
ALTER TABLE raster ADD CONSTRAINT raster_role_check CHECK (role IN
    ('source', 'dem', 'filled', 'fill_depth', 'cut_fill', 'direction', 'accumulation', 'weighted', 'routing_surface', 'stream_probability')
    OR role ~ '^catchment_probability_([1-9]|1[0-2])$');
