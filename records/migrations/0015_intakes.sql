-- What is on its way in to a replica, and since when something waits for room there.
ALTER TABLE replicas
  ADD COLUMN intake_used BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN intake_full DATETIME(6) NULL;
