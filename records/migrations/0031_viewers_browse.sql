-- Whether viewers may look into the folders of a server with its administrative account.
ALTER TABLE servers ADD COLUMN viewers_browse BOOLEAN NOT NULL DEFAULT FALSE;
