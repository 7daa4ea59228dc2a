-- Blocks are compressed already, and files are given as they are: the database need not try to make them smaller.
ALTER TABLE raster_block ALTER COLUMN data SET STORAGE EXTERNAL;
ALTER TABLE file_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
ALTER TABLE batch_file_chunk ALTER COLUMN data SET STORAGE EXTERNAL;
