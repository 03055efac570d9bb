-- +goose Up
CREATE TABLE houses (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  created_at DATETIME NOT NULL
);

CREATE TABLE repositories (
  id             INTEGER PRIMARY KEY,
  house_id       INTEGER NOT NULL REFERENCES houses (id),
  name           TEXT NOT NULL UNIQUE,            -- HOUSE/NAME
  default_branch TEXT NOT NULL,
  public         BOOLEAN NOT NULL DEFAULT FALSE,
  changes        INTEGER NOT NULL DEFAULT 0,      -- numbers given out
  created_at     DATETIME NOT NULL
);

CREATE TABLE accounts (
  id         INTEGER PRIMARY KEY,
  login      TEXT NOT NULL UNIQUE,
  name       TEXT NOT NULL,
  email      TEXT NOT NULL,
  robot      BOOLEAN NOT NULL,
  admin      BOOLEAN NOT NULL DEFAULT FALSE,
  disabled   BOOLEAN NOT NULL DEFAULT FALSE,
  created_at DATETIME NOT NULL
);
CREATE INDEX accounts_email ON accounts (email);

CREATE TABLE teams (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  created_at DATETIME NOT NULL
);

CREATE TABLE team_members (
  team_id    INTEGER NOT NULL REFERENCES teams (id),
  account_id INTEGER NOT NULL REFERENCES accounts (id),
  PRIMARY KEY (team_id, account_id)
);

CREATE TABLE grants (
  id            INTEGER PRIMARY KEY,
  account_id    INTEGER REFERENCES accounts (id),
  team_id       INTEGER REFERENCES teams (id),
  house_id      INTEGER REFERENCES houses (id),
  repository_id INTEGER REFERENCES repositories (id),
  role          TEXT NOT NULL CHECK (role IN ('reader', 'writer', 'maintainer', 'keeper')),
  CHECK ((account_id IS NULL) <> (team_id IS NULL)),
  CHECK ((house_id IS NULL) <> (repository_id IS NULL))
);
CREATE UNIQUE INDEX grants_once ON grants
  (ifnull(account_id, 0), ifnull(team_id, 0), ifnull(house_id, 0), ifnull(repository_id, 0));

CREATE TABLE tokens (
  id           INTEGER PRIMARY KEY,
  account_id   INTEGER NOT NULL REFERENCES accounts (id),
  name         TEXT NOT NULL,
  hash         TEXT NOT NULL UNIQUE,              -- SHA-256, hexadecimal
  scope        TEXT NOT NULL CHECK (scope IN ('all', 'read', 'witness', 'runner')),
  expires_at   DATETIME,
  revoked_at   DATETIME,
  last_used_at DATETIME,
  created_at   DATETIME NOT NULL
);

CREATE TABLE token_bindings (                     -- what a witness or runner token is for
  token_id      INTEGER NOT NULL REFERENCES tokens (id),
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  check_name    TEXT NOT NULL,                    -- empty: every check that is a command (runners)
  PRIMARY KEY (token_id, repository_id, check_name)
);

CREATE TABLE sessions (
  hash       TEXT PRIMARY KEY,
  token_id   INTEGER NOT NULL REFERENCES tokens (id),
  expires_at DATETIME NOT NULL
);

CREATE TABLE rules_versions (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  version       INTEGER NOT NULL,
  text          TEXT NOT NULL,
  because       TEXT NOT NULL,
  applied_by    TEXT NOT NULL,
  applied_at    DATETIME NOT NULL,
  UNIQUE (repository_id, version)
);

CREATE TABLE pushed_commits (                     -- whose authenticated push first brought a commit
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  login         TEXT NOT NULL,
  PRIMARY KEY (repository_id, commit_id)
) WITHOUT ROWID;

