-- Versions by the time of the inode, who paused a gate, what was being read, and what a
-- program made of its own source.

-- Time of the inode's last change, which nobody can set back; 0 where it is not known.
ALTER TABLE entry ADD COLUMN changed_ns INTEGER NOT NULL DEFAULT 0;
-- What lies in the archive when that is not what was fingerprinted: the program that
-- worked the file had changed it. NULL when it is.
ALTER TABLE entry ADD COLUMN filed_sha256 BLOB;
ALTER TABLE entry ADD COLUMN filed_bytes INTEGER;
-- How often the service died while it was reading this file alone.
ALTER TABLE entry ADD COLUMN deaths INTEGER NOT NULL DEFAULT 0;

-- How long a lease was given for: its end on the wall clock may be wrong.
ALTER TABLE batch ADD COLUMN lease_ms INTEGER;

ALTER TABLE gate_setting ADD COLUMN paused_at INTEGER;
ALTER TABLE gate_setting ADD COLUMN paused_by TEXT;

-- Committed outputs that do not stand in their place yet: few, whatever was ever made.
DROP INDEX output_unpublished;
CREATE INDEX output_unpublished ON output (path) WHERE published_at IS NULL AND committed_at IS NOT NULL;
-- Outputs by inode, so that a gate knows what it made itself.
CREATE INDEX output_inode ON output (inode) WHERE inode IS NOT NULL;
CREATE INDEX batch_unended ON batch (gate) WHERE ended_at IS NULL;
