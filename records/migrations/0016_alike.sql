-- Files that may be copies of each other are found by their size and time.
ALTER TABLE replica_records ADD KEY alike (replica_id, size, modified);
