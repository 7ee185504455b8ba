-- What large contents that were brought far away are made of, so that later only what
-- changed of them has to go there.
CREATE TABLE chunk_lists (
  digest BINARY(32) NOT NULL PRIMARY KEY,
  kept DATETIME(6) NOT NULL,
  bytes INT UNSIGNED NOT NULL,
  content MEDIUMBLOB NOT NULL,
  KEY (kept, bytes)
) ENGINE=InnoDB;
