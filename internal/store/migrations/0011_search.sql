-- +goose Up
-- The words of runs that are over, for searches: groups of three letters, by the run's n. A run
-- is here when it says so, and what is not is looked through.
CREATE VIRTUAL TABLE run_words USING fts5(body, content='', contentless_delete=1, detail=none, tokenize='trigram');
ALTER TABLE run ADD COLUMN searched INTEGER NOT NULL DEFAULT 0;
CREATE INDEX run_unsearched ON run(n) WHERE searched = 0;
CREATE INDEX run_over ON run(n) WHERE searched = 0 AND status NOT IN ('going', 'held');
-- +goose StatementBegin
CREATE TRIGGER run_gone AFTER DELETE ON run WHEN old.searched = 1 BEGIN
  DELETE FROM run_words WHERE rowid = old.n;
END;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER run_gone;
DROP INDEX run_unsearched;
DROP INDEX run_over;
ALTER TABLE run DROP COLUMN searched;
DROP TABLE run_words;
