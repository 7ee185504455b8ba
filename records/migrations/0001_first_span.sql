-- Users, sessions and tokens.
CREATE TABLE users (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(768) NOT NULL UNIQUE,
  password_hash VARCHAR(255) NOT NULL,
  role ENUM('viewer','operator','administrator') NOT NULL,
  created DATETIME(6) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

-- A credential is a session of the console or a token of the command line; only its hash is kept.
CREATE TABLE credentials (
  hash BINARY(32) NOT NULL PRIMARY KEY,
  user_id BIGINT UNSIGNED NOT NULL,
  kind ENUM('session','token') NOT NULL,
  label VARCHAR(255) NOT NULL,
  csrf VARCHAR(64) NOT NULL,
  created DATETIME(6) NOT NULL,
  expires DATETIME(6) NOT NULL,
  FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE,
  KEY (expires)
) ENGINE=InnoDB;

-- Places.
CREATE TABLE sites (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(768) NOT NULL UNIQUE,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

CREATE TABLE legs (
  low_site BIGINT UNSIGNED NOT NULL,
  high_site BIGINT UNSIGNED NOT NULL,
  mbit DOUBLE NOT NULL,
  rtt_ms DOUBLE NOT NULL,
  cost INT NOT NULL,
  version BIGINT NOT NULL DEFAULT 1,
  PRIMARY KEY (low_site, high_site),
  FOREIGN KEY (low_site) REFERENCES sites (id) ON DELETE CASCADE,
  FOREIGN KEY (high_site) REFERENCES sites (id) ON DELETE CASCADE
) ENGINE=InnoDB;

CREATE TABLE servers (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(768) NOT NULL UNIQUE,
  site_id BIGINT UNSIGNED NOT NULL,
  address VARCHAR(255) NOT NULL,
  port INT NOT NULL,
  domain VARCHAR(255) NOT NULL DEFAULT '',
  account VARCHAR(255) NOT NULL,
  secret VARBINARY(4096) NOT NULL,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  reachable BOOLEAN NULL,
  since DATETIME(6) NULL,
  trouble VARCHAR(1000) NOT NULL DEFAULT '',
  last_check JSON NULL,
  version BIGINT NOT NULL DEFAULT 1,
  FOREIGN KEY (site_id) REFERENCES sites (id)
) ENGINE=InnoDB;

CREATE TABLE shares (
  server_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(768) NOT NULL,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  kind VARCHAR(32) NOT NULL,
  hidden BOOLEAN NOT NULL,
  seen DATETIME(6) NOT NULL,
  PRIMARY KEY (server_id, name_key),
  FOREIGN KEY (server_id) REFERENCES servers (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- Names.
CREATE TABLE namespaces (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(63) NOT NULL UNIQUE,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  ttl INT NOT NULL DEFAULT 300,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;

-- path_key is the path as it is compared: NFC, folded for case.
CREATE TABLE entries (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  namespace_id BIGINT UNSIGNED NOT NULL,
  path VARBINARY(1000) NOT NULL,
  path_key VARBINARY(2000) NOT NULL,
  kind ENUM('folder','signpost') NOT NULL,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  version BIGINT NOT NULL DEFAULT 1,
  UNIQUE KEY (namespace_id, path_key),
  FOREIGN KEY (namespace_id) REFERENCES namespaces (id)
) ENGINE=InnoDB;

CREATE TABLE locations (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  entry_id BIGINT UNSIGNED NOT NULL,
  server_id BIGINT UNSIGNED NOT NULL,
  share VARCHAR(255) NOT NULL,
  sub VARBINARY(1000) NOT NULL DEFAULT '',
  state ENUM('open','held') NOT NULL,
  why VARCHAR(255) NOT NULL DEFAULT '',
  placement ENUM('first','normal','last') NOT NULL DEFAULT 'normal',
  KEY (entry_id),
  FOREIGN KEY (entry_id) REFERENCES entries (id) ON DELETE CASCADE,
  FOREIGN KEY (server_id) REFERENCES servers (id)
) ENGINE=InnoDB;

-- What was changed, and what others should read again.
CREATE TABLE changes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  who VARCHAR(255) NOT NULL,
  action VARCHAR(64) NOT NULL,
  subject VARCHAR(1500) NOT NULL,
  before_state JSON NULL,
  after_state JSON NULL
) ENGINE=InnoDB;

CREATE TABLE events (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  topic VARCHAR(64) NOT NULL,
  subject VARCHAR(1500) NOT NULL,
  KEY (at)
) ENGINE=InnoDB;
