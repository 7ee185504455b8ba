-- Why a path could not be read by a comparison of permissions.
ALTER TABLE rights_differences ADD COLUMN unread TEXT NOT NULL DEFAULT '';
