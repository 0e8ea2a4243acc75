-- Files of places from which gates fetch: each version that was seen, and what became of it.
-- One that was fetched stays, so that it is never fetched again.
CREATE TABLE remote (
  id INTEGER PRIMARY KEY,
  gate TEXT NOT NULL,
  -- The name of the place, and the path below the folder of its address.
  place TEXT NOT NULL,
  path TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  -- By the clock of the server, in seconds since 1970; -1 where it does not tell.
  modified INTEGER NOT NULL,
  -- What the server calls this version; empty where it has no word for it.
  tag TEXT NOT NULL,
  seen_at INTEGER NOT NULL,
  -- As what it is handed in, from its first byte on, and the entry that it became.
  upload INTEGER,
  entry INTEGER,
  fetched_at INTEGER,
  -- What was done with it there, and when that stood.
  after TEXT,
  after_at INTEGER
);
CREATE UNIQUE INDEX remote_version ON remote (gate, place, path, bytes, modified, tag);
CREATE INDEX remote_upload ON remote (upload) WHERE upload IS NOT NULL;
CREATE INDEX remote_after ON remote (gate, id) WHERE entry IS NOT NULL AND after_at IS NULL;

-- Copies at places: noted before each gets its name there, so that it can be asked about.
CREATE TABLE delivery (
  id INTEGER PRIMARY KEY,
  gate TEXT NOT NULL,
  entry INTEGER NOT NULL,
  -- The destination as the configuration writes it, and the place.
  destination TEXT NOT NULL,
  place TEXT NOT NULL,
  path TEXT NOT NULL,
  -- Of what is written there.
  bytes INTEGER NOT NULL,
  sha256 BLOB NOT NULL,
  at INTEGER NOT NULL,
  -- When it stood under its name.
  stood_at INTEGER
);
CREATE UNIQUE INDEX delivery_of ON delivery (entry, destination);
