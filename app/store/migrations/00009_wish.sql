-- +goose Up
-- The wish as a goal: of which volume, by its letter, and how much, as it was said; '' for not known.
ALTER TABLE jobs
  ADD goal_of     VARCHAR(8)   NOT NULL DEFAULT '',
  ADD goal_amount VARCHAR(100) NOT NULL DEFAULT '';
