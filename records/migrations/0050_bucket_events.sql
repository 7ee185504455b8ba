-- Folders of replicas that are to be scanned, since event notifications reported changes there. hash is of the folder.
CREATE TABLE replica_changed_folders (
  replica_id BIGINT NOT NULL,
  hash BINARY(16) NOT NULL,
  folder VARBINARY(8192) NOT NULL,
  PRIMARY KEY (replica_id, hash),
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Tokens for the event notifications of object services.
CREATE TABLE bucket_event_tokens (
  server_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  hash BINARY(32) NOT NULL UNIQUE,
  created DATETIME(6) NOT NULL,
  FOREIGN KEY (server_id) REFERENCES servers (id) ON DELETE CASCADE
) ENGINE=InnoDB;
