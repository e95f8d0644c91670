-- +goose Up
-- The basis that the porter decided on for a find, where it is not the file's.
ALTER TABLE finds ADD COLUMN basis JSON NOT NULL DEFAULT 'null';

-- +goose Down
ALTER TABLE finds DROP COLUMN basis;
