-- +goose Up
-- Target sheets that the porter wrote, with every version of each. They are
-- everybody's: a target is the same whichever project is delivered to it.
CREATE TABLE sheets (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  slug VARCHAR(64) NOT NULL, -- by which chains name it
  head INT NOT NULL DEFAULT 0,
  gone BOOLEAN NOT NULL DEFAULT FALSE, -- taken out; chains that name it say so
  UNIQUE KEY sheets_slug (slug)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE sheet_versions (
  sheet_id BIGINT NOT NULL,
  no INT NOT NULL,
  doc MEDIUMBLOB NOT NULL,
  made TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  PRIMARY KEY (sheet_id, no),
  CONSTRAINT versions_sheet FOREIGN KEY (sheet_id) REFERENCES sheets (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

ALTER TABLE deliveries
  ADD COLUMN purpose VARCHAR(20) NOT NULL DEFAULT 'myself',
  ADD COLUMN options JSON NOT NULL DEFAULT '{}',
  ADD COLUMN sent JSON NOT NULL DEFAULT 'null'; -- what the receiver said, last time

-- +goose Down
ALTER TABLE deliveries DROP COLUMN purpose, DROP COLUMN options, DROP COLUMN sent;
DROP TABLE sheet_versions;
DROP TABLE sheets;
