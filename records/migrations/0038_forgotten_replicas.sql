-- Replicas that are gone. What is known of what they held is removed in small steps.
CREATE TABLE forgotten_replicas (
  replica_id BIGINT NOT NULL PRIMARY KEY
) ENGINE=InnoDB;
