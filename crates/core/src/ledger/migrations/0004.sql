-- What can be known of a batch's effect after an interruption stands with its claim, so
-- that recovery does not depend on what the gate does today.
ALTER TABLE batch ADD COLUMN effect TEXT NOT NULL DEFAULT 'staged';
UPDATE batch SET effect = CASE work WHEN 'load' THEN 'proven' WHEN 'merge' THEN 'staged' ELSE 'unprovable' END;

-- By what a place is asked whether the output is there; NULL where it is staged here.
ALTER TABLE output ADD COLUMN proof TEXT;
UPDATE output SET proof = (SELECT l.tag || '-' || b.id || '-' || b.begun_at FROM batch b, ledger l WHERE b.id = output.batch), staged = ''
  WHERE role = 'load';
-- The version from which an output that updates was made.
ALTER TABLE output ADD COLUMN base_sha256 BLOB;
