-- Since when a lane has been at work without progress, and how often records of a replica
-- contradicted what it showed and were put right.
ALTER TABLE replica_lanes ADD COLUMN stalled DATETIME(6) NULL;
ALTER TABLE replicas ADD COLUMN repairs BIGINT NOT NULL DEFAULT 0;
-- Differences that wait in a backlog for far longer than was forecast.
ALTER TABLE verify_findings ADD COLUMN overdue BOOLEAN NOT NULL DEFAULT FALSE;
