-- The name by which people's machines reach a server; empty: its address.
ALTER TABLE servers ADD COLUMN people_name VARCHAR(255) NOT NULL DEFAULT '';

-- Fronts: namespaces as shares of SMB servers, kept by movers beside them.
CREATE TABLE fronts (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  namespace_id BIGINT UNSIGNED NOT NULL,
  branch VARBINARY(1000) NOT NULL,
  server_id BIGINT UNSIGNED NOT NULL,
  share VARCHAR(80) NOT NULL,
  share_key VARCHAR(255) NOT NULL,
  note VARCHAR(1000) NOT NULL DEFAULT '',
  leave_out_failing BOOLEAN NOT NULL DEFAULT FALSE,
  check_domain VARCHAR(255) NOT NULL DEFAULT '',
  check_account VARCHAR(255) NOT NULL DEFAULT '',
  check_secret VARBINARY(2000) NULL,
  state VARCHAR(20) NOT NULL DEFAULT 'new',
  trouble TEXT NOT NULL DEFAULT '',
  since DATETIME(6) NULL,
  folders BIGINT NOT NULL DEFAULT 0,
  links BIGINT NOT NULL DEFAULT 0,
  left_out JSON NULL,
  foreign_names JSON NULL,
  written DATETIME(6) NULL,
  caught_up DATETIME(6) NULL,
  caught_up_changes BIGINT NOT NULL DEFAULT 0,
  last_check JSON NULL,
  version BIGINT NOT NULL DEFAULT 1,
  UNIQUE KEY (server_id, share_key),
  FOREIGN KEY (namespace_id) REFERENCES namespaces (id),
  FOREIGN KEY (server_id) REFERENCES servers (id)
) ENGINE=InnoDB;
