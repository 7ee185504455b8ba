-- Folders that a gateway puts others in the place of: what is hidden meanwhile, should it end in between.
CREATE TABLE gateway_replacements (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  server VARCHAR(255) NOT NULL,
  share VARCHAR(255) NOT NULL,
  sub VARBINARY(8192) NOT NULL,
  final VARBINARY(8192) NOT NULL,
  aside VARBINARY(8192) NOT NULL,
  incoming VARBINARY(8192) NOT NULL,
  copied BOOLEAN NOT NULL,
  until DATETIME(6) NOT NULL,
  KEY (until)
) ENGINE=InnoDB;
