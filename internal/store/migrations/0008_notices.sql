-- +goose Up
-- What people are to be told of tickets, and what they were.
CREATE TABLE notice (
  n      INTEGER PRIMARY KEY AUTOINCREMENT,
  run    TEXT NOT NULL,
  step   TEXT NOT NULL,
  ticket INTEGER NOT NULL,
  kind   TEXT NOT NULL,    -- raised, reminder or escalated
  due    INTEGER NOT NULL, -- microseconds since 1970, UTC
  every  INTEGER NOT NULL, -- seconds until the next reminder; 0 is never
  tries  INTEGER NOT NULL DEFAULT 0,
  told   TEXT NOT NULL DEFAULT '[]', -- JSON list of those who were
  failed TEXT NOT NULL DEFAULT '',   -- why the newest try failed
  status TEXT NOT NULL DEFAULT 'due' -- due, told, failed, or over: the ticket was settled before
);
CREATE INDEX notice_due ON notice(due) WHERE status = 'due';
CREATE INDEX notice_ticket ON notice(ticket);
CREATE INDEX notice_step ON notice(run, step) WHERE status = 'due';
-- Links with which somebody has decided. They are good once.
CREATE TABLE used (
  link TEXT PRIMARY KEY,
  at   INTEGER NOT NULL
) WITHOUT ROWID;
