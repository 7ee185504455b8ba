-- The sealed password of the user at the proxy of a cloud account.
ALTER TABLE servers ADD COLUMN proxy_secret VARBINARY(2000) NULL;
