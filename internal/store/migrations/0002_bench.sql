-- +goose Up
CREATE TABLE try (
  id     INTEGER PRIMARY KEY AUTOINCREMENT,
  tool   TEXT NOT NULL,
  at     INTEGER NOT NULL, -- microseconds since 1970, UTC
  status TEXT NOT NULL,
  way    TEXT NOT NULL,    -- live or stubs
  ms     INTEGER NOT NULL,
  bytes  INTEGER NOT NULL,
  tokens INTEGER NOT NULL,
  args   TEXT NOT NULL,    -- JSON
  words  TEXT NOT NULL,    -- their head
  body   BLOB,             -- all of it as JSON; NULL where it is a file
  file   TEXT
);
CREATE INDEX try_tool ON try(tool, id);
CREATE TABLE outbox (
  n         INTEGER PRIMARY KEY AUTOINCREMENT,
  key       TEXT NOT NULL UNIQUE,
  at        INTEGER NOT NULL,
  run       TEXT NOT NULL,
  tool      TEXT NOT NULL,
  recipient TEXT NOT NULL,
  subject   TEXT NOT NULL,
  text      TEXT NOT NULL
);
CREATE TABLE change (
  key    TEXT PRIMARY KEY,
  at     INTEGER NOT NULL,
  path   TEXT NOT NULL,
  before TEXT,             -- NULL: there was no file
  after  TEXT NOT NULL,    -- hash of what was written
  undone INTEGER
) WITHOUT ROWID;
CREATE TABLE catalogue (
  source TEXT PRIMARY KEY,
  data   TEXT NOT NULL,    -- what the source offered when it was last reached
  at     INTEGER NOT NULL
) WITHOUT ROWID;
ALTER TABLE ticket ADD COLUMN reason TEXT NOT NULL DEFAULT ''; -- the model's own
