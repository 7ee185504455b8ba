-- What was foretold of a set before it was made, and when it came true.
ALTER TABLE replica_sets ADD COLUMN plan_run BIGINT UNSIGNED NULL;
ALTER TABLE replicas ADD COLUMN filled_at DATETIME(6) NULL;
