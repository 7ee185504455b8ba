-- A server may be an account at an object service, of which the shares are buckets.
ALTER TABLE servers ADD COLUMN cloud JSON NULL;
