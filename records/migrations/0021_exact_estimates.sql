-- Of which part of its chunks a summary tells: one in two to the power of this. What
-- is to be counted exactly must be read again where that is not all of them.
ALTER TABLE dedup_files ADD COLUMN level TINYINT UNSIGNED NOT NULL DEFAULT 0;
UPDATE dedup_files SET level = ORD(SUBSTRING(summary, 2, 1)) WHERE summary IS NOT NULL;

-- How long processors were busy while a volume was read.
ALTER TABLE dedup_estimates ADD COLUMN busy_ms BIGINT NOT NULL DEFAULT 0;

-- Files are counted as they lie in the table.
ALTER TABLE dedup_files DROP KEY age;

-- The estimate that was counted from the records of a volume as they are; null when
-- they have changed since.
ALTER TABLE dedup_volumes ADD COLUMN counted BIGINT NULL;
