-- Whether messages to and from a server may pass unsigned, and since when it is left alone
-- because it sent answers that cannot be trusted.
ALTER TABLE servers ADD COLUMN unsigned_messages BOOLEAN NOT NULL DEFAULT FALSE;
ALTER TABLE servers ADD COLUMN untrusted DATETIME(6) NULL;
