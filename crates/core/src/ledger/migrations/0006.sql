-- How the file of an entry is compressed where it was filed, or will be where it is to be
-- filed: gzip or zstd; NULL where it is as it came.
ALTER TABLE entry ADD COLUMN packing TEXT;
-- The sum of what is compressed, where that is another than was entered.
ALTER TABLE entry ADD COLUMN content_sha256 BLOB;
ALTER TABLE entry ADD COLUMN content_bytes INTEGER;
