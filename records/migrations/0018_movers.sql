-- Hosts where a mover runs are servers that are known by a certificate.
ALTER TABLE servers ADD COLUMN certificate VARCHAR(64) NOT NULL DEFAULT '' AFTER account;
