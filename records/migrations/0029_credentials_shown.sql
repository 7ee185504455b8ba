-- People see which sessions and tokens they have, and end them.
ALTER TABLE credentials
  ADD COLUMN id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT UNIQUE FIRST,
  ADD COLUMN used DATETIME(6) NULL,
  ADD COLUMN address VARCHAR(64) NOT NULL DEFAULT '';
