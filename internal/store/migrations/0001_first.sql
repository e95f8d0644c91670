-- +goose Up
CREATE TABLE projects (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(200) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1, -- rises with every change that the page should know of
  created TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE sources (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  position INT NOT NULL,
  path VARCHAR(4096) NOT NULL,
  label VARCHAR(255) NOT NULL,
  format VARCHAR(100) NOT NULL DEFAULT '',
  is_layout BOOLEAN NOT NULL DEFAULT FALSE,
  size BIGINT NOT NULL DEFAULT 0,
  state VARCHAR(16) NOT NULL DEFAULT 'indexing', -- indexing, ready, failed
  error TEXT NOT NULL,
  entry_count INT NOT NULL DEFAULT 0,
  problems JSON NOT NULL, -- list of texts
  terms TEXT NOT NULL,
  generation BIGINT NOT NULL DEFAULT 0, -- rises when the entries are indexed again
  CONSTRAINT sources_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  KEY sources_order (project_id, position)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE entries (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  source_id BIGINT NOT NULL,
  idx INT NOT NULL, -- place in the source's own order
  path VARCHAR(1100) NOT NULL,
  size BIGINT NOT NULL,
  packed BIGINT NOT NULL,
  kind VARCHAR(16) NOT NULL,
  format VARCHAR(100) NOT NULL,
  error TEXT NOT NULL,
  CONSTRAINT entries_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE CASCADE,
  UNIQUE KEY entries_place (source_id, idx)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE finds (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  source_id BIGINT NULL,
  source_label VARCHAR(255) NOT NULL,
  entry_path VARCHAR(1100) NOT NULL,
  name VARCHAR(255) NOT NULL,
  state VARCHAR(16) NOT NULL DEFAULT 'decoding', -- decoding, ready, failed
  error JSON NOT NULL DEFAULT 'null',
  scene CHAR(64) NOT NULL DEFAULT '', -- digest of the stored scene
  missing INT NOT NULL DEFAULT 0,
  model JSON NOT NULL DEFAULT 'null', -- what the interface shows of the scene
  CONSTRAINT finds_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  CONSTRAINT finds_source FOREIGN KEY (source_id) REFERENCES sources (id) ON DELETE SET NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE chains (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  find_id BIGINT NOT NULL,
  name VARCHAR(200) NOT NULL,
  target VARCHAR(100) NOT NULL,
  head INT NOT NULL DEFAULT 1, -- the revision that counts; later ones can be had again by redo
  CONSTRAINT chains_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  CONSTRAINT chains_find FOREIGN KEY (find_id) REFERENCES finds (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE chain_revisions (
  chain_id BIGINT NOT NULL,
  no INT NOT NULL,
  steps JSON NOT NULL,
  PRIMARY KEY (chain_id, no),
  CONSTRAINT revisions_chain FOREIGN KEY (chain_id) REFERENCES chains (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- What a step made of a state, by the digest of both.
CREATE TABLE results (
  cache_key CHAR(64) NOT NULL PRIMARY KEY,
  scene CHAR(64) NOT NULL,
  report JSON NOT NULL,
  stats JSON NOT NULL,
  basis JSON NOT NULL,
  seconds DOUBLE NOT NULL,
  error TEXT NOT NULL -- a step that failed fails again
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE deliveries (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  chain_id BIGINT NOT NULL,
  name VARCHAR(255) NOT NULL,
  state VARCHAR(16) NOT NULL DEFAULT 'making', -- making, ready, failed
  error TEXT NOT NULL,
  file CHAR(64) NOT NULL DEFAULT '',
  size BIGINT NOT NULL DEFAULT 0,
  manifest JSON NOT NULL DEFAULT 'null',
  created TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  CONSTRAINT deliveries_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  CONSTRAINT deliveries_chain FOREIGN KEY (chain_id) REFERENCES chains (id) ON DELETE CASCADE
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

CREATE TABLE jobs (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  project_id BIGINT NOT NULL,
  kind VARCHAR(32) NOT NULL,
  title VARCHAR(300) NOT NULL,
  args JSON NOT NULL,
  state VARCHAR(16) NOT NULL DEFAULT 'queued', -- queued, running, done, failed, cancelled
  done BIGINT NOT NULL DEFAULT 0,
  total BIGINT NOT NULL DEFAULT 0,
  unit VARCHAR(32) NOT NULL DEFAULT '',
  error TEXT NOT NULL,
  attempts INT NOT NULL DEFAULT 0,
  cancel BOOLEAN NOT NULL DEFAULT FALSE,
  worker VARCHAR(64) NOT NULL DEFAULT '',
  lease_until TIMESTAMP(3) NULL,
  created TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  started TIMESTAMP(3) NULL,
  ended TIMESTAMP(3) NULL,
  CONSTRAINT jobs_project FOREIGN KEY (project_id) REFERENCES projects (id) ON DELETE CASCADE,
  KEY jobs_state (state, id)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;

-- +goose Down
DROP TABLE jobs, deliveries, results, chain_revisions, chains, finds, entries, sources, projects;
