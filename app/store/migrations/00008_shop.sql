-- +goose Up
-- The shop itself. Whoever had people before this was a demo: there was no way to make any other.
CREATE TABLE shops (
  id            TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  name          VARCHAR(120)     NOT NULL,
  address       VARCHAR(400)     NOT NULL,
  demo          BOOLEAN          NOT NULL,
  second_factor BOOLEAN          NOT NULL DEFAULT FALSE,
  opened_at     DATETIME(3)      NOT NULL
) CHARACTER SET utf8mb4;
INSERT INTO shops (id, name, address, demo, opened_at)
  SELECT 1, 'Lantern Quay Repairs', 'Port Ellery', TRUE, UTC_TIMESTAMP(3) FROM technicians LIMIT 1;

-- Logins are compared letter by letter: no accent and no width makes two of them one.
ALTER TABLE technicians
  MODIFY login       VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  ADD role           VARCHAR(16)  NOT NULL DEFAULT 'technician',
  ADD off_at         DATETIME(3)  NULL,
  ADD code_hash      CHAR(64)     NOT NULL DEFAULT '',
  ADD code_until     DATETIME(3)  NULL,
  ADD second_secret  VARCHAR(64)  NOT NULL DEFAULT '',
  ADD second_last    BIGINT       NOT NULL DEFAULT 0,
  ADD recovery       TEXT         NULL;
UPDATE technicians SET role = 'lead' WHERE `lead`;
ALTER TABLE technicians DROP COLUMN `lead`;

-- One row for each browser in which somebody is signed in; what signs in is kept nowhere but there.
CREATE TABLE sittings (
  id         CHAR(32)        NOT NULL PRIMARY KEY,
  technician BIGINT UNSIGNED NOT NULL,
  begun_at   DATETIME(3)     NOT NULL,
  seen_at    DATETIME(3)     NOT NULL,
  source     VARCHAR(64)     NOT NULL,
  browser    VARCHAR(200)    NOT NULL,
  INDEX (technician),
  FOREIGN KEY (technician) REFERENCES technicians (id)
) CHARACTER SET utf8mb4;

-- Sessions are kept under the hash of what the browser has: those of before are over.
DELETE FROM sessions;

CREATE TABLE customers (
  id        BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY,
  name      VARCHAR(200) NOT NULL,
  telephone VARCHAR(40)  NOT NULL DEFAULT '',
  digits    VARCHAR(40)  NOT NULL DEFAULT '',
  email     VARCHAR(200) NOT NULL DEFAULT '',
  address   VARCHAR(400) NOT NULL DEFAULT '',
  INDEX (name), INDEX (digits)
) CHARACTER SET utf8mb4;
INSERT INTO customers (name) SELECT DISTINCT customer FROM jobs;

ALTER TABLE jobs
  ADD customer_id BIGINT UNSIGNED NULL,
  ADD goal        VARCHAR(40)  NOT NULL DEFAULT '',
  ADD keep        TEXT         NOT NULL DEFAULT '',
  ADD promised    DATE         NULL,
  ADD consent_at  DATETIME(3)  NULL,
  ADD consent_by  VARCHAR(120) NOT NULL DEFAULT '',
  ADD given_to    BIGINT UNSIGNED NULL,
  ADD waits_for   VARCHAR(16)  NOT NULL DEFAULT '',
  ADD waits_why   VARCHAR(500) NOT NULL DEFAULT '',
  ADD waits_since DATETIME(3)  NULL,
  ADD opened_at   DATETIME(3)  NULL,
  ADD opened_by   VARCHAR(120) NOT NULL DEFAULT '',
  ADD handed_at   DATETIME(3)  NULL,
  ADD handed_by   VARCHAR(120) NOT NULL DEFAULT '',
  ADD closed_at   DATETIME(3)  NULL,
  ADD closed_by   VARCHAR(120) NOT NULL DEFAULT '',
  ADD kept_until  DATE         NULL,
  ADD cleared_at  DATETIME(3)  NULL,
  ADD INDEX (closed_at), ADD INDEX (customer_id), ADD INDEX (kept_until),
  ADD FOREIGN KEY (customer_id) REFERENCES customers (id),
  ADD FOREIGN KEY (given_to) REFERENCES technicians (id);
UPDATE jobs SET customer_id = (SELECT id FROM customers WHERE customers.name = jobs.customer);

-- What people write to a job, and the pictures of it. A picture lies in a file of the note's id.
CREATE TABLE notes (
  id       VARCHAR(40)  NOT NULL PRIMARY KEY,
  job      VARCHAR(32)  NOT NULL,
  who      VARCHAR(120) NOT NULL,
  made_at  DATETIME(3)  NOT NULL,
  text     TEXT         NOT NULL,
  picture  BOOLEAN      NOT NULL DEFAULT FALSE,
  gone_at  DATETIME(3)  NULL,
  INDEX (job, made_at),
  FOREIGN KEY (job) REFERENCES jobs (number)
) CHARACTER SET utf8mb4;

-- Browsers in which somebody has signed in before: strangers who try an account do not keep these out.
CREATE TABLE known_browsers (
  hash       CHAR(64)        NOT NULL PRIMARY KEY,
  technician BIGINT UNSIGNED NOT NULL,
  since      DATETIME(3)     NOT NULL,
  INDEX (technician),
  FOREIGN KEY (technician) REFERENCES technicians (id)
) CHARACTER SET utf8mb4;
