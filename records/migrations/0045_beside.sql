-- The file server on the host of a mover, over the same folders: their permissions name its accounts.
ALTER TABLE servers ADD COLUMN beside_id BIGINT UNSIGNED NULL, ADD CONSTRAINT servers_beside FOREIGN KEY (beside_id) REFERENCES servers (id);
