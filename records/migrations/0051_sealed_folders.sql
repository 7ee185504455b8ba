-- Folders of buckets whose files are sealed: with which key, and for which recovery keys that is kept in the bucket. A row outlives the
-- cloud set of the folder, since its files cannot be read without the key.
CREATE TABLE sealed_folders (
  server_id BIGINT UNSIGNED NOT NULL,
  bucket VARCHAR(255) NOT NULL,
  folder VARBINARY(1024) NOT NULL,
  names BOOLEAN NOT NULL,
  recipient VARCHAR(100) NOT NULL UNIQUE,
  recovery_keys TEXT NOT NULL,
  secret VARBINARY(1000) NOT NULL,
  created DATETIME(6) NOT NULL,
  created_by VARCHAR(255) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1,
  PRIMARY KEY (server_id, bucket, folder),
  FOREIGN KEY (server_id) REFERENCES servers (id) ON DELETE CASCADE
) ENGINE=InnoDB;
