-- Whether somebody's change was recorded with an event: then the list of changes is another one.
ALTER TABLE events ADD COLUMN recorded BOOLEAN NOT NULL DEFAULT FALSE;

-- The changes of one subject are looked for whenever somebody was slower than another.
ALTER TABLE changes ADD KEY subject (subject(191), id);

-- What attics keep is added up as it comes and goes.
ALTER TABLE replicas ADD COLUMN attic_items BIGINT NOT NULL DEFAULT 0, ADD COLUMN attic_conflicts BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN attic_bytes BIGINT NOT NULL DEFAULT 0, ADD COLUMN attic_conflict_at DATETIME(6) NULL;

UPDATE replicas r JOIN (SELECT replica_id, COUNT(*) items, SUM(why = 'conflict') conflicts, COALESCE(SUM(size), 0) bytes, MAX(IF(why = 'conflict', at, NULL)) conflict_at
    FROM replica_attic GROUP BY replica_id) a ON a.replica_id = r.id
  SET r.attic_items = a.items, r.attic_conflicts = a.conflicts, r.attic_bytes = a.bytes, r.attic_conflict_at = a.conflict_at;

ALTER TABLE replica_attic ADD KEY path (replica_id, path(191));
