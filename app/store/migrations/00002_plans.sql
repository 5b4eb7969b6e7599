-- +goose Up
-- What a job's plan was after each change, and after which one it came.
CREATE TABLE plan_states (
  id      BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  job     VARCHAR(32)     NOT NULL,
  comes   BIGINT UNSIGNED NOT NULL DEFAULT 0,
  steps   MEDIUMTEXT      NULL,
  expect  MEDIUMTEXT      NULL,
  what    VARCHAR(300)    NOT NULL,
  who     VARCHAR(120)    NOT NULL,
  made_at DATETIME(3)     NOT NULL,
  INDEX (job, comes),
  FOREIGN KEY (job) REFERENCES jobs (number)
) CHARACTER SET utf8mb4;

-- plan_ended is the last state of the plan that was carried out: what came before it is not
-- taken back.
ALTER TABLE jobs ADD COLUMN plan_state BIGINT UNSIGNED NOT NULL DEFAULT 0, ADD COLUMN plan_ended BIGINT UNSIGNED NOT NULL DEFAULT 0;

CREATE TABLE kept_plans (
  id      BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  name    VARCHAR(120) NOT NULL,
  job     VARCHAR(32)  NOT NULL,
  steps   MEDIUMTEXT   NOT NULL,
  expect  MEDIUMTEXT   NOT NULL,
  who     VARCHAR(120) NOT NULL,
  made_at DATETIME(3)  NOT NULL,
  UNIQUE (job, name),
  FOREIGN KEY (job) REFERENCES jobs (number)
) CHARACTER SET utf8mb4;

-- What each drive has been measured to write in a second.
CREATE TABLE drive_rates (
  disk  VARCHAR(80) NOT NULL PRIMARY KEY,
  rate  BIGINT      NOT NULL,
  runs  INT         NOT NULL
) CHARACTER SET utf8mb4;
