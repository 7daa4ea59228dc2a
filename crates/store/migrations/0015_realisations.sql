-- What realisations of a DEM showed: figures with the DEM, probabilities as rasters.
ALTER TABLE dem ADD COLUMN uncertainty jsonb;
ALTER TABLE raster DROP CONSTRAINT raster_role_check;
ALTER TABLE raster ADD CONSTRAINT raster_role_check CHECK (role IN
    ('source', 'dem', 'filled', 'fill_depth', 'cut_fill', 'direction', 'accumulation', 'weighted', 'stream_probability')
    OR role ~ '^catchment_probability_([1-9]|1[0-2])$');
ALTER TABLE job DROP CONSTRAINT job_kind_check;
ALTER TABLE job ADD CONSTRAINT job_kind_check CHECK
    (kind IN ('fetch', 'import', 'prepare', 'layer', 'review', 'route', 'package', 'realise'));
