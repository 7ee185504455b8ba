-- What has come of large files that were broken off on their way to a replica: they go
-- on from there.
CREATE TABLE replica_partials (
  replica_id BIGINT NOT NULL,
  path_hash BINARY(16) NOT NULL,
  path_key VARBINARY(8192) NOT NULL,
  staged VARBINARY(8192) NOT NULL,
  bytes BIGINT NOT NULL,
  digest BINARY(32) NOT NULL,
  kept DATETIME(6) NOT NULL,
  PRIMARY KEY (replica_id, path_hash)
) ENGINE=InnoDB;
