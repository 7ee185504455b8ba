-- Since when an account map pairs accounts otherwise than a replica has them.
ALTER TABLE replicas ADD COLUMN accounts_stale DATETIME(6) NULL;
