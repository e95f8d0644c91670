-- +goose Up
-- Entries get slots that stay with their path when a source is indexed again;
-- an entry's id is source_id * 2^24 + slot. What was indexed before is
-- indexed anew.
ALTER TABLE sources
  ADD COLUMN parent_id BIGINT NULL, -- the source that this one lies within
  ADD COLUMN inside VARCHAR(1100) NOT NULL DEFAULT '', -- its entry there
  ADD COLUMN stamp VARCHAR(100) NOT NULL DEFAULT '', -- changes when the file on disk does
  ADD COLUMN origin VARCHAR(16) NOT NULL DEFAULT 'path', -- path, upload, device
  ADD COLUMN kinds_known BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN links_known BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN rev BIGINT NOT NULL DEFAULT 0, -- rises with every change of the entries or what they ask for
  ADD COLUMN next_slot INT NOT NULL DEFAULT 0,
  ADD COLUMN remarks JSON NOT NULL DEFAULT '[]',
  ADD COLUMN rights JSON NOT NULL DEFAULT '{}', -- owner, licence, what may be done
  ADD CONSTRAINT sources_parent FOREIGN KEY (parent_id) REFERENCES sources (id) ON DELETE CASCADE;

DROP TABLE entries;
CREATE TABLE entries (
  source_id BIGINT NOT NULL,
  slot INT NOT NULL,
  idx INT NOT NULL, -- place in the source's own order
  path VARCHAR(1100) NOT NULL,
  size BIGINT NOT NULL,
  packed BIGINT NOT NULL, -- -1 if unknown
  kind VARCHAR(16) NOT NULL, -- empty until the bytes were looked at
  format VARCHAR(100) NOT NULL,
  error TEXT NOT NULL,
  PRIMARY KEY (source_id, slot),
  CONSTRAINT entries_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What an entry asks for, as it names it.
CREATE TABLE entry_refs (
  source_id BIGINT NOT NULL,
  slot INT NOT NULL, -- of the entry
  no INT NOT NULL,
  ref VARCHAR(700) NOT NULL,
  role VARCHAR(32) NOT NULL,
  PRIMARY KEY (source_id, slot, no),
  CONSTRAINT refs_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- Links that the porter made by hand: what a name stands for.
CREATE TABLE pins (
  project_id BIGINT NOT NULL,
  ref VARCHAR(700) NOT NULL,
  source_label VARCHAR(255) NOT NULL,
  entry_path VARCHAR(1100) NOT NULL,
  PRIMARY KEY (project_id, ref),
  CONSTRAINT pins_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE name_rules (
  project_id BIGINT NOT NULL PRIMARY KEY,
  rules JSON NOT NULL,
  CONSTRAINT rules_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- A choice of entries, by the digest of what it says: its address.
CREATE TABLE selections (
  project_id BIGINT NOT NULL,
  digest CHAR(16) NOT NULL,
  spec JSON NOT NULL,
  PRIMARY KEY (project_id, digest),
  CONSTRAINT selections_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE extractions (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  title VARCHAR(300) NOT NULL,
  dest VARCHAR(4096) NOT NULL, -- folder, or ZIP
  form VARCHAR(8) NOT NULL, -- folder, zip
  policy VARCHAR(16) NOT NULL,
  state VARCHAR(16) NOT NULL DEFAULT 'waiting', -- waiting, running, done, failed, cancelled
  error TEXT NOT NULL,
  entries BIGINT NOT NULL,
  bytes BIGINT NOT NULL,
  summary JSON NOT NULL DEFAULT 'null',
  created TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  CONSTRAINT extractions_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE devices (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  address VARCHAR(300) NOT NULL,
  kind VARCHAR(32) NOT NULL,
  name VARCHAR(200) NOT NULL,
  token VARCHAR(300) NOT NULL,
  CONSTRAINT devices_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  UNIQUE KEY devices_address (project_id, address)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

ALTER TABLE jobs
  ADD COLUMN bytes BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN bytes_total BIGINT NOT NULL DEFAULT 0;

UPDATE sources SET state = 'indexing';
INSERT INTO jobs (project_id, kind, title, args, error)
SELECT project_id, 'index', CONCAT('Indexing ', label), CONCAT('{"id":', id, '}'), '' FROM sources;

-- +goose Down
DROP TABLE devices, extractions, selections, name_rules, pins, entry_refs, entries;
ALTER TABLE jobs DROP COLUMN bytes, DROP COLUMN bytes_total;
ALTER TABLE sources DROP FOREIGN KEY sources_parent;
ALTER TABLE sources DROP COLUMN parent_id, DROP COLUMN inside, DROP COLUMN stamp, DROP COLUMN origin, DROP COLUMN kinds_known,
  DROP COLUMN links_known, DROP COLUMN rev, DROP COLUMN next_slot, DROP COLUMN remarks, DROP COLUMN rights;
