-- What a lane did not have to carry of what it brought: the receiver had it already.
ALTER TABLE replica_lanes ADD COLUMN spared_bytes BIGINT NOT NULL DEFAULT 0;
