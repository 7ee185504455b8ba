-- Migrations of shares to other servers: what was entered, and what the checks of the target found.
CREATE TABLE server_migrations (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL UNIQUE,
  draft MEDIUMTEXT NOT NULL,
  checks MEDIUMTEXT NULL,
  checked DATETIME(6) NULL,
  changed DATETIME(6) NOT NULL,
  changed_by VARCHAR(255) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;
