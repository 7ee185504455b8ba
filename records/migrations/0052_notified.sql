-- When an event notification last reported a change in the bucket of a replica.
ALTER TABLE replicas ADD COLUMN notified DATETIME(6) NULL;
