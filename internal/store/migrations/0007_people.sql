-- +goose Up
-- People who have signed in. A cookie's value is in it only as a hash.
CREATE TABLE signin (
  hash    TEXT PRIMARY KEY,
  person  TEXT NOT NULL,
  salt    TEXT NOT NULL,    -- of the token with which they did; another one puts an end to it
  at      INTEGER NOT NULL, -- microseconds since 1970, UTC
  seen    INTEGER NOT NULL,
  browser TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX signin_person ON signin(person);
CREATE INDEX signin_seen ON signin(seen);
-- With whom a session is shared, beside its own person.
CREATE TABLE shared (
  session TEXT NOT NULL,
  person  TEXT NOT NULL,
  at      INTEGER NOT NULL,
  PRIMARY KEY (session, person)
) WITHOUT ROWID;
CREATE INDEX shared_person ON shared(person);
CREATE INDEX run_person ON run(person, n);
-- Who did what. Nothing in it is ever changed or taken out.
CREATE TABLE record (
  n      INTEGER PRIMARY KEY AUTOINCREMENT,
  at     INTEGER NOT NULL,
  person TEXT NOT NULL,
  via    TEXT NOT NULL, -- how it is known who it was: local, token, sign-in, link, file, or the application that said so
  did    TEXT NOT NULL,
  about  TEXT NOT NULL, -- a run, a ticket, a session, a tool, a person
  detail TEXT NOT NULL
);
CREATE INDEX record_person ON record(person, n);
-- +goose StatementBegin
CREATE TRIGGER record_stays BEFORE UPDATE ON record BEGIN SELECT raise(ABORT, 'the record is not changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER record_keeps BEFORE DELETE ON record BEGIN SELECT raise(ABORT, 'nothing is taken out of the record'); END;
-- +goose StatementEnd
ALTER TABLE ticket ADD COLUMN settled_as TEXT NOT NULL DEFAULT ''; -- the approver as which the last one settled it
