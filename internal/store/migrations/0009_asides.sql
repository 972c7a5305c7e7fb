-- +goose Up
-- Calls that wait for people in a run of their own, until what became of them was told.
CREATE TABLE aside (
  session TEXT PRIMARY KEY, -- that the call is the one run of
  run     TEXT NOT NULL,    -- that put it aside
  step    TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX aside_run ON aside(run);
