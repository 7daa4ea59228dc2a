-- Packages stay with their study when another is written, until somebody deletes them.
ALTER TABLE file DROP CONSTRAINT file_role_check;
ALTER TABLE file ADD CONSTRAINT file_role_check
    CHECK (role IN ('dem', 'dem_part', 'prj', 'weights', 'values', 'layer_part', 'package', 'earlier_package'));
