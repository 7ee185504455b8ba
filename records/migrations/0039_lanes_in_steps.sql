-- Lanes that are new: what they have to carry is put into their backlog in small steps.
ALTER TABLE replica_lanes ADD COLUMN unqueued BOOLEAN NOT NULL DEFAULT FALSE;

-- Lanes that are gone. What waited on them is removed in small steps.
CREATE TABLE forgotten_lanes (
  from_id BIGINT NOT NULL,
  to_id BIGINT NOT NULL,
  PRIMARY KEY (from_id, to_id)
) ENGINE=InnoDB;
