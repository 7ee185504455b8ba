-- What an attic keeps has permissions of its own there, and gets back those that it had.
ALTER TABLE replica_attic ADD COLUMN descriptor_id BIGINT UNSIGNED NULL;
