-- A path in a backlog may stand for a folder and all that is right in it, which was
-- so many paths when it was put there.
ALTER TABLE replica_backlog ADD COLUMN whole INT UNSIGNED NOT NULL DEFAULT 0;
