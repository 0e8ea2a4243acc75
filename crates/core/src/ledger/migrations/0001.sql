-- An entry is one settled version of a file. Times are milliseconds since 1970
-- in UTC; a file's own modification time is in nanoseconds.
CREATE TABLE entry (
  id INTEGER PRIMARY KEY,
  gate TEXT NOT NULL,
  drop_folder TEXT NOT NULL,
  path TEXT NOT NULL,              -- below the drop folder
  bytes INTEGER NOT NULL,
  modified_ns INTEGER NOT NULL,
  inode INTEGER NOT NULL,
  sha256 BLOB NOT NULL,
  state TEXT NOT NULL,
  fields TEXT NOT NULL,            -- JSON object of texts
  seen_at INTEGER NOT NULL,
  ready_at INTEGER NOT NULL,
  worked_at INTEGER,
  filed_at INTEGER,
  target TEXT,                     -- where it is moved to; decided before the move, so that recovery knows
  in_drop INTEGER NOT NULL,        -- 1 while it is thought to lie in the drop folder
  source TEXT,                     -- where it lies when that is neither the drop folder nor the target
  tries INTEGER NOT NULL DEFAULT 0,
  not_before INTEGER,              -- a ready entry waits until then
  reason TEXT,
  repeat_of INTEGER,
  revision_of INTEGER,             -- the entry of the same path before it, which had other content
  forgotten INTEGER NOT NULL DEFAULT 0, -- 1: its identity counts no more
  batch INTEGER,
  rows INTEGER,                    -- rows that it gave to an output
  space TEXT NOT NULL,
  identity BLOB                    -- NULL: claims no identity (a repeat, or gone before it was worked)
);
-- This index is what keeps a file from being worked twice.
CREATE UNIQUE INDEX entry_identity ON entry (space, identity) WHERE identity IS NOT NULL;
CREATE INDEX entry_path ON entry (gate, path);
-- With the index before, for finding an entry by its sum: only entries whose
-- identity is not the sum itself are in it.
CREATE INDEX entry_sum ON entry (sha256) WHERE identity IS NOT sha256;
CREATE INDEX entry_repeat_of ON entry (repeat_of) WHERE repeat_of IS NOT NULL;
-- States that are rare among millions of filed entries.
CREATE INDEX entry_rare ON entry (gate, state) WHERE (state = 'gone' OR state = 'adopted' OR state = 'passed over');
CREATE INDEX entry_batch ON entry (batch) WHERE state = 'working';
CREATE INDEX entry_open ON entry (gate, state) WHERE (state = 'ready' OR state = 'working' OR state = 'worked' OR state = 'repeat' OR state = 'held');
-- States are parted by OR rather than in a list: so SQLite sees that a query for
-- one of them is served.
-- Open entries are found by the index before; this one is for those that were
-- filed or adopted in place, so that an entry on its usual way is in one of them.
CREATE INDEX entry_left ON entry (gate) WHERE in_drop = 1 AND (state = 'filed' OR state = 'adopted' OR state = 'passed over');
CREATE INDEX entry_over ON entry (gate) WHERE state = 'passed over' AND in_drop = 1 AND target IS NOT NULL;

-- Every change of an entry's state; its id is also the number of the live event.
CREATE TABLE history (
  id INTEGER PRIMARY KEY,
  entry INTEGER NOT NULL,
  gate TEXT NOT NULL,
  at INTEGER NOT NULL,
  state TEXT NOT NULL,
  cause TEXT NOT NULL,             -- pass, recovery or person
  who TEXT,                        -- the person
  words TEXT NOT NULL
);
CREATE INDEX history_entry ON history (entry);

CREATE TABLE batch (
  id INTEGER PRIMARY KEY,
  gate TEXT NOT NULL,
  work TEXT NOT NULL,
  attempt INTEGER NOT NULL,
  begun_at INTEGER NOT NULL,
  ended_at INTEGER,
  outcome TEXT,                    -- NULL while it is under way
  words TEXT NOT NULL DEFAULT '',  -- what a program printed
  worker TEXT,                     -- who has it on lease
  lease_until INTEGER              -- until when
);

-- Which entries were worked in a batch, and the rows that each gave. An entry that
-- is worked again is in several.
CREATE TABLE part (
  batch INTEGER NOT NULL,
  entry INTEGER NOT NULL,
  rows INTEGER,
  PRIMARY KEY (batch, entry)
) WITHOUT ROWID;
CREATE INDEX part_entry ON part (entry);

CREATE TABLE output (
  id INTEGER PRIMARY KEY,
  batch INTEGER NOT NULL,
  path TEXT NOT NULL,
  staged TEXT NOT NULL,
  mode TEXT NOT NULL,              -- create, append, replace or number
  base_bytes INTEGER NOT NULL DEFAULT 0, -- length before the append
  inode INTEGER,
  bytes INTEGER,                   -- of what this batch adds
  sha256 BLOB,
  rows INTEGER,
  committed_at INTEGER,
  published_at INTEGER
);
CREATE INDEX output_batch ON output (batch);
CREATE INDEX output_path ON output (path);
CREATE INDEX output_unpublished ON output (path) WHERE published_at IS NULL;

CREATE INDEX batch_leased ON batch (gate) WHERE lease_until IS NOT NULL AND ended_at IS NULL;

-- Which entries were entered in each five minutes, so that a day of a ledger of
-- millions is found without reading the others.
CREATE TABLE span (
  slot INTEGER PRIMARY KEY,        -- milliseconds since 1970, divided by 300,000
  first INTEGER NOT NULL,
  last INTEGER NOT NULL
);

-- Identities of entries that were trimmed away.
CREATE TABLE kept (
  space TEXT NOT NULL,
  identity BLOB NOT NULL,
  entry INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (space, identity)
) WITHOUT ROWID;

-- Counts are kept, not counted: a look at the gates must not read every entry.
CREATE TABLE tally (
  gate TEXT NOT NULL,
  state TEXT NOT NULL,
  count INTEGER NOT NULL,
  PRIMARY KEY (gate, state)
) WITHOUT ROWID;

-- What happened in each five minutes.
CREATE TABLE activity (
  slot INTEGER NOT NULL,           -- milliseconds since 1970, divided by 300,000
  gate TEXT NOT NULL,
  kind TEXT NOT NULL,              -- entered, filed, held or repeat
  count INTEGER NOT NULL,
  PRIMARY KEY (slot, gate, kind)
) WITHOUT ROWID;

-- Tells this ledger from every other, so that two services that write into one
-- folder never take each other's staged files for their own.
CREATE TABLE ledger (tag TEXT NOT NULL);
INSERT INTO ledger VALUES (lower(hex(randomblob(4))));

-- All identity spaces there ever were.
CREATE TABLE space (name TEXT PRIMARY KEY) WITHOUT ROWID;

-- How new a file of each part must be to be picked.
CREATE TABLE pick_mark (
  gate TEXT NOT NULL,
  part TEXT NOT NULL,
  modified_ns INTEGER NOT NULL,
  PRIMARY KEY (gate, part)
) WITHOUT ROWID;

CREATE TABLE gate_setting (
  gate TEXT PRIMARY KEY,
  paused INTEGER NOT NULL
) WITHOUT ROWID;
