-- +goose Up
ALTER TABLE remarks ADD COLUMN suggestion TEXT;                         -- what the thread's lines should be; NULL: it suggests nothing
ALTER TABLE remarks ADD COLUMN taken_as TEXT NOT NULL DEFAULT '';       -- the commit that took it in
ALTER TABLE remarks ADD COLUMN taken_by TEXT NOT NULL DEFAULT '';
ALTER TABLE intents ADD COLUMN takes TEXT;                              -- JSON: remarks whose suggestions a push takes in
CREATE TABLE gathered_remarks (                   -- remarks that a reviewer has not sent yet
  id         INTEGER PRIMARY KEY,
  change_id  INTEGER NOT NULL REFERENCES changes (id),
  login      TEXT NOT NULL,
  thread_id  INTEGER REFERENCES threads (id),     -- that it replies in; NULL: it begins one
  thread     TEXT NOT NULL DEFAULT '',            -- JSON: the one that it begins
  text       TEXT NOT NULL,
  suggestion TEXT,
  created_at DATETIME NOT NULL
);
CREATE INDEX gathered_remarks_of ON gathered_remarks (change_id, login);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
