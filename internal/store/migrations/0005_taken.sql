-- +goose Up
-- What is typed in a layout's editor and not kept as a version yet.
ALTER TABLE layouts
  ADD COLUMN draft MEDIUMBLOB NULL,
  ADD COLUMN draft_base INT NOT NULL DEFAULT 0; -- the version that it is made of

-- A project that holds what was taken out of another one: it is in no list,
-- and neither is anything in it.
ALTER TABLE projects
  ADD COLUMN bin_of BIGINT NULL,
  ADD CONSTRAINT projects_bin FOREIGN KEY (bin_of) REFERENCES projects (id) ON DELETE CASCADE;

CREATE TABLE taken_out (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  kind VARCHAR(16) NOT NULL, -- source, find, layout
  thing_id BIGINT NOT NULL,
  name VARCHAR(255) NOT NULL,
  also JSON NOT NULL, -- what went with it, in words
  finds JSON NOT NULL, -- those of a source, which lose it
  made TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  CONSTRAINT taken_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Counts how often the find was asked to be decoded: what an older decoding
-- gives must not replace what a newer one gave.
ALTER TABLE finds ADD COLUMN asked BIGINT NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE finds DROP COLUMN asked;
DROP TABLE taken_out;
DELETE FROM projects WHERE bin_of IS NOT NULL;
ALTER TABLE projects DROP CONSTRAINT projects_bin, DROP COLUMN bin_of;
ALTER TABLE layouts DROP COLUMN draft, DROP COLUMN draft_base;
