-- Volumes whose deduplication is estimated: shares, or folders of them, that are
-- looked at together, and how they were read. What was read in another way is of no use.
CREATE TABLE dedup_volumes (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL UNIQUE,
  places MEDIUMBLOB NOT NULL,
  profile VARCHAR(40) CHARACTER SET ascii NOT NULL,
  compression TINYINT NOT NULL,
  proof MEDIUMBLOB NULL,
  created DATETIME(6) NOT NULL
) ENGINE=InnoDB;

-- What is known of their files. Times are nanoseconds since 1970. A file whose
-- content is not known has a word for why, and no summary; folders have neither.
CREATE TABLE dedup_files (
  volume_id BIGINT NOT NULL,
  folder BINARY(16) NOT NULL,
  name VARBINARY(1020) NOT NULL,
  place SMALLINT NOT NULL,
  path VARBINARY(8192) NOT NULL,
  is_folder BOOLEAN NOT NULL,
  size BIGINT NOT NULL,
  allocated BIGINT NOT NULL,
  modified BIGINT NOT NULL,
  file_id BIGINT UNSIGNED NOT NULL,
  owner VARCHAR(200) CHARACTER SET ascii NOT NULL,
  unread VARCHAR(200) NULL,
  digest BINARY(16) NULL,
  summary MEDIUMBLOB NULL,
  parts INT NOT NULL,
  PRIMARY KEY (volume_id, folder, name),
  KEY age (volume_id, is_folder, modified),
  KEY same (volume_id, digest),
  KEY numbered (volume_id, file_id),
  KEY open_work (volume_id, unread),
  FOREIGN KEY (volume_id) REFERENCES dedup_volumes (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Of large files, the rest of the summary, in parts that fit into one statement: from
-- 1 to as many as the file says; any beyond that are left from before.
CREATE TABLE dedup_parts (
  volume_id BIGINT NOT NULL,
  folder BINARY(16) NOT NULL,
  name VARBINARY(1020) NOT NULL,
  part INT NOT NULL,
  summary MEDIUMBLOB NOT NULL,
  PRIMARY KEY (volume_id, folder, name, part),
  FOREIGN KEY (volume_id) REFERENCES dedup_volumes (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- What estimates came to, for the trend of a volume: what each found is with its run.
CREATE TABLE dedup_estimates (
  run_id BIGINT NOT NULL PRIMARY KEY,
  volume_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  totals MEDIUMBLOB NOT NULL,
  capacity BIGINT NOT NULL,
  free BIGINT NOT NULL,
  read_bytes BIGINT NOT NULL,
  read_ms BIGINT NOT NULL,
  KEY (volume_id, at),
  FOREIGN KEY (volume_id) REFERENCES dedup_volumes (id) ON DELETE CASCADE
) ENGINE=InnoDB;
