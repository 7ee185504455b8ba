-- How people come back to a preferred location that is well again.
ALTER TABLE namespaces ADD COLUMN returns ENUM('at-once','later') NOT NULL DEFAULT 'at-once',
  ADD COLUMN hiding BOOLEAN NOT NULL DEFAULT FALSE;

-- 0: as long as the namespace says.
ALTER TABLE entries ADD COLUMN ttl INT NOT NULL DEFAULT 0;

-- What was last seen of a location, and whether a verification found it to
-- hold what another one holds.
ALTER TABLE locations ADD COLUMN weight INT NOT NULL DEFAULT 1,
  ADD COLUMN health ENUM('','well','read-only','share-missing','folder-missing','refused','broken') NOT NULL DEFAULT '',
  ADD COLUMN health_text VARCHAR(500) NOT NULL DEFAULT '',
  ADD COLUMN health_since DATETIME(6) NULL,
  ADD COLUMN health_tried DATETIME(6) NULL,
  ADD COLUMN health_misses INT NOT NULL DEFAULT 0,
  ADD COLUMN verified_run BIGINT UNSIGNED NULL,
  ADD COLUMN verified_at DATETIME(6) NULL,
  ADD KEY (health_tried);

-- A location that is only for people at some sites.
CREATE TABLE location_sites (
  location_id BIGINT UNSIGNED NOT NULL,
  site_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (location_id, site_id),
  FOREIGN KEY (location_id) REFERENCES locations (id) ON DELETE CASCADE,
  FOREIGN KEY (site_id) REFERENCES sites (id)
) ENGINE=InnoDB;

-- How the health of locations went on, without those who were well all the time.
CREATE TABLE location_health (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  location_id BIGINT UNSIGNED NOT NULL,
  at DATETIME(6) NOT NULL,
  health VARCHAR(32) NOT NULL,
  text VARCHAR(500) NOT NULL DEFAULT '',
  KEY (location_id, at),
  FOREIGN KEY (location_id) REFERENCES locations (id) ON DELETE CASCADE
) ENGINE=InnoDB;

-- The drive letter that an entry was given.
ALTER TABLE entries ADD COLUMN letter VARCHAR(1) NOT NULL DEFAULT '';

-- Which drives and mount points were handed out, to tell what changed since.
CREATE TABLE handouts (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  namespace_id BIGINT UNSIGNED NOT NULL,
  account VARCHAR(255) NOT NULL,
  site VARCHAR(255) NOT NULL DEFAULT '',
  at DATETIME(6) NOT NULL,
  who VARCHAR(255) NOT NULL,
  content LONGTEXT NOT NULL,
  KEY (namespace_id, account, site),
  FOREIGN KEY (namespace_id) REFERENCES namespaces (id) ON DELETE CASCADE
) ENGINE=InnoDB;
