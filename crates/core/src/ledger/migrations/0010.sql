-- Files that are handed in at the door of a gate: while they are received, and until they are
-- entered.
CREATE TABLE upload (
  id INTEGER PRIMARY KEY,
  -- A secret of who hands it in.
  name TEXT NOT NULL UNIQUE,
  gate TEXT NOT NULL,
  place TEXT NOT NULL,
  staged TEXT NOT NULL,
  who TEXT NOT NULL,
  -- As they were said, if they were.
  bytes INTEGER,
  sha256 BLOB,
  replaces BLOB,
  -- So many bytes are durable.
  received INTEGER NOT NULL DEFAULT 0,
  at INTEGER NOT NULL,
  -- Of the whole file: it may be brought to its name from then on.
  inode INTEGER,
  modified_ns INTEGER,
  published INTEGER NOT NULL DEFAULT 0,
  entry INTEGER
);
CREATE INDEX upload_place ON upload (gate, place);

-- What was saved into the files of the configuration, and what stood there before.
CREATE TABLE config_change (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  why TEXT NOT NULL,
  file TEXT NOT NULL,
  text TEXT NOT NULL
);
CREATE INDEX config_change_file ON config_change (file, id);
