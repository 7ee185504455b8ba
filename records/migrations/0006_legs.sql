-- Speed and cost from the high site to the low one, where they are others.
ALTER TABLE legs ADD COLUMN back_mbit DOUBLE NULL, ADD COLUMN back_cost INT NULL;
