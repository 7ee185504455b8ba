-- What an edge of a cloud set keeps whole, as JSON; NULL keeps everything whole. And what it holds, as JSON.
ALTER TABLE replicas ADD COLUMN edge TEXT NULL, ADD COLUMN edge_figures TEXT NULL;
