-- When a location is next looked at, instead of when it was last: so that the
-- times of looks can be scattered, and what is due is found without reading all.
ALTER TABLE locations DROP KEY health_tried, DROP COLUMN health_tried,
  ADD COLUMN health_due DATETIME(6) NOT NULL DEFAULT '2000-01-01' AFTER health_since, ADD KEY (health_due);
