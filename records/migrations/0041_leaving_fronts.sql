-- A front that is being removed is written no more: leaving asks for that, and let_go says that whoever
-- kept it has ended. Until it is gone it can still be taken back.
ALTER TABLE fronts
  ADD COLUMN leaving BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN let_go BOOLEAN NOT NULL DEFAULT FALSE;
