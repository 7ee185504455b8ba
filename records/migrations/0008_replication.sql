-- What was last seen of every path at every replica. A path is found by its
-- folder and its name: paths are longer than keys may be, and what is in one
-- folder is asked for together. Times are nanoseconds since 1970.
CREATE TABLE replica_records (
  replica_id BIGINT NOT NULL,
  folder BINARY(16) NOT NULL,
  name_key VARBINARY(1020) NOT NULL,
  path_key VARBINARY(8192) NOT NULL,
  kind TINYINT NOT NULL,
  name VARBINARY(1020) NOT NULL,
  version VARCHAR(1000) CHARACTER SET ascii NOT NULL,
  size BIGINT NOT NULL,
  modified BIGINT NOT NULL,
  digest BINARY(32) NOT NULL,
  changed BIGINT NOT NULL,
  changed_by BIGINT NOT NULL,
  moved VARBINARY(8192) NOT NULL,
  permissions_version VARCHAR(1000) CHARACTER SET ascii NOT NULL,
  descriptor_id BIGINT UNSIGNED NULL,
  attributes INT UNSIGNED NOT NULL,
  permissions_changed BIGINT NOT NULL,
  permissions_changed_by BIGINT NOT NULL,
  seen_size BIGINT NOT NULL,
  seen_modified BIGINT NOT NULL,
  seen_file BIGINT UNSIGNED NOT NULL,
  seen_descriptor_id BIGINT UNSIGNED NULL,
  seen_attributes INT UNSIGNED NOT NULL,
  pending MEDIUMBLOB NULL,
  unfinished BOOLEAN AS (IF(pending IS NULL, NULL, TRUE)) PERSISTENT,
  PRIMARY KEY (replica_id, folder, name_key),
  KEY (replica_id, seen_file),
  KEY (replica_id, unfinished),
  FOREIGN KEY (descriptor_id) REFERENCES descriptors (id),
  FOREIGN KEY (seen_descriptor_id) REFERENCES descriptors (id)
) ENGINE=InnoDB;

-- The paths that a lane still has to look at. The number is another one every
-- time a path is put there.
CREATE TABLE replica_backlog (
  from_id BIGINT NOT NULL,
  to_id BIGINT NOT NULL,
  folder BINARY(16) NOT NULL,
  name_key VARBINARY(1020) NOT NULL,
  path_key VARBINARY(8192) NOT NULL,
  seq BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (from_id, to_id, folder, name_key),
  KEY (from_id, to_id, seq)
) ENGINE=InnoDB;

-- What replicas keep in their attics.
CREATE TABLE replica_attic (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  replica_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  attic VARBINARY(8192) NOT NULL,
  why ENUM('removed','conflict','replaced','first-fill') NOT NULL,
  KEY (replica_id, at)
) ENGINE=InnoDB;
