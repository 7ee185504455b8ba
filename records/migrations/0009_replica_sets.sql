-- Replica sets: which folders are kept the same, over which lanes, and when.
CREATE TABLE replica_sets (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL UNIQUE,
  note VARCHAR(1000) NOT NULL,
  layout ENUM('mesh','hub','chain','custom') NOT NULL,
  calendar VARCHAR(2000) NOT NULL,
  filter MEDIUMTEXT NOT NULL,
  permissions ENUM('carry','leave') NOT NULL,
  attic_days INT NOT NULL,
  paused BOOLEAN NOT NULL DEFAULT FALSE,
  created DATETIME(6) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

-- state and trouble say how a replica is; settings is the version of the set
-- that whoever keeps it works with.
CREATE TABLE replicas (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  set_id BIGINT UNSIGNED NOT NULL,
  place INT NOT NULL,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL,
  server_id BIGINT UNSIGNED NOT NULL,
  share VARCHAR(255) NOT NULL,
  sub VARBINARY(4096) NOT NULL,
  seed BOOLEAN NOT NULL,
  intake_quota BIGINT NOT NULL,
  attic_quota BIGINT NOT NULL,
  scanned BOOLEAN NOT NULL DEFAULT FALSE,
  filled BOOLEAN NOT NULL DEFAULT FALSE,
  entries BIGINT NOT NULL DEFAULT 0,
  looked DATETIME(6) NULL,
  look_ms BIGINT NOT NULL DEFAULT 0,
  state VARCHAR(20) NOT NULL DEFAULT 'new',
  trouble VARCHAR(2000) NOT NULL DEFAULT '',
  since DATETIME(6) NULL,
  settings BIGINT NOT NULL DEFAULT 0,
  look_wanted BOOLEAN NOT NULL DEFAULT FALSE,
  picked_up DATETIME(6) NULL,
  UNIQUE KEY (set_id, name_key),
  FOREIGN KEY (set_id) REFERENCES replica_sets (id) ON DELETE CASCADE,
  FOREIGN KEY (server_id) REFERENCES servers (id)
) ENGINE=InnoDB;

-- calendar is NULL where a lane has that of its set.
CREATE TABLE replica_lanes (
  from_id BIGINT NOT NULL,
  to_id BIGINT NOT NULL,
  set_id BIGINT UNSIGNED NOT NULL,
  calendar VARCHAR(2000) NULL,
  closed BOOLEAN NOT NULL DEFAULT FALSE,
  open_until DATETIME(6) NULL,
  state VARCHAR(20) NOT NULL DEFAULT 'new',
  trouble VARCHAR(2000) NOT NULL DEFAULT '',
  until DATETIME(6) NULL,
  backlog_files BIGINT NOT NULL DEFAULT 0,
  backlog_bytes BIGINT NOT NULL DEFAULT 0,
  oldest DATETIME(6) NULL,
  carried_files BIGINT NOT NULL DEFAULT 0,
  carried_bytes BIGINT NOT NULL DEFAULT 0,
  conflicts BIGINT NOT NULL DEFAULT 0,
  rate DOUBLE NOT NULL DEFAULT 0,
  last_carried DATETIME(6) NULL,
  PRIMARY KEY (from_id, to_id),
  KEY (set_id),
  FOREIGN KEY (set_id) REFERENCES replica_sets (id) ON DELETE CASCADE,
  FOREIGN KEY (from_id) REFERENCES replicas (id) ON DELETE CASCADE,
  FOREIGN KEY (to_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- What could not be done at a replica, and is tried again.
CREATE TABLE replica_troubles (
  replica_id BIGINT NOT NULL,
  path_hash BINARY(16) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  problem VARCHAR(2000) NOT NULL,
  since DATETIME(6) NOT NULL,
  last DATETIME(6) NOT NULL,
  times INT NOT NULL,
  PRIMARY KEY (replica_id, path_hash),
  KEY (replica_id, since),
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- How lanes did, minute by minute.
CREATE TABLE replica_samples (
  from_id BIGINT NOT NULL,
  to_id BIGINT NOT NULL,
  at DATETIME NOT NULL,
  backlog_files BIGINT NOT NULL,
  backlog_bytes BIGINT NOT NULL,
  carried_bytes BIGINT NOT NULL,
  PRIMARY KEY (from_id, to_id, at),
  FOREIGN KEY (from_id) REFERENCES replicas (id) ON DELETE CASCADE,
  FOREIGN KEY (to_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- What failed is not tried again before a time, the longer the more often it failed.
ALTER TABLE replica_backlog
  ADD COLUMN queued DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  ADD COLUMN failed INT NOT NULL DEFAULT 0,
  ADD COLUMN later DATETIME(6) NULL;
