-- What a run waits for, when it does nothing else.
ALTER TABLE runs ADD COLUMN waits VARCHAR(1000) NOT NULL DEFAULT '';
