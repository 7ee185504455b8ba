-- Files whose contents an edge was brought before anybody there asked for them, and whether somebody used them then. hash is of the
-- path.
CREATE TABLE edge_prefetches (
  replica_id BIGINT NOT NULL,
  hash BINARY(16) NOT NULL,
  path VARBINARY(8192) NOT NULL,
  bytes BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  seen DATETIME(6) NULL,
  used DATETIME(6) NULL,
  PRIMARY KEY (replica_id, hash),
  KEY (replica_id, at),
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;
