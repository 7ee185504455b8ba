-- How often a bucket is scanned, in minutes; 0 is the usual.
ALTER TABLE replicas ADD COLUMN sweep_min INT NOT NULL DEFAULT 0;
