-- +goose Up
-- Calls that wait for people in a run of their own, until what became of them was told.
CREATE TABLE aside (
  session TEXT PRIMARY KEY, -- that the call is the one run of
  run     TEXT NOT NULL,    -- that put it aside
  step    TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX aside_run ON aside(run);
-- Whose tickets they are is asked of each list of names once.
CREATE INDEX ticket_approvers ON ticket(approvers);
CREATE INDEX ticket_escalate_to ON ticket(escalate_to);
CREATE INDEX change_run ON change(run);
