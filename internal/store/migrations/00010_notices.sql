-- +goose Up
CREATE TABLE follows (                            -- what people follow, or want to hear nothing of although it is theirs
  login         TEXT NOT NULL,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER REFERENCES changes (id),  -- NULL: the repository
  muted         BOOLEAN NOT NULL DEFAULT FALSE,
  created_at    DATETIME NOT NULL
);
CREATE UNIQUE INDEX follows_once ON follows (login, repository_id, ifnull(change_id, 0));
CREATE TABLE notices_seen (                       -- up to which line of the journal a person has seen their notices
  login TEXT PRIMARY KEY,
  seq   INTEGER NOT NULL
);
CREATE TABLE feeds (                              -- private addresses of people's Atom feeds; only the hash is kept
  id           INTEGER PRIMARY KEY,
  account_id   INTEGER NOT NULL REFERENCES accounts (id),
  hash         TEXT NOT NULL UNIQUE,
  created_at   DATETIME NOT NULL,
  revoked_at   DATETIME
);
CREATE UNIQUE INDEX feeds_one ON feeds (account_id) WHERE revoked_at IS NULL;
CREATE INDEX journal_lines_subject ON journal_lines (repository_id, subject, seq);
CREATE INDEX reviews_login ON reviews (login);
CREATE INDEX remarks_login ON remarks (login);
CREATE INDEX changes_opener ON changes (opened_by);
CREATE INDEX revisions_pusher ON revisions (pushed_by);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
