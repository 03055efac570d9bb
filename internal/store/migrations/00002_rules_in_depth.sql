-- +goose Up
-- Rules belong to a repository or to a house.
CREATE TABLE rules_versions_new (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),
  version       INTEGER NOT NULL,
  text          TEXT NOT NULL,
  because       TEXT NOT NULL,
  applied_by    TEXT NOT NULL,
  agreed_by     TEXT NOT NULL DEFAULT '',          -- the second person, where one was needed
  applied_at    DATETIME NOT NULL,
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
INSERT INTO rules_versions_new (id, repository_id, version, text, because, applied_by, applied_at)
  SELECT id, repository_id, version, text, because, applied_by, applied_at FROM rules_versions;
DROP TABLE rules_versions;
ALTER TABLE rules_versions_new RENAME TO rules_versions;
CREATE UNIQUE INDEX rules_versions_once ON rules_versions (ifnull(repository_id, 0), ifnull(house_id, 0), version);

CREATE TABLE rules_proposals (                    -- a loosening that waits for a second person
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),
  based_on      INTEGER NOT NULL,                 -- the version in force when it was made
  text          TEXT NOT NULL,                    -- the new document; empty when it is about a suspension
  protection    TEXT NOT NULL DEFAULT '',         -- the protection to be suspended
  seconds       INTEGER NOT NULL DEFAULT 0,       -- for how long
  because       TEXT NOT NULL,
  proposed_by   TEXT NOT NULL,
  proposed_at   DATETIME NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('open', 'agreed', 'declined', 'overtaken')),
  decided_by    TEXT NOT NULL DEFAULT '',
  decided_at    DATETIME,
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
CREATE INDEX rules_proposals_open ON rules_proposals (repository_id, house_id) WHERE state = 'open';

CREATE TABLE suspensions (                        -- a protection set aside for a time
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),   -- whose document the protection stands in
  protection    TEXT NOT NULL,
  because       TEXT NOT NULL,
  suspended_by  TEXT NOT NULL,
  created_at    DATETIME NOT NULL,
  until         DATETIME NOT NULL,
  ended_at      DATETIME,                         -- when its end was noticed, or brought about
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
CREATE INDEX suspensions_open ON suspensions (repository_id, house_id) WHERE ended_at IS NULL;

CREATE TABLE team_keepers (                       -- who may change a team, besides administrators
  team_id    INTEGER NOT NULL REFERENCES teams (id),
  account_id INTEGER NOT NULL REFERENCES accounts (id),
  PRIMARY KEY (team_id, account_id)
);

CREATE TABLE change_labels (
  change_id INTEGER NOT NULL REFERENCES changes (id),
  label     TEXT NOT NULL,
  set_by    TEXT NOT NULL,
  set_at    DATETIME NOT NULL,
  PRIMARY KEY (change_id, label)
);

CREATE TABLE change_reviewers (                   -- who was asked to review a change, or told of it
  change_id INTEGER NOT NULL REFERENCES changes (id),
  who       TEXT NOT NULL,                        -- a principal, such as team:hydraulics
  optional  BOOLEAN NOT NULL,
  because   TEXT NOT NULL,
  asked_at  DATETIME NOT NULL,
  PRIMARY KEY (change_id, who)
);

ALTER TABLE revisions ADD COLUMN commits TEXT;        -- JSON list of the commits it brings
ALTER TABLE revisions ADD COLUMN commit_authors TEXT; -- JSON list of logins
ALTER TABLE intents ADD COLUMN house_version INTEGER NOT NULL DEFAULT 0;
ALTER TABLE landings ADD COLUMN house_version INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN confirmed_until DATETIME;

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
