-- Cloud sets that are being set up: what was entered, and what the checks of the steps found.
CREATE TABLE cloud_setups (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  name_key VARBINARY(1020) NOT NULL UNIQUE,
  draft MEDIUMTEXT NOT NULL,
  steps MEDIUMTEXT NOT NULL,
  checked DATETIME(6) NULL,
  start_run BIGINT NOT NULL DEFAULT 0,
  changed DATETIME(6) NOT NULL,
  changed_by VARCHAR(255) NOT NULL,
  version BIGINT NOT NULL DEFAULT 1
) ENGINE=InnoDB;
