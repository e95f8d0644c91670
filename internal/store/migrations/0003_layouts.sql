-- +goose Up
-- Layouts that the porter wrote, with every version of each.
CREATE TABLE layouts (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  name VARCHAR(200) NOT NULL,
  head INT NOT NULL DEFAULT 0, -- the newest version
  good INT NOT NULL DEFAULT 0, -- the newest that compiles: it is the one that reads files; 0 is none
  coverage JSON NOT NULL DEFAULT 'null', -- what the last run over all entries gave
  UNIQUE KEY layouts_name (project_id, name),
  CONSTRAINT layouts_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE layout_versions (
  layout_id BIGINT NOT NULL,
  no INT NOT NULL,
  doc MEDIUMBLOB NOT NULL,
  made TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  PRIMARY KEY (layout_id, no),
  CONSTRAINT versions_layout FOREIGN KEY (layout_id) REFERENCES layouts (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Places in an entry's bytes that the porter noted.
CREATE TABLE bookmarks (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  source_id BIGINT NOT NULL,
  slot INT NOT NULL, -- of the entry
  off BIGINT NOT NULL,
  size BIGINT NOT NULL,
  note VARCHAR(1000) NOT NULL,
  KEY bookmarks_entry (source_id, slot, off),
  CONSTRAINT bookmarks_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What was chosen where a layout leaves open what bytes mean.
ALTER TABLE finds ADD COLUMN readings JSON NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE finds DROP COLUMN readings;
DROP TABLE bookmarks;
DROP TABLE layout_versions;
DROP TABLE layouts;
