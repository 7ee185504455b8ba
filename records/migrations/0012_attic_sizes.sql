-- How large what attics keep is, so that they can be bounded.
ALTER TABLE replica_attic ADD COLUMN size BIGINT NOT NULL DEFAULT 0;

-- Who holds a file that could not be carried, where the server tells, and
-- whether it is one that is in use.
ALTER TABLE replica_troubles
  ADD COLUMN in_use BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN holder VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN folder BINARY(16) NOT NULL DEFAULT '',
  ADD COLUMN name_key VARBINARY(1020) NOT NULL DEFAULT '';

-- How long what failed is left alone: at first, and at most, in seconds; and
-- after how many tries somebody is to look at it.
ALTER TABLE replica_sets
  ADD COLUMN retry_first INT NOT NULL DEFAULT 5,
  ADD COLUMN retry_most INT NOT NULL DEFAULT 600,
  ADD COLUMN retry_alert INT NOT NULL DEFAULT 10;
