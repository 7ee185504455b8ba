-- Where the permissions of two folders and all below them differ. One without
-- permissions is missing there.
CREATE TABLE rights_differences (
  run_id BIGINT UNSIGNED NOT NULL,
  seq BIGINT NOT NULL,
  path VARBINARY(8192) NOT NULL,
  folder BOOLEAN NOT NULL,
  first_id BIGINT UNSIGNED NULL,
  second_id BIGINT UNSIGNED NULL,
  PRIMARY KEY (run_id, seq),
  FOREIGN KEY (run_id) REFERENCES runs (id) ON DELETE CASCADE,
  FOREIGN KEY (first_id) REFERENCES descriptors (id),
  FOREIGN KEY (second_id) REFERENCES descriptors (id)
) ENGINE=InnoDB;
