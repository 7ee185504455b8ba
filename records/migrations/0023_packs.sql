-- Records of replicas, many to a row: those of paths right in one folder of which
-- nothing was known before. A row of replica_records stands above them.
CREATE TABLE replica_packs (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  replica_id BIGINT NOT NULL,
  folder BINARY(16) NOT NULL,
  first_name VARBINARY(1020) NOT NULL,
  last_name VARBINARY(1020) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  entries INT UNSIGNED NOT NULL,
  bytes BIGINT NOT NULL,
  marks MEDIUMBLOB NOT NULL,
  content MEDIUMBLOB NOT NULL,
  KEY (replica_id),
  KEY (replica_id, folder, first_name, last_name)
) ENGINE=InnoDB;
