-- +goose Up
-- The runs that were begun, and which of them have ended: it is written with their entries in the
-- trail, and tells by itself that a run on a drive is open.
CREATE TABLE open_runs (
  run    VARCHAR(80)  NOT NULL PRIMARY KEY,
  disk   VARCHAR(80)  NOT NULL,
  serial VARCHAR(120) NOT NULL,
  job    VARCHAR(32)  NOT NULL,
  who    VARCHAR(120) NOT NULL,
  begun  DATETIME(3)  NOT NULL,
  ended  DATETIME(3)  NULL,
  text   VARCHAR(300) NOT NULL,
  INDEX (ended)
) CHARACTER SET utf8mb4;
