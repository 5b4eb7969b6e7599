-- +goose Up
-- What technicians ask the lead for, and the answers. An answer is an entry of the trail under the same id;
-- what it is for stands there too.
CREATE TABLE asks (
  id          VARCHAR(80)  NOT NULL PRIMARY KEY,
  job         VARCHAR(32)  NOT NULL,
  disk        VARCHAR(80)  NOT NULL,
  model       VARCHAR(120) NOT NULL,
  serial      VARCHAR(120) NOT NULL,
  lifts       VARCHAR(16)  NOT NULL,
  number      INT          NOT NULL,
  unique_id   VARCHAR(80)  NOT NULL,
  purpose     CHAR(64)     NOT NULL,
  state       CHAR(64)     NOT NULL,
  touched     TEXT         NOT NULL,
  text        TEXT         NOT NULL,
  reason      TEXT         NOT NULL,
  asked_by    VARCHAR(120) NOT NULL,
  asked_at    DATETIME(3)  NOT NULL,
  yes         BOOLEAN      NULL,
  answered_by VARCHAR(120) NOT NULL DEFAULT '',
  answered_at DATETIME(3)  NULL,
  why         TEXT         NOT NULL DEFAULT '',
  void_at     DATETIME(3)  NULL,
  void_why    VARCHAR(300) NOT NULL DEFAULT '',
  INDEX (job), INDEX (void_at, yes)
) CHARACTER SET utf8mb4;
