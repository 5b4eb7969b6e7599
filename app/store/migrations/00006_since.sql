-- +goose Up
-- Since when a bay has its drive: what was verified on a shelf before counts only once it is read again.
ALTER TABLE bays ADD COLUMN since DATETIME(3) NULL;
