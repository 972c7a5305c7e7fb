-- +goose Up
ALTER TABLE run RENAME COLUMN agents TO path;   -- the agents that held the baton, in order
ALTER TABLE run RENAME COLUMN tools TO called;  -- the tools that were called
ALTER TABLE run ADD COLUMN models TEXT NOT NULL DEFAULT ''; -- that answered, likewise
ALTER TABLE run ADD COLUMN trouble TEXT;        -- the problem as JSON; NULL where there is none
UPDATE run SET trouble = json_object('class', status, 'say', problem) WHERE problem <> '';
ALTER TABLE run DROP COLUMN problem;
ALTER TABLE run RENAME COLUMN trouble TO problem;
ALTER TABLE ticket ADD COLUMN diff TEXT NOT NULL DEFAULT ''; -- of the file that the call would change
ALTER TABLE change ADD COLUMN run TEXT NOT NULL DEFAULT '';  -- that made it; '' on the bench
ALTER TABLE change ADD COLUMN step TEXT NOT NULL DEFAULT ''; -- of the run
CREATE INDEX run_session ON run(session);
CREATE TABLE trusted (
  what TEXT PRIMARY KEY,   -- hash of what may run outside the sandbox
  say  TEXT NOT NULL,
  by   TEXT NOT NULL,      -- who confirmed it; '' while it waits
  at   INTEGER NOT NULL
) WITHOUT ROWID;
