-- A raster that is mostly another one is kept as what is different in its finest level, bit by bit.
ALTER TABLE raster ADD COLUMN base_id bigint REFERENCES raster;
-- Pieces of files are made smaller where that helps much; how many bytes they had is told then.
ALTER TABLE file_chunk ADD COLUMN unpacked integer CHECK (unpacked > 0);
