-- +goose Up
CREATE TABLE event (
  pos    INTEGER PRIMARY KEY,
  run    TEXT NOT NULL,
  seq    INTEGER NOT NULL,
  at     INTEGER NOT NULL, -- microseconds since 1970, UTC
  v      INTEGER NOT NULL,
  kind   TEXT NOT NULL,
  thread TEXT NOT NULL,
  step   TEXT NOT NULL,
  data   BLOB,             -- JSON; NULL where it is a file
  file   TEXT,             -- hash of the file that holds it
  UNIQUE (run, seq)
);
CREATE TABLE part (
  hash TEXT PRIMARY KEY,
  body BLOB,               -- NULL where it is a file named by the hash
  at   INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE session (
  id     TEXT PRIMARY KEY,
  title  TEXT NOT NULL,
  person TEXT NOT NULL,
  runs   INTEGER NOT NULL,
  last   TEXT NOT NULL,
  at     INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE run (
  n          INTEGER PRIMARY KEY,
  id         TEXT NOT NULL UNIQUE,
  session    TEXT NOT NULL REFERENCES session(id),
  project    TEXT NOT NULL,
  person     TEXT NOT NULL,
  text       TEXT NOT NULL,
  status     TEXT NOT NULL,
  agent      TEXT NOT NULL,
  agents     TEXT NOT NULL, -- with a blank before, between and after
  tools      TEXT NOT NULL, -- likewise
  turns      INTEGER NOT NULL,
  calls      INTEGER NOT NULL,
  tokens_in  INTEGER NOT NULL,
  tokens_out INTEGER NOT NULL,
  cost       REAL NOT NULL,
  worked     INTEGER NOT NULL, -- milliseconds, waits for people not counted
  answer     TEXT NOT NULL,
  problem    TEXT NOT NULL,
  opened_at  INTEGER NOT NULL,
  last_at    INTEGER NOT NULL
);
CREATE UNIQUE INDEX run_busy ON run(session) WHERE status IN ('going', 'held');
CREATE INDEX run_status ON run(status, n);
CREATE TABLE ticket (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  run        TEXT NOT NULL,
  step       TEXT NOT NULL,
  form       TEXT NOT NULL,
  agent      TEXT NOT NULL,
  tool       TEXT NOT NULL,
  args       TEXT NOT NULL,
  ask        TEXT NOT NULL,
  approvers  TEXT NOT NULL, -- JSON list
  why        TEXT NOT NULL,
  shown      TEXT NOT NULL,
  due        INTEGER,
  raised_at  INTEGER NOT NULL,
  status     TEXT NOT NULL, -- open, or the verb that settled it
  settled_by TEXT NOT NULL DEFAULT '',
  because    TEXT NOT NULL DEFAULT '',
  new_args   TEXT,
  settled_at INTEGER
);
CREATE UNIQUE INDEX ticket_open ON ticket(run, step) WHERE status = 'open';
CREATE INDEX ticket_due ON ticket(status, due);
CREATE TABLE inbox (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  session TEXT NOT NULL,
  start   TEXT NOT NULL,
  at      INTEGER NOT NULL
);
CREATE TABLE version (
  hash TEXT PRIMARY KEY,
  body BLOB,
  at   INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE drill (
  name TEXT PRIMARY KEY,
  data TEXT NOT NULL,
  at   INTEGER NOT NULL
) WITHOUT ROWID;
