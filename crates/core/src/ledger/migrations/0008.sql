-- What is expected, what happened, and who was told.

-- When a gate's files were first noticed: what is due is looked for by it. It has a
-- condition so that no other question about a gate is served by it.
CREATE INDEX entry_seen ON entry (gate, seen_at) WHERE state <> 'gone' AND state <> 'passed over';

-- Expectations that a person has excused.
CREATE TABLE excuse (
  due TEXT NOT NULL,
  day TEXT NOT NULL,
  value TEXT NOT NULL,             -- empty where the expectation has none
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  why TEXT NOT NULL,
  PRIMARY KEY (due, day, value)
) WITHOUT ROWID;

-- In which state an expectation was seen last, so that each change is told once.
CREATE TABLE due_mark (
  due TEXT NOT NULL,
  day TEXT NOT NULL,
  value TEXT NOT NULL,
  state TEXT NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (due, day, value)
) WITHOUT ROWID;

-- When something was looked at last that is looked at by the clock.
CREATE TABLE watch_mark (what TEXT PRIMARY KEY, at INTEGER NOT NULL) WITHOUT ROWID;

-- What happened beside the changes of entries.
CREATE TABLE happening (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  kind TEXT NOT NULL,              -- late, missing, breach, trouble, unusual, made …
  about TEXT NOT NULL,             -- a gate, due:NAME or lookout:NAME
  subject TEXT NOT NULL,           -- of what of that: a value and its day, a file, a limit
  words TEXT NOT NULL,
  entry INTEGER,
  lasts INTEGER NOT NULL,          -- 1: it has an end
  ended_at INTEGER,
  ended_words TEXT
);
CREATE INDEX happening_open ON happening (about, kind, subject) WHERE lasts = 1 AND ended_at IS NULL;
CREATE INDEX happening_about ON happening (about, id);

-- Messages, until they are delivered or given up.
CREATE TABLE message (
  id INTEGER PRIMARY KEY,
  uid TEXT NOT NULL,               -- the same over all attempts
  tell TEXT NOT NULL,
  at INTEGER NOT NULL,
  subject TEXT NOT NULL,
  body TEXT NOT NULL,              -- JSON
  state TEXT NOT NULL,             -- waiting, sent or failed
  tries INTEGER NOT NULL DEFAULT 0,
  not_before INTEGER NOT NULL,
  ended_at INTEGER,
  words TEXT NOT NULL DEFAULT ''   -- what the last attempt came to
);
CREATE INDEX message_waiting ON message (tell, not_before) WHERE state = 'waiting';
CREATE INDEX message_tell ON message (tell, id);
CREATE INDEX message_failed ON message (tell, at) WHERE state = 'failed';

-- How far a tell has heard.
CREATE TABLE tell_mark (
  tell TEXT PRIMARY KEY,
  change INTEGER NOT NULL,
  happening INTEGER NOT NULL
) WITHOUT ROWID;

-- What lasts, and who was told of it in which message: its end is told to them too.
CREATE TABLE told (
  tell TEXT NOT NULL,
  happening INTEGER NOT NULL,
  uid TEXT NOT NULL,               -- of the first message
  at INTEGER NOT NULL,             -- when it was told last
  PRIMARY KEY (tell, happening)
) WITHOUT ROWID;
CREATE INDEX told_happening ON told (happening);

-- Files of lookouts as they are right.
CREATE TABLE right_file (
  lookout TEXT NOT NULL,
  path TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  modified_ns INTEGER NOT NULL,
  changed_ns INTEGER NOT NULL,
  owner INTEGER NOT NULL,
  mode INTEGER NOT NULL,
  sha256 BLOB,
  PRIMARY KEY (lookout, path)
) WITHOUT ROWID;
