-- Administrators see which locks are held, and end them.
ALTER TABLE gateway_locks
  ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE FIRST,
  ADD COLUMN since DATETIME(6) NOT NULL DEFAULT UTC_TIMESTAMP(6),
  ADD KEY (account);
