-- Files that were removed by a rule or a person: what was there, why it went, and who said so.
-- A row without removed_at was planned, and cut off before anybody knew.
CREATE TABLE removal (
  id INTEGER PRIMARY KEY,
  rule TEXT NOT NULL,
  path TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  modified_ns INTEGER NOT NULL,
  sha256 BLOB,
  entry INTEGER,
  moved_to TEXT,
  who TEXT NOT NULL,
  why TEXT NOT NULL,
  planned_at INTEGER NOT NULL,
  removed_at INTEGER
);
CREATE INDEX removal_planned ON removal (id) WHERE removed_at IS NULL;
CREATE TABLE clear_run (
  rule TEXT PRIMARY KEY,
  at INTEGER NOT NULL
);
