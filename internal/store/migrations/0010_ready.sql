-- +goose Up
-- One row, which is written to know whether anything can be.
CREATE TABLE ready (one INTEGER PRIMARY KEY CHECK (one = 1), at INTEGER NOT NULL) STRICT;

-- +goose Down
DROP TABLE ready;
