-- +goose Up
-- Bookmarks of a source that came with its project and is not indexed yet:
-- they are on entries by path until the entries have their slots.
CREATE TABLE bookmarks_to_come (
  source_id BIGINT NOT NULL,
  path VARCHAR(1100) NOT NULL,
  off BIGINT NOT NULL,
  size BIGINT NOT NULL,
  note VARCHAR(1000) NOT NULL,
  CONSTRAINT to_come_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
DROP TABLE bookmarks_to_come;
