-- What verifications of replica sets found, and the hashes of what they read.
CREATE TABLE verify_findings (
  run_id BIGINT UNSIGNED NOT NULL,
  seq BIGINT NOT NULL,
  replica VARCHAR(255) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  kind VARCHAR(20) NOT NULL,
  first_text TEXT NOT NULL,
  second_text TEXT NOT NULL,
  explained BOOLEAN NOT NULL,
  why VARCHAR(255) NOT NULL,
  PRIMARY KEY (run_id, seq),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE verify_sums (
  run_id BIGINT UNSIGNED NOT NULL,
  path_hash BINARY(16) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  sum BINARY(32) NOT NULL,
  PRIMARY KEY (run_id, path_hash),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Work that is done again and again. rule says when, in words; next is when it is
-- due, and goes on by a conditional update, so that one instance does it.
CREATE TABLE schedules (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  kind VARCHAR(32) NOT NULL,
  subject VARCHAR(1000) NOT NULL,
  settings MEDIUMTEXT NOT NULL,
  rule VARCHAR(200) NOT NULL,
  enabled BOOLEAN NOT NULL DEFAULT TRUE,
  who VARCHAR(255) NOT NULL,
  created DATETIME(6) NOT NULL,
  next DATETIME(6) NOT NULL,
  last_run BIGINT UNSIGNED NULL,
  version BIGINT NOT NULL DEFAULT 1,
  KEY (enabled, next)
) ENGINE=InnoDB;
