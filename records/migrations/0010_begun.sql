-- What is pending at replicas and was begun not long ago, many paths together:
-- most of it is done and noted before anybody asks for it.
CREATE TABLE replica_begun (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  replica_id BIGINT NOT NULL,
  paths MEDIUMBLOB NOT NULL,
  KEY (replica_id)
) ENGINE=InnoDB;

-- Which descriptors are in use is asked for by nobody; the references cost two
-- more keys for every record.
ALTER TABLE replica_records
  DROP FOREIGN KEY replica_records_ibfk_1,
  DROP FOREIGN KEY replica_records_ibfk_2,
  DROP KEY descriptor_id,
  DROP KEY seen_descriptor_id;
