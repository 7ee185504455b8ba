-- Where a share lies on its server, and who may come through.
ALTER TABLE shares ADD COLUMN path VARCHAR(1000) NOT NULL DEFAULT '', ADD COLUMN permissions TEXT NOT NULL DEFAULT '';

-- Domains whose accounts are asked for.
CREATE TABLE directories (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(768) NOT NULL UNIQUE,
  sid VARCHAR(190) NOT NULL,
  address VARCHAR(255) NOT NULL,
  port INT NOT NULL,
  account VARCHAR(255) NOT NULL,
  secret VARBINARY(4096) NOT NULL,
  ca TEXT NOT NULL,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

-- Work that takes a while: it has progress, can be stopped and goes on.
CREATE TABLE runs (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  kind VARCHAR(32) NOT NULL,
  subject VARCHAR(1500) NOT NULL,
  state ENUM('waiting','running','stopped','done','failed') NOT NULL,
  stop_wanted BOOLEAN NOT NULL DEFAULT FALSE,
  who VARCHAR(255) NOT NULL,
  created DATETIME(6) NOT NULL,
  started DATETIME(6) NULL,
  ended DATETIME(6) NULL,
  worked_ms BIGINT NOT NULL DEFAULT 0,
  done_count BIGINT NOT NULL DEFAULT 0,
  done_bytes BIGINT NOT NULL DEFAULT 0,
  fraction DOUBLE NOT NULL DEFAULT 0,
  trouble VARCHAR(1000) NOT NULL DEFAULT '',
  settings JSON NOT NULL,
  result LONGTEXT NULL,
  checkpoint LONGBLOB NULL,
  KEY (state),
  KEY (kind, subject(255))
) ENGINE=InnoDB;

-- Equal permissions are stored once.
CREATE TABLE descriptors (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  hash BINARY(32) NOT NULL UNIQUE,
  content MEDIUMBLOB NOT NULL
) ENGINE=InnoDB;

-- What a survey saw of each descriptor.
CREATE TABLE survey_descriptors (
  run_id BIGINT UNSIGNED NOT NULL,
  descriptor_id BIGINT UNSIGNED NOT NULL,
  files BIGINT NOT NULL,
  folders BIGINT NOT NULL,
  sample VARBINARY(4096) NOT NULL,
  PRIMARY KEY (run_id, descriptor_id),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE,
  FOREIGN KEY (descriptor_id) REFERENCES descriptors (id)
) ENGINE=InnoDB;

-- What a change of rights does, object by object, and how to undo it.
CREATE TABLE rights_objects (
  run_id BIGINT UNSIGNED NOT NULL,
  seq BIGINT NOT NULL,
  path VARBINARY(8192) NOT NULL,
  folder BOOLEAN NOT NULL,
  before_id BIGINT UNSIGNED NOT NULL,
  after_id BIGINT UNSIGNED NOT NULL,
  state ENUM('planned','done','failed','undone') NOT NULL,
  trouble VARCHAR(500) NOT NULL DEFAULT '',
  PRIMARY KEY (run_id, seq),
  KEY (run_id, state),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE,
  FOREIGN KEY (before_id) REFERENCES descriptors (id),
  FOREIGN KEY (after_id) REFERENCES descriptors (id)
) ENGINE=InnoDB;
