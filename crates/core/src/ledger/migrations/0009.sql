-- People, what they may do, and what they did.

-- Who signs in by name.
CREATE TABLE user (
  name TEXT PRIMARY KEY,
  role TEXT NOT NULL,
  password TEXT NOT NULL,          -- Argon2id, as a PHC string
  made_at INTEGER NOT NULL,
  made_by TEXT NOT NULL
) WITHOUT ROWID;

-- Tokens of machines and of people; of each only a sum is kept.
CREATE TABLE token (
  id INTEGER PRIMARY KEY,
  sum BLOB NOT NULL UNIQUE,
  label TEXT NOT NULL,
  role TEXT NOT NULL,
  gates TEXT NOT NULL,             -- a list in JSON; empty for all gates
  owner TEXT,                      -- the user whose it is, with whom it goes
  made_at INTEGER NOT NULL,
  made_by TEXT NOT NULL,
  until INTEGER                    -- when it ends; none when it does not
);

-- Sessions of the console that have not ended; of each only a sum is kept.
CREATE TABLE session (
  id INTEGER PRIMARY KEY,
  sum BLOB NOT NULL UNIQUE,
  user TEXT,                       -- none: it was begun by the local token
  begun_at INTEGER NOT NULL,
  used_at INTEGER NOT NULL,
  until INTEGER NOT NULL,
  address TEXT NOT NULL,
  program TEXT NOT NULL            -- what the browser says that it is
);

-- Who did what. Lines are added at the end; each has a sum over itself and the one before.
CREATE TABLE audit (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  address TEXT NOT NULL,
  what TEXT NOT NULL,
  about TEXT NOT NULL,
  why TEXT NOT NULL,
  status INTEGER NOT NULL,         -- as the HTTP status that was answered
  sum BLOB NOT NULL
);
CREATE INDEX audit_who ON audit (who, id);
CREATE INDEX audit_what ON audit (what, id);

-- The ends of the chain: the last line that was dropped because its time was over, and the
-- last one that was written.
CREATE TABLE audit_end (
  which TEXT PRIMARY KEY,          -- dropped or written
  id INTEGER NOT NULL,
  sum BLOB NOT NULL
) WITHOUT ROWID;
INSERT INTO audit_end VALUES ('dropped', 0, zeroblob(32)), ('written', 0, zeroblob(32));

CREATE TRIGGER audit_stays BEFORE UPDATE ON audit
BEGIN SELECT RAISE(ABORT, 'a line of the audit log is never changed'); END;
CREATE TRIGGER audit_is_kept BEFORE DELETE ON audit
WHEN OLD.id > (SELECT id FROM audit_end WHERE which = 'dropped')
BEGIN SELECT RAISE(ABORT, 'a line of the audit log is never removed before its time'); END;
