-- +goose Up
ALTER TABLE ticket ADD COLUMN link TEXT NOT NULL DEFAULT ''; -- opens the outside record that the call is about

-- +goose Down
ALTER TABLE ticket DROP COLUMN link;
