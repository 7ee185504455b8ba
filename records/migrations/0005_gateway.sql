-- What clients of the gateways leave at names: locks and properties. A key is a
-- path in the form in which paths are compared; above is the SHA-256 of the key
-- of the folder that the name is in.

CREATE TABLE gateway_locks (
  token VARCHAR(64) CHARACTER SET ascii NOT NULL PRIMARY KEY,
  path_key VARBINARY(2048) NOT NULL,
  path TEXT NOT NULL,
  account VARCHAR(255) NOT NULL,
  owner TEXT NOT NULL,
  shared BOOLEAN NOT NULL,
  deep BOOLEAN NOT NULL,
  until DATETIME(6) NOT NULL,
  KEY (path_key),
  KEY (until)
) ENGINE=InnoDB;

CREATE TABLE gateway_properties (
  path_key VARBINARY(2048) NOT NULL PRIMARY KEY,
  above BINARY(32) NOT NULL,
  properties MEDIUMTEXT NOT NULL,
  KEY (above)
) ENGINE=InnoDB;

-- Whoever takes a lock changes this row: so that of two who take one at the
-- same time, at whichever database server, the second sees what the first took.
CREATE TABLE gateway_turns (
  id TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  turn BIGINT UNSIGNED NOT NULL
) ENGINE=InnoDB;
INSERT INTO gateway_turns (id, turn) VALUES (1, 0);
