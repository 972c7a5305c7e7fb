-- +goose Up
-- Gates on which several people have to agree, and that more people may settle after a while.
ALTER TABLE ticket ADD COLUMN need INTEGER NOT NULL DEFAULT 1;
ALTER TABLE ticket ADD COLUMN votes TEXT NOT NULL DEFAULT '[]';       -- JSON list of who has agreed to the arguments as they are
ALTER TABLE ticket ADD COLUMN barred TEXT NOT NULL DEFAULT '';        -- who asked, and may not agree as well
ALTER TABLE ticket ADD COLUMN spare INTEGER NOT NULL DEFAULT 0;       -- 1: one may say that this need not be asked again
ALTER TABLE ticket ADD COLUMN escalates INTEGER;                      -- when more people may settle it; microseconds since 1970, UTC
ALTER TABLE ticket ADD COLUMN escalate_to TEXT NOT NULL DEFAULT '[]'; -- JSON list of these
ALTER TABLE ticket ADD COLUMN wants TEXT;                             -- the JSON Schema of the answer to a question; NULL where any words do
ALTER TABLE ticket ADD COLUMN may TEXT NOT NULL DEFAULT '[]';         -- JSON list of the verbs that it takes; none is all of its kind
ALTER TABLE ticket ADD COLUMN stepwise INTEGER NOT NULL DEFAULT 0;     -- 1: a person looks at every such step of the run
