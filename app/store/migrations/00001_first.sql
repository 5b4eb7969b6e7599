-- +goose Up
CREATE TABLE technicians (
  id            BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  login         VARCHAR(64)  NOT NULL UNIQUE,
  name          VARCHAR(120) NOT NULL,
  lead          BOOLEAN      NOT NULL DEFAULT FALSE,
  password_hash VARCHAR(200) NOT NULL
) CHARACTER SET utf8mb4;

CREATE TABLE jobs (
  number    VARCHAR(32)  NOT NULL PRIMARY KEY,
  customer  VARCHAR(200) NOT NULL,
  pc        VARCHAR(200) NOT NULL,
  story     TEXT         NOT NULL,
  want      VARCHAR(300) NOT NULL,
  plan      MEDIUMTEXT   NULL,
  expect    MEDIUMTEXT   NULL,
  rehearsed DATETIME(3)  NULL
) CHARACTER SET utf8mb4;

CREATE TABLE bays (
  letter VARCHAR(2)   NOT NULL PRIMARY KEY,
  image  VARCHAR(255) NULL,
  shelf  BOOLEAN      NOT NULL DEFAULT FALSE,
  job    VARCHAR(32)  NULL,
  FOREIGN KEY (job) REFERENCES jobs (number)
) CHARACTER SET utf8mb4;

CREATE TABLE sessions (
  token  CHAR(43)     NOT NULL PRIMARY KEY,
  data   BLOB         NOT NULL,
  expiry TIMESTAMP(6) NOT NULL,
  INDEX (expiry)
);

-- The line is the entry; the other columns only help to find it.
CREATE TABLE trail_entries (
  seq    BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  id     VARCHAR(80)     NOT NULL UNIQUE,
  time   DATETIME(3)     NOT NULL,
  who    VARCHAR(120)    NOT NULL,
  act    VARCHAR(40)     NOT NULL,
  job    VARCHAR(32)     NOT NULL,
  disk   VARCHAR(80)     NOT NULL,
  record VARCHAR(80)     NOT NULL,
  hash   CHAR(64)        NOT NULL,
  line   LONGTEXT        NOT NULL,
  INDEX (disk), INDEX (job), INDEX (record)
) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;

-- +goose StatementBegin
CREATE TRIGGER trail_entries_no_update BEFORE UPDATE ON trail_entries FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'entries of the trail are never changed';
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER trail_entries_no_delete BEFORE DELETE ON trail_entries FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'entries of the trail are never removed';
-- +goose StatementEnd
