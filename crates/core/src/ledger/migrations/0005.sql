-- When an output of ours was modified last, in nanoseconds since 1970: by this and its
-- inode it is known where it was moved to. NULL where rows were appended, or unknown.
ALTER TABLE output ADD COLUMN modified_ns INTEGER;
-- The entry of which alone it was made; NULL where it is of the whole batch.
ALTER TABLE output ADD COLUMN entry INTEGER;
