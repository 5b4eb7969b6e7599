-- +goose Up
-- Whose history an entry belongs to: a drive is known by its serial number, and keeps its history when its
-- table is made anew. It is read from the entry itself, which cannot be changed.
ALTER TABLE trail_entries
  ADD COLUMN serial VARCHAR(120) AS (LEFT(JSON_VALUE(line, '$.drive.serial'), 120)) STORED,
  ADD INDEX (serial);
