-- +goose Up
CREATE TABLE timer (
  run  TEXT NOT NULL,
  step TEXT NOT NULL,
  what TEXT NOT NULL,      -- retry or ticket
  due  INTEGER NOT NULL,   -- microseconds since 1970, UTC
  PRIMARY KEY (run, step, what)
) WITHOUT ROWID;
CREATE INDEX timer_due ON timer(due);
INSERT INTO timer (run, step, what, due) SELECT run, step, 'ticket', due FROM ticket WHERE status = 'open' AND due IS NOT NULL;
ALTER TABLE run ADD COLUMN epoch INTEGER NOT NULL DEFAULT 1; -- of the newest driver
ALTER TABLE session ADD COLUMN kept BLOB;      -- what its newest run left, as JSON; NULL where it is a file, or the run is not over
ALTER TABLE session ADD COLUMN kept_file TEXT; -- hash of the file that holds it
ALTER TABLE run ADD COLUMN seq INTEGER NOT NULL DEFAULT 0; -- of its newest event
UPDATE run SET seq = (SELECT coalesce(max(seq), 0) FROM event WHERE event.run = run.id);
