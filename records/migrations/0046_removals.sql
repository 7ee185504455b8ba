-- How much may be removed at a replica at once, in percent of its files and folders; 0 for any amount. Removals beyond that wait,
-- as JSON, until somebody has decided what becomes of them.
ALTER TABLE replica_sets ADD COLUMN removal_limit INT NOT NULL DEFAULT 0;
ALTER TABLE replicas ADD COLUMN removals TEXT NULL, ADD COLUMN removals_decision VARCHAR(20) NOT NULL DEFAULT '';
UPDATE replica_sets SET removal_limit = 25 WHERE layout = 'hub' AND id IN (SELECT r.set_id FROM replicas r JOIN servers v ON v.id = r.server_id WHERE r.place = 0 AND v.cloud IS NOT NULL);
