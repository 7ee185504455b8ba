-- Of exclusive work about one subject there is one open run at a time: its key is unique
-- while the run waits or is worked on.
ALTER TABLE runs ADD COLUMN exclusive_key VARBINARY(32) NULL, ADD UNIQUE KEY exclusive_key (exclusive_key);