CREATE TABLE changes (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  number        INTEGER NOT NULL,
  title         TEXT NOT NULL,
  description   TEXT NOT NULL,
  source        TEXT NOT NULL,
  target        TEXT NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('draft', 'open', 'landed', 'closed')),
  revision      INTEGER NOT NULL,
  opened_by     TEXT NOT NULL,
  landed_commit TEXT NOT NULL DEFAULT '',
  created_at    DATETIME NOT NULL,
  updated_at    DATETIME NOT NULL,
  UNIQUE (repository_id, number)
);
CREATE INDEX changes_source ON changes (repository_id, source, state);

CREATE TABLE revisions (
  id           INTEGER PRIMARY KEY,
  change_id    INTEGER NOT NULL REFERENCES changes (id),
  number       INTEGER NOT NULL,
  head         TEXT NOT NULL,
  base         TEXT NOT NULL,                     -- common ancestor with the target when it was made
  pushed_by    TEXT NOT NULL,
  last_pusher  TEXT NOT NULL,                     -- the last to change the difference
  authors      TEXT NOT NULL,                     -- JSON list of logins
  same_as_last BOOLEAN NOT NULL,                  -- brings exactly what the revision before brought
  paths        TEXT NOT NULL,                     -- JSON list, renames at both ends
  files        INTEGER NOT NULL,
  added        INTEGER NOT NULL,                  -- lines
  removed      INTEGER NOT NULL,
  created_at   DATETIME NOT NULL,
  UNIQUE (change_id, number)
);
CREATE INDEX revisions_head ON revisions (head);

CREATE TABLE reviews (
  id           INTEGER PRIMARY KEY,
  change_id    INTEGER NOT NULL REFERENCES changes (id),
  revision     INTEGER NOT NULL,
  login        TEXT NOT NULL,
  verdict      TEXT NOT NULL CHECK (verdict IN ('approve', 'object', 'comment')),
  text         TEXT NOT NULL,
  created_at   DATETIME NOT NULL,
  withdrawn_at DATETIME
);
CREATE INDEX reviews_change ON reviews (change_id);

CREATE TABLE check_runs (                         -- one attempt of one check on one commit
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  name          TEXT NOT NULL,
  attempt       INTEGER NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'passed', 'failed', 'errored', 'skipped', 'cancelled')),
  link          TEXT NOT NULL DEFAULT '',
  summary       TEXT NOT NULL DEFAULT '',
  log           TEXT NOT NULL DEFAULT '',         -- the tail
  reported_by   TEXT NOT NULL DEFAULT '',
  runner        BOOLEAN NOT NULL DEFAULT FALSE,
  command       TEXT NOT NULL DEFAULT '',
  limit_seconds INTEGER NOT NULL DEFAULT 0,
  asked_for     TEXT NOT NULL DEFAULT '',         -- such as change/4 or rehearsal/7; empty: nobody asked
  lease_hash    TEXT NOT NULL DEFAULT '',
  lease_until   DATETIME,
  started_at    DATETIME,
  finished_at   DATETIME,
  created_at    DATETIME NOT NULL,
  UNIQUE (repository_id, commit_id, name, attempt)
);
CREATE INDEX check_runs_open ON check_runs (repository_id, state) WHERE state IN ('waiting', 'running');
CREATE INDEX check_runs_names ON check_runs (repository_id, name);

CREATE TABLE entries (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER NOT NULL REFERENCES changes (id),
  target        TEXT NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('waiting', 'lined-up', 'rehearsing', 'landing', 'landed', 'ejected', 'withdrawn')),
  place         INTEGER NOT NULL,
  strategy      TEXT NOT NULL,
  message       TEXT NOT NULL,
  remove_source BOOLEAN NOT NULL,
  joined_by     TEXT NOT NULL,
  reason        TEXT NOT NULL DEFAULT '',
  created_at    DATETIME NOT NULL,
  ended_at      DATETIME
);
CREATE UNIQUE INDEX entries_one_alive ON entries (change_id) WHERE state IN ('waiting', 'lined-up', 'rehearsing', 'landing');
CREATE INDEX entries_target ON entries (repository_id, target, state);

