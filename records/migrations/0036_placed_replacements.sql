-- Whether the new folder of a replacement is in its place: then the old one can go.
ALTER TABLE gateway_replacements ADD COLUMN placed BOOLEAN NOT NULL DEFAULT FALSE;
