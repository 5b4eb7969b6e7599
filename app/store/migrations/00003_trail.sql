-- +goose Up
-- Pages of the trail are found by these.
ALTER TABLE trail_entries ADD INDEX (who), ADD INDEX (act), ADD INDEX (time);