CREATE TABLE rehearsals (                         -- written before it is built, so that building again gives the same commit
  id           INTEGER PRIMARY KEY,
  entry_id     INTEGER NOT NULL REFERENCES entries (id),
  revision     INTEGER NOT NULL,
  base         TEXT NOT NULL,
  head         TEXT NOT NULL,
  strategy     TEXT NOT NULL,
  message      TEXT NOT NULL,
  author_name  TEXT NOT NULL,
  author_email TEXT NOT NULL,
  authored_at  DATETIME NOT NULL,
  committed_at DATETIME NOT NULL,
  approvers    TEXT NOT NULL,                     -- JSON list of the logins that the message names
  commit_id    TEXT NOT NULL DEFAULT '',
  tree         TEXT NOT NULL DEFAULT '',
  ended        TEXT NOT NULL DEFAULT '',          -- why it is of no more use; empty while it is
  created_at   DATETIME NOT NULL
);
CREATE INDEX rehearsals_entry ON rehearsals (entry_id);

CREATE TABLE intents (                            -- a protected branch is about to move
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  kind          TEXT NOT NULL CHECK (kind IN ('landing', 'push')),
  ref           TEXT NOT NULL,
  old           TEXT NOT NULL,
  new           TEXT NOT NULL,
  actor         TEXT NOT NULL,
  entry_id      INTEGER REFERENCES entries (id),
  rehearsal_id  INTEGER REFERENCES rehearsals (id),
  revision      INTEGER NOT NULL DEFAULT 0,
  rules_version INTEGER NOT NULL,
  facts         TEXT NOT NULL,                    -- JSON
  digest        TEXT NOT NULL,                    -- SHA-256 of the facts
  outcome       TEXT NOT NULL DEFAULT '',         -- done, dropped or lost; empty while open
  created_at    DATETIME NOT NULL
);
CREATE INDEX intents_open ON intents (repository_id) WHERE outcome = '';

CREATE TABLE landings (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER NOT NULL REFERENCES changes (id),
  entry_id      INTEGER NOT NULL UNIQUE REFERENCES entries (id),
  intent_id     INTEGER NOT NULL UNIQUE REFERENCES intents (id),
  old           TEXT NOT NULL,
  new           TEXT NOT NULL,
  strategy      TEXT NOT NULL,
  revision      INTEGER NOT NULL,
  rules_version INTEGER NOT NULL,
  evidence      TEXT NOT NULL,                    -- a DSSE envelope
  landed_by     TEXT NOT NULL,
  landed_at     DATETIME NOT NULL
);
CREATE INDEX landings_commit ON landings (repository_id, new);

CREATE TABLE journal_lines (
  seq           INTEGER PRIMARY KEY,
  at            TEXT NOT NULL,                    -- RFC 3339 with nanoseconds, as hashed
  actor         TEXT NOT NULL,
  kind          TEXT NOT NULL,
  repository_id INTEGER NOT NULL,                 -- 0: none
  repository    TEXT NOT NULL,
  subject       TEXT NOT NULL,
  text          TEXT NOT NULL,
  data          TEXT NOT NULL,
  prev          TEXT NOT NULL,
  hash          TEXT NOT NULL
);
CREATE INDEX journal_lines_repository ON journal_lines (repository_id, seq);
-- +goose StatementBegin
CREATE TRIGGER journal_lines_follow BEFORE INSERT ON journal_lines
WHEN NEW.seq <> (SELECT ifnull(max(seq), 0) + 1 FROM journal_lines)
BEGIN
  SELECT raise(ABORT, 'the journal has no gaps and no second line of a number');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_lines_stay BEFORE UPDATE ON journal_lines
BEGIN
  SELECT raise(ABORT, 'the journal is append-only');
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER journal_lines_stay_too BEFORE DELETE ON journal_lines
BEGIN
  SELECT raise(ABORT, 'the journal is append-only');
END;
-- +goose StatementEnd

-- +goose Down
SELECT raise(ABORT, 'there is no version before the first');
