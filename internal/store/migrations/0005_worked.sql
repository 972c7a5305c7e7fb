-- +goose Up
-- Agents that had a turn on any thread, each once: consulted ones and those of legs too.
ALTER TABLE run ADD COLUMN worked_by TEXT NOT NULL DEFAULT '';
UPDATE run SET worked_by = path;
