-- Which accounts of two places are those of the same people.
CREATE TABLE account_maps (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL UNIQUE,
  note VARCHAR(1000) NOT NULL,
  rules MEDIUMTEXT NOT NULL,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

-- accounts_of is the server in whose accounts permissions are kept and carried.
ALTER TABLE replica_sets
  MODIFY permissions ENUM('carry','leave','map') NOT NULL,
  ADD COLUMN account_map_id BIGINT UNSIGNED NULL,
  ADD COLUMN accounts_of BIGINT UNSIGNED NULL,
  ADD FOREIGN KEY (account_map_id) REFERENCES account_maps (id),
  ADD FOREIGN KEY (accounts_of) REFERENCES servers (id);

-- What the accounts of a set's permissions are at a replica: those that differ.
CREATE TABLE replica_accounts (
  replica_id BIGINT NOT NULL,
  common VARBINARY(68) NOT NULL,
  own VARBINARY(68) NOT NULL,
  PRIMARY KEY (replica_id, common),
  UNIQUE KEY (replica_id, own),
  FOREIGN KEY (replica_id) REFERENCES replicas (id) ON DELETE CASCADE
) ENGINE=InnoDB;
