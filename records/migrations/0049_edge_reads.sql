-- What each edge has read from its bucket, by months. The marks are the counters when they were last read: those of a mover begin anew
-- when it is started.
CREATE TABLE edge_reads (
  replica_id BIGINT NOT NULL,
  month DATE NOT NULL,
  bytes BIGINT NOT NULL,
  PRIMARY KEY (replica_id, month),
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE edge_read_marks (
  replica_id BIGINT NOT NULL PRIMARY KEY,
  carried BIGINT NOT NULL,
  fetched BIGINT NOT NULL,
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;
