-- +goose Up

-- Houses and repositories.

CREATE TABLE houses (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  created_at DATETIME NOT NULL
);

CREATE TABLE repositories (
  id             INTEGER PRIMARY KEY,
  house_id       INTEGER NOT NULL REFERENCES houses (id),
  name           TEXT NOT NULL UNIQUE,              -- HOUSE/NAME
  description    TEXT NOT NULL DEFAULT '',          -- one line
  default_branch TEXT NOT NULL,
  public         BOOLEAN NOT NULL DEFAULT FALSE,
  read_only      TEXT NOT NULL DEFAULT '',          -- why a maintainer made it read-only; empty: it is not
  changes        INTEGER NOT NULL DEFAULT 0,        -- numbers given out
  trouble        TEXT NOT NULL DEFAULT '',          -- why it is stopped and read-only; empty: it is not
  trouble_since  DATETIME,
  deleted_by     TEXT NOT NULL DEFAULT '',
  deleted_at     DATETIME,                          -- since when it is to be seen by nobody; it can come back for a while
  purged         BOOLEAN NOT NULL DEFAULT FALSE,    -- what Git had of it is gone, and its name is free
  created_at     DATETIME NOT NULL
);

-- The names that repositories had before, until another takes the name.
CREATE TABLE former_names (
  name          TEXT PRIMARY KEY,                   -- HOUSE/NAME
  repository_id INTEGER NOT NULL REFERENCES repositories (id)
);
CREATE INDEX former_names_by_repository ON former_names (repository_id);

-- Who it is and what they may do.

CREATE TABLE accounts (
  id         INTEGER PRIMARY KEY,
  login      TEXT NOT NULL UNIQUE,
  name       TEXT NOT NULL,
  email      TEXT NOT NULL,
  robot      BOOLEAN NOT NULL,
  admin      BOOLEAN NOT NULL DEFAULT FALSE,
  disabled   BOOLEAN NOT NULL DEFAULT FALSE,
  made_for   INTEGER REFERENCES repositories (id),  -- whose maintainers made it, of a check robot of theirs
  created_at DATETIME NOT NULL
);
CREATE INDEX accounts_email ON accounts (email);

CREATE TABLE account_keys (                         -- public keys by which people sign commits
  id          INTEGER PRIMARY KEY,
  account_id  INTEGER NOT NULL REFERENCES accounts (id),
  name        TEXT NOT NULL,
  fingerprint TEXT NOT NULL,                        -- SHA-256, as ssh-keygen shows it
  text        TEXT NOT NULL,                        -- in the form of authorized_keys, without comment
  removed_at  DATETIME,                             -- it counts no more, also for what was signed before
  created_at  DATETIME NOT NULL
);
CREATE UNIQUE INDEX account_keys_once ON account_keys (fingerprint) WHERE removed_at IS NULL;

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

CREATE INDEX team_members_account ON team_members (account_id);

CREATE TABLE team_managers (                         -- who may change a team, besides administrators
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
  role          TEXT NOT NULL CHECK (role IN ('reader', 'writer', 'maintainer')),
  CHECK ((account_id IS NULL) <> (team_id IS NULL)),
  CHECK ((house_id IS NULL) <> (repository_id IS NULL))
);
CREATE UNIQUE INDEX grants_once ON grants (ifnull(account_id, 0), ifnull(team_id, 0), ifnull(house_id, 0), ifnull(repository_id, 0));
CREATE INDEX grants_account ON grants (account_id);
CREATE INDEX grants_team ON grants (team_id);
CREATE INDEX grants_house ON grants (house_id);
CREATE INDEX grants_repository ON grants (repository_id);

CREATE TABLE tokens (
  id           INTEGER PRIMARY KEY,
  account_id   INTEGER NOT NULL REFERENCES accounts (id),
  name         TEXT NOT NULL,
  hash         TEXT NOT NULL UNIQUE,                -- SHA-256, hexadecimal
  scope        TEXT NOT NULL CHECK (scope IN ('all', 'read', 'checks', 'runner')),
  expires_at   DATETIME,
  revoked_at   DATETIME,
  last_used_at DATETIME,
  refused_at   DATETIME,                            -- when a refusal of it was last put on record
  created_at   DATETIME NOT NULL
);

CREATE TABLE token_bindings (                       -- what a check robot or runner token is for
  token_id      INTEGER NOT NULL REFERENCES tokens (id),
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  check_name    TEXT NOT NULL,                      -- empty: every check that is a command (runners)
  PRIMARY KEY (token_id, repository_id, check_name)
);

CREATE TABLE sessions (
  hash            TEXT PRIMARY KEY,
  token_id        INTEGER NOT NULL REFERENCES tokens (id),
  expires_at      DATETIME NOT NULL,
  confirmed_until DATETIME                          -- until when it may change rules and access
);

-- Rules.

CREATE TABLE rules_versions (
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),
  version       INTEGER NOT NULL,
  text          TEXT NOT NULL,
  reason        TEXT NOT NULL,
  applied_by    TEXT NOT NULL,
  agreed_by     TEXT NOT NULL DEFAULT '',           -- the second person, where one was needed
  applied_at    DATETIME NOT NULL,
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
CREATE UNIQUE INDEX rules_versions_once ON rules_versions (ifnull(repository_id, 0), ifnull(house_id, 0), version);
CREATE INDEX rules_versions_repository ON rules_versions (repository_id, version);
CREATE INDEX rules_versions_house ON rules_versions (house_id, version);

CREATE TABLE rules_due (                            -- repositories whose open changes are still to be looked at under other rules
  repository_id INTEGER PRIMARY KEY REFERENCES repositories (id),
  after         INTEGER NOT NULL,                   -- the number of the change up to which that was done
  since         DATETIME NOT NULL
);

CREATE TABLE rules_proposals (                      -- a loosening that waits for a second person
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),
  based_on      INTEGER NOT NULL,                   -- the version in force when it was made
  text          TEXT NOT NULL,                      -- the new document; empty when it is about a suspension
  protection    TEXT NOT NULL DEFAULT '',           -- the protection to be suspended
  seconds       INTEGER NOT NULL DEFAULT 0,         -- for how long
  reason        TEXT NOT NULL,
  proposed_by   TEXT NOT NULL,
  proposed_at   DATETIME NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('open', 'agreed', 'declined', 'overtaken')),
  decided_by    TEXT NOT NULL DEFAULT '',
  decided_at    DATETIME,
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
CREATE INDEX rules_proposals_open ON rules_proposals (repository_id, house_id) WHERE state = 'open';
CREATE INDEX rules_proposals_state ON rules_proposals (state, id);

CREATE TABLE suspensions (                          -- a protection out of force for a time
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER REFERENCES repositories (id),
  house_id      INTEGER REFERENCES houses (id),     -- whose document the protection stands in
  protection    TEXT NOT NULL,
  reason        TEXT NOT NULL,
  suspended_by  TEXT NOT NULL,
  until         DATETIME NOT NULL,
  ended_at      DATETIME,                           -- when its end was noticed, or brought about
  created_at    DATETIME NOT NULL,
  CHECK ((repository_id IS NULL) <> (house_id IS NULL))
);
CREATE INDEX suspensions_open ON suspensions (repository_id, house_id) WHERE ended_at IS NULL;
CREATE INDEX suspensions_live ON suspensions (id) WHERE ended_at IS NULL;

-- Changes.

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
  undoes        INTEGER NOT NULL DEFAULT 0,         -- number of the change whose landing it was prepared to take back
  undo_head     TEXT NOT NULL DEFAULT '',           -- the commit that was prepared
  updated_at    DATETIME NOT NULL,
  created_at    DATETIME NOT NULL,
  UNIQUE (repository_id, number)
);
CREATE INDEX changes_source ON changes (repository_id, source, state);
CREATE INDEX changes_opener ON changes (opened_by);
CREATE INDEX changes_state ON changes (repository_id, state, number);
CREATE INDEX changes_open ON changes (repository_id, number) WHERE state IN ('draft', 'open');
CREATE INDEX changes_target ON changes (repository_id, target, number);

CREATE TABLE change_labels (
  change_id INTEGER NOT NULL REFERENCES changes (id),
  label     TEXT NOT NULL,
  set_by    TEXT NOT NULL,
  set_at    DATETIME NOT NULL,
  PRIMARY KEY (change_id, label)
);

CREATE TABLE change_reviewers (                     -- who was asked to review a change, or told of it
  change_id INTEGER NOT NULL REFERENCES changes (id),
  who       TEXT NOT NULL,                          -- a principal, such as team:hydraulics
  optional  BOOLEAN NOT NULL,
  reason    TEXT NOT NULL,
  asked_at  DATETIME NOT NULL,
  PRIMARY KEY (change_id, who)
);
CREATE INDEX change_reviewers_who ON change_reviewers (who, change_id);

CREATE TABLE change_dependencies (                  -- a change that another one waits for
  change_id INTEGER NOT NULL REFERENCES changes (id),
  on_id     INTEGER NOT NULL REFERENCES changes (id),
  PRIMARY KEY (change_id, on_id),
  CHECK (change_id <> on_id)
);
CREATE INDEX change_dependencies_on ON change_dependencies (on_id);

CREATE TABLE revisions (
  id             INTEGER PRIMARY KEY,
  change_id      INTEGER NOT NULL REFERENCES changes (id),
  number         INTEGER NOT NULL,
  head           TEXT NOT NULL,
  base           TEXT NOT NULL,                     -- common ancestor with the target when it was made
  pushed_by      TEXT NOT NULL,
  last_pusher    TEXT NOT NULL,                     -- the last to change the difference
  authors        TEXT NOT NULL,                     -- JSON list of logins
  same_as_last   BOOLEAN NOT NULL,                  -- brings exactly what the revision before brought
  paths          TEXT NOT NULL,                     -- JSON list, renames at both ends
  ways           TEXT DEFAULT '{}',                 -- JSON: which of them are added, removed or renamed
  files          INTEGER NOT NULL,
  added          INTEGER NOT NULL,                  -- lines
  removed        INTEGER NOT NULL,
  commits        TEXT,                              -- JSON: those that it brings
  commit_authors TEXT,                              -- JSON list of logins
  kind           TEXT NOT NULL DEFAULT '',          -- first, added, rebased, folded, rewritten or retargeted
  same_as        TEXT DEFAULT '[]',                 -- JSON list: earlier revisions that bring the same
  bases          INTEGER NOT NULL DEFAULT 1,        -- best common ancestors with the target
  history        TEXT DEFAULT '{}',                 -- JSON: what the commits bring one by one
  created_at     DATETIME NOT NULL,
  UNIQUE (change_id, number)
);
CREATE INDEX revisions_head ON revisions (head);
CREATE INDEX revisions_pusher ON revisions (pushed_by);

CREATE TABLE pushed_commits (                       -- whose pushes brought a commit, or pointed at one that rode along in another's
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  login         TEXT NOT NULL,
  PRIMARY KEY (repository_id, commit_id, login)
) WITHOUT ROWID;

CREATE TABLE reviews (
  id           INTEGER PRIMARY KEY,
  change_id    INTEGER NOT NULL REFERENCES changes (id),
  revision     INTEGER NOT NULL,
  login        TEXT NOT NULL,
  verdict      TEXT NOT NULL CHECK (verdict IN ('approve', 'object', 'comment')),
  text         TEXT NOT NULL,
  withdrawn_at DATETIME,
  title        TEXT NOT NULL DEFAULT '',            -- the change's when it was given
  description  TEXT NOT NULL DEFAULT '',
  teams        TEXT DEFAULT '[]',                   -- JSON list: of who gave it, then
  created_at   DATETIME NOT NULL
);
CREATE INDEX reviews_change ON reviews (change_id);
CREATE INDEX reviews_login ON reviews (login);

CREATE TABLE threads (                              -- discussions about a change
  id           INTEGER PRIMARY KEY,
  change_id    INTEGER NOT NULL REFERENCES changes (id),
  revision     INTEGER NOT NULL,                    -- the one that was looked at
  commit_id    TEXT NOT NULL DEFAULT '',            -- of a commit; empty: of the whole difference
  path         TEXT NOT NULL DEFAULT '',            -- of a file; empty: of the change or commit
  before       BOOLEAN NOT NULL DEFAULT FALSE,      -- lines are those of the file before the change
  first_line   INTEGER NOT NULL DEFAULT 0,          -- counted from 1; 0: the file
  last_line    INTEGER NOT NULL DEFAULT 0,
  quoted       TEXT NOT NULL DEFAULT '',            -- the lines as they were
  needs_answer BOOLEAN NOT NULL,
  begun_by     TEXT NOT NULL,
  begun_at     DATETIME NOT NULL,
  resolved_by   TEXT NOT NULL DEFAULT '',
  resolved_at   DATETIME,
  outcome      TEXT NOT NULL DEFAULT ''
);
CREATE INDEX threads_change ON threads (change_id);

CREATE TABLE comments (                              -- what was said in a thread
  id         INTEGER PRIMARY KEY,
  thread_id  INTEGER NOT NULL REFERENCES threads (id),
  login      TEXT NOT NULL,
  text       TEXT NOT NULL,
  edited_at  DATETIME,
  suggestion TEXT,                                  -- what the thread's lines should be; NULL: nothing is suggested
  applied_as   TEXT NOT NULL DEFAULT '',              -- the commit that applied it
  applied_by   TEXT NOT NULL DEFAULT '',
  created_at DATETIME NOT NULL
);
CREATE INDEX comments_thread ON comments (thread_id);
CREATE INDEX comments_login ON comments (login);

CREATE TABLE comment_versions (                      -- what a comment said before it was edited
  comment_id INTEGER NOT NULL REFERENCES comments (id),
  text      TEXT NOT NULL,
  until     DATETIME NOT NULL
);
CREATE INDEX comment_versions_comment ON comment_versions (comment_id);

CREATE TABLE draft_comments (                     -- comments that a reviewer has not sent yet
  id         INTEGER PRIMARY KEY,
  change_id  INTEGER NOT NULL REFERENCES changes (id),
  login      TEXT NOT NULL,
  thread_id  INTEGER REFERENCES threads (id),       -- that it replies in; NULL: it begins one
  thread     TEXT NOT NULL DEFAULT '',              -- JSON: the one that it begins
  text       TEXT NOT NULL,
  suggestion TEXT,                                  -- what the thread's lines should be; NULL: nothing is suggested
  created_at DATETIME NOT NULL
);
CREATE INDEX draft_comments_of ON draft_comments (change_id, login);

-- What people have read and want to hear of.

CREATE TABLE change_looks (                         -- up to which revision a person has looked at a change
  change_id INTEGER NOT NULL REFERENCES changes (id),
  login     TEXT NOT NULL,
  revision  INTEGER NOT NULL,
  at        DATETIME NOT NULL,
  PRIMARY KEY (change_id, login)
);

CREATE TABLE file_ticks (                           -- files of a change that a person has read, and at which revision
  change_id INTEGER NOT NULL REFERENCES changes (id),
  login     TEXT NOT NULL,
  file      TEXT NOT NULL,                          -- hash of its path
  revision  INTEGER NOT NULL,
  PRIMARY KEY (change_id, login, file)
);

CREATE TABLE follows (                              -- what people follow, or want to hear nothing of although it is theirs
  login         TEXT NOT NULL,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER REFERENCES changes (id),    -- NULL: the repository
  muted         BOOLEAN NOT NULL DEFAULT FALSE,
  created_at    DATETIME NOT NULL
);
CREATE UNIQUE INDEX follows_once ON follows (login, repository_id, ifnull(change_id, 0));

CREATE TABLE notifications_seen (                         -- up to which line of the journal a person has seen their notifications
  login TEXT PRIMARY KEY,
  seq   INTEGER NOT NULL
);

CREATE TABLE mail_choices (                         -- who is sent digests by mail
  login   TEXT PRIMARY KEY,
  every   TEXT NOT NULL CHECK (every IN ('day', 'week')),
  since   DATETIME NOT NULL,                        -- up to when the last one that was sent told
  next_at DATETIME NOT NULL,
  trouble TEXT NOT NULL DEFAULT ''                  -- why the last one could not be sent
);
CREATE INDEX mail_choices_due ON mail_choices (next_at);

CREATE TABLE feeds (                                -- private addresses of people's Atom feeds; only the hash is kept
  id         INTEGER PRIMARY KEY,
  account_id INTEGER NOT NULL REFERENCES accounts (id),
  hash       TEXT NOT NULL UNIQUE,
  revoked_at DATETIME,
  created_at DATETIME NOT NULL
);
CREATE UNIQUE INDEX feeds_one ON feeds (account_id) WHERE revoked_at IS NULL;

-- Checks.

CREATE TABLE check_runs (                           -- one attempt of one check on one commit
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  name          TEXT NOT NULL,
  attempt       INTEGER NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'passed', 'failed', 'errored', 'skipped', 'cancelled')),
  link          TEXT NOT NULL DEFAULT '',
  summary       TEXT NOT NULL DEFAULT '',
  log           TEXT NOT NULL DEFAULT '',           -- the tail
  reported_by   TEXT NOT NULL DEFAULT '',
  runner        BOOLEAN NOT NULL DEFAULT FALSE,
  command       TEXT NOT NULL DEFAULT '',
  timeout_seconds INTEGER NOT NULL DEFAULT 0,
  asked_for     TEXT NOT NULL DEFAULT '',           -- such as change/4 or rehearsal/7; empty: nobody asked
  change_number INTEGER NOT NULL DEFAULT 0,         -- for which it was asked for; 0: for none
  target        TEXT NOT NULL DEFAULT '',           -- of that change
  lease_hash    TEXT NOT NULL DEFAULT '',
  lease_until   DATETIME,
  started_at    DATETIME,
  finished_at   DATETIME,
  silent        BOOLEAN NOT NULL DEFAULT FALSE,     -- it ended because nobody answered
  lease_token   INTEGER,                            -- that the lease was taken with
  milliseconds  INTEGER NOT NULL DEFAULT 0,         -- that it took
  numbers       TEXT,                               -- JSON, such as coverage
  annotations   TEXT,                               -- JSON, on lines
  ran_on        TEXT NOT NULL DEFAULT '',           -- the commit on which it passed, where that is another of the same tree
  parts         TEXT,                               -- JSON, that it is reported in
  fetched_at    DATETIME,                           -- when a check robot first fetched the commit
  parts_of      INTEGER NOT NULL DEFAULT 0,         -- how many there are; 0: it is reported as a whole
  created_at    DATETIME NOT NULL,
  UNIQUE (repository_id, commit_id, name, attempt)
);
CREATE INDEX check_runs_open ON check_runs (repository_id, state) WHERE state IN ('waiting', 'running');
CREATE INDEX check_runs_tips ON check_runs (repository_id, target, name, id) WHERE change_number = 0 AND target <> '';
CREATE INDEX check_runs_target ON check_runs (repository_id, target, created_at);
CREATE INDEX check_runs_names ON check_runs (repository_id, name);
CREATE INDEX check_runs_finished ON check_runs (finished_at) WHERE finished_at IS NOT NULL;
CREATE INDEX check_runs_silent ON check_runs (created_at) WHERE state IN ('waiting', 'running') AND command = '';
CREATE INDEX check_runs_leased ON check_runs (lease_token) WHERE lease_hash <> '';
CREATE INDEX check_runs_leases ON check_runs (lease_until) WHERE state = 'running' AND lease_hash <> '';

CREATE TABLE commit_trees (                         -- of the commits on which checks are asked for: heads of changes, and rehearsals
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  tree          TEXT NOT NULL,
  PRIMARY KEY (repository_id, commit_id)
) WITHOUT ROWID;
CREATE INDEX commit_trees_tree ON commit_trees (repository_id, tree);

CREATE TABLE report_keys (                          -- keys under which something was reported
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  login         TEXT NOT NULL,
  key           TEXT NOT NULL,
  sha256        TEXT NOT NULL,                      -- of the report
  check_run_id  INTEGER NOT NULL REFERENCES check_runs (id),
  created_at    DATETIME NOT NULL,
  PRIMARY KEY (repository_id, login, key)
) WITHOUT ROWID;
CREATE INDEX report_keys_age ON report_keys (created_at);

-- Queues and landings.

CREATE TABLE queues (                               -- what the queue of one target branch knows
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  target        TEXT NOT NULL,
  version       INTEGER NOT NULL,                   -- events it was told
  state         TEXT NOT NULL,                      -- JSON
  watch         TEXT NOT NULL,                      -- JSON: how long its changes took to land
  UNIQUE (repository_id, target)
);

CREATE TABLE queue_events (                         -- what queues were told: told again, they make the state again
  queue_id INTEGER NOT NULL REFERENCES queues (id),
  version  INTEGER NOT NULL,                        -- of the queue, with it
  event    TEXT NOT NULL,                           -- JSON
  PRIMARY KEY (queue_id, version)
) WITHOUT ROWID;

CREATE TABLE queue_states (                         -- what queues knew now and then, so that not everything has to be told again
  queue_id INTEGER NOT NULL REFERENCES queues (id),
  version  INTEGER NOT NULL,
  at       DATETIME NOT NULL,
  state    TEXT NOT NULL,                           -- JSON
  watch    TEXT NOT NULL,                           -- JSON
  PRIMARY KEY (queue_id, version)
) WITHOUT ROWID;

CREATE TABLE entries (                              -- places in queues; those that have not ended are as the queue's state has them
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER NOT NULL REFERENCES changes (id),
  target        TEXT NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('waiting', 'queued', 'rehearsing', 'landing', 'landed', 'ejected', 'withdrawn')),
  place         INTEGER NOT NULL,
  strategy      TEXT NOT NULL,
  message       TEXT NOT NULL,
  delete_source BOOLEAN NOT NULL,
  joined_by     TEXT NOT NULL,
  reason        TEXT NOT NULL DEFAULT '',
  rehearsal     INTEGER NOT NULL DEFAULT 0,         -- number of the rehearsal that it is shown with; 0: none
  cause         TEXT NOT NULL DEFAULT '',           -- why it was ejected, in a word
  touches       TEXT NOT NULL DEFAULT '{}',         -- JSON: the areas, as it was when it joined
  lines         INTEGER NOT NULL DEFAULT 0,         -- that it added and removed then
  waited        INTEGER NOT NULL DEFAULT 0,         -- milliseconds in the states waiting, queued, rehearsing and landing, once it has ended
  queued        INTEGER NOT NULL DEFAULT 0,
  rehearsed     INTEGER NOT NULL DEFAULT 0,
  landed        INTEGER NOT NULL DEFAULT 0,
  ended_at      DATETIME,
  created_at    DATETIME NOT NULL
);
CREATE UNIQUE INDEX entries_one_alive ON entries (change_id) WHERE state IN ('waiting', 'queued', 'rehearsing', 'landing');
CREATE INDEX entries_target ON entries (repository_id, target, state);
CREATE INDEX entries_alive ON entries (repository_id, target) WHERE ended_at IS NULL;
CREATE INDEX entries_change ON entries (change_id, id);
CREATE INDEX entries_ended ON entries (repository_id, target, ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX entries_ended_at ON entries (ended_at) WHERE ended_at IS NOT NULL;

CREATE TABLE conflicts (                            -- open changes that were found not to go together with their targets
  change_id    INTEGER PRIMARY KEY REFERENCES changes (id),
  revision     INTEGER NOT NULL,
  target       TEXT NOT NULL,
  tip          TEXT NOT NULL,                       -- of the target
  files        TEXT NOT NULL,                       -- JSON list, the first fifty
  more         INTEGER NOT NULL,                    -- files besides
  landed       TEXT NOT NULL,                       -- JSON list: numbers of changes that touched them since
  found_at     DATETIME NOT NULL
);

CREATE TABLE cursors (                              -- how far somebody who follows the journal has come
  name         TEXT PRIMARY KEY,
  seq          INTEGER NOT NULL
);

CREATE TABLE rehearsals (                           -- one entry's part of a rehearsal: written before it is built, so that building again gives the same commit
  id           INTEGER PRIMARY KEY,
  queue_id     INTEGER NOT NULL REFERENCES queues (id),
  number       INTEGER NOT NULL,                    -- by which the queue knows the rehearsal
  position     INTEGER NOT NULL,                    -- in its path, from 0
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
  approvers    TEXT NOT NULL,                       -- JSON list of the logins that the message names
  commit_id    TEXT NOT NULL DEFAULT '',
  tree         TEXT NOT NULL DEFAULT '',
  tested       TEXT NOT NULL DEFAULT '',            -- the commit whose checks count for it, once the whole is built
  left_out     INTEGER NOT NULL DEFAULT 0,          -- commits that would have changed nothing
  ended        TEXT NOT NULL DEFAULT '',            -- why it is of no more use; empty while it is
  same_as      TEXT DEFAULT '[]',                   -- JSON list: earlier revisions that bring the same
  created_at   DATETIME NOT NULL
);
CREATE INDEX rehearsals_entry ON rehearsals (entry_id);
CREATE INDEX rehearsals_number ON rehearsals (queue_id, number);

CREATE TABLE waivers (                            -- decisions to waive requirements, once
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER REFERENCES changes (id),    -- NULL: it is for a push
  ref           TEXT NOT NULL,
  tip           TEXT NOT NULL,                      -- where the ref stood
  revision      INTEGER NOT NULL DEFAULT 0,         -- of the change
  new           TEXT NOT NULL DEFAULT '',           -- of a push: the commit
  waives        TEXT NOT NULL,                      -- JSON: key and title of each requirement
  reason        TEXT NOT NULL,
  made_by       TEXT NOT NULL,
  made_at       DATETIME NOT NULL,
  until         DATETIME NOT NULL,
  used_at       DATETIME,
  used_as       TEXT NOT NULL DEFAULT '',           -- the commit that the branch moved to by it
  ended_at      DATETIME,                           -- it lapsed without being used
  ended_why     TEXT NOT NULL DEFAULT '',
  acknowledged_by     TEXT NOT NULL DEFAULT '',           -- the acknowledgement
  acknowledged_at     DATETIME,
  acknowledgement TEXT NOT NULL DEFAULT ''
);
CREATE INDEX waivers_live ON waivers (repository_id, change_id) WHERE used_at IS NULL AND ended_at IS NULL;
CREATE INDEX waivers_to_acknowledge ON waivers (repository_id) WHERE used_at IS NOT NULL AND acknowledged_at IS NULL;
CREATE INDEX waivers_by_change ON waivers (change_id);
CREATE INDEX waivers_repository ON waivers (repository_id, id);

CREATE TABLE intents (                              -- a protected branch is about to move
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  kind          TEXT NOT NULL CHECK (kind IN ('push', 'landing', 'removal')),
  ref           TEXT NOT NULL,
  old           TEXT NOT NULL,
  new           TEXT NOT NULL,
  actor         TEXT NOT NULL,
  entry_id      INTEGER REFERENCES entries (id),
  rehearsal_id  INTEGER REFERENCES rehearsals (id), -- the entry's part of it
  lead_id       INTEGER REFERENCES intents (id),    -- of those that move the branch together the first; NULL: it is
  revision      INTEGER NOT NULL DEFAULT 0,
  rules_version INTEGER NOT NULL,
  house_version INTEGER NOT NULL,
  facts         TEXT NOT NULL,                      -- JSON
  digest        TEXT NOT NULL,                      -- SHA-256 of the facts
  report        TEXT NOT NULL,                      -- JSON: of a landing: the gate as it was judged
  outcome       TEXT NOT NULL DEFAULT '',           -- done, dropped or lost; empty while open
  waiver_id     INTEGER REFERENCES waivers (id),    -- that a push rests on
  takes         TEXT,                               -- JSON list: comments whose suggestions a push applies
  created_at    DATETIME NOT NULL
);
CREATE INDEX intents_open ON intents (repository_id) WHERE outcome = '';
CREATE INDEX intents_ref ON intents (repository_id, ref, id);
CREATE INDEX intents_rehearsal ON intents (rehearsal_id) WHERE rehearsal_id IS NOT NULL;

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
  house_version INTEGER NOT NULL,
  statement     TEXT NOT NULL,                      -- a DSSE envelope
  landed_by     TEXT NOT NULL,
  landed_at     DATETIME NOT NULL
);
CREATE INDEX landings_commit ON landings (repository_id, new);
CREATE INDEX landings_change ON landings (change_id);

CREATE TABLE landed_commits (                       -- which landing brought a commit to its target
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  landing_id    INTEGER NOT NULL REFERENCES landings (id),
  PRIMARY KEY (repository_id, commit_id, landing_id)
) WITHOUT ROWID;
CREATE INDEX landed_commits_landing ON landed_commits (landing_id);

CREATE TABLE landed_sources (                       -- the commits of a change as they were before they landed
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  landing_id    INTEGER NOT NULL REFERENCES landings (id),
  PRIMARY KEY (repository_id, commit_id, landing_id)
) WITHOUT ROWID;

-- Webhooks: standing orders to send events, and what is sent.

CREATE TABLE webhooks (
  id             INTEGER PRIMARY KEY,
  house_id       INTEGER REFERENCES houses (id),       -- events of its repositories
  repository_id  INTEGER REFERENCES repositories (id), -- events of that one; with neither, of the service
  name           TEXT NOT NULL,
  url            TEXT NOT NULL,                     -- a template
  kinds          TEXT NOT NULL,                     -- JSON, globs of names of events
  branches       TEXT NOT NULL,                     -- JSON, globs
  paths          TEXT NOT NULL,                     -- JSON, globs
  condition      TEXT NOT NULL DEFAULT '',          -- an expression; empty: always
  secret         TEXT NOT NULL,
  old_secret     TEXT NOT NULL DEFAULT '',          -- that signs too, for a while
  old_until      DATETIME,
  headers        TEXT NOT NULL,                     -- JSON
  body           TEXT NOT NULL DEFAULT '',          -- a template; empty: the event itself
  content_type   TEXT NOT NULL DEFAULT '',
  any_order      BOOLEAN NOT NULL DEFAULT FALSE,
  off            TEXT NOT NULL DEFAULT '',          -- why nothing is sent; empty: it is sent
  failing_since  DATETIME,                          -- the first failure after the last success
  trouble        TEXT NOT NULL DEFAULT '',          -- the last failure, since then
  made_by        TEXT NOT NULL,
  created_at     DATETIME NOT NULL,
  deleted_at     DATETIME,
  CHECK (house_id IS NULL OR repository_id IS NULL)
);

CREATE INDEX webhooks_place ON webhooks (repository_id, house_id);

CREATE TABLE deliveries (                           -- one event on its way by one webhook
  id            INTEGER PRIMARY KEY,
  webhook_id    INTEGER NOT NULL REFERENCES webhooks (id),
  message       TEXT NOT NULL UNIQUE,               -- its id, the same at every try
  seq           INTEGER NOT NULL,                   -- of the line of the journal; 0: a test
  kind          TEXT NOT NULL,
  state         TEXT NOT NULL CHECK (state IN ('waiting', 'delivered', 'parked', 'dropped')),
  attempts      INTEGER NOT NULL DEFAULT 0,
  next_at       DATETIME,                           -- when it is tried again; NULL: now
  payload       TEXT NOT NULL DEFAULT '',           -- as it was first sent, and is sent again
  created_at    DATETIME NOT NULL,
  ended_at      DATETIME
);
CREATE INDEX deliveries_waiting ON deliveries (webhook_id, id) WHERE state = 'waiting';
CREATE INDEX deliveries_seq ON deliveries (seq);
CREATE INDEX deliveries_webhook ON deliveries (webhook_id, id);
CREATE INDEX deliveries_parked ON deliveries (webhook_id, ended_at) WHERE state = 'parked';
CREATE INDEX deliveries_ended ON deliveries (ended_at) WHERE state <> 'waiting';

CREATE TABLE delivery_attempts (                    -- one try
  id            INTEGER PRIMARY KEY,
  delivery_id   INTEGER NOT NULL REFERENCES deliveries (id) ON DELETE CASCADE,
  number        INTEGER NOT NULL,                   -- counted from 1
  at            DATETIME NOT NULL,
  milliseconds  INTEGER NOT NULL,
  url           TEXT NOT NULL,
  request       TEXT NOT NULL,                      -- JSON: headers, secrets masked
  status        INTEGER NOT NULL DEFAULT 0,         -- of the answer; 0: none came
  response      TEXT NOT NULL DEFAULT '',           -- JSON: headers
  answer        TEXT NOT NULL DEFAULT '',           -- the beginning of its body
  error         TEXT NOT NULL DEFAULT ''            -- why there is none, or why it is no success
);
CREATE INDEX delivery_attempts_delivery ON delivery_attempts (delivery_id);

CREATE TABLE trackers (                             -- what a house asks about tickets
  house_id      INTEGER PRIMARY KEY REFERENCES houses (id),
  url           TEXT NOT NULL,                      -- with {ticket} in it
  headers       TEXT NOT NULL,                      -- JSON
  set_by        TEXT NOT NULL,
  set_at        DATETIME NOT NULL,
  failing_since DATETIME,                           -- the first failure after the last answer
  trouble       TEXT NOT NULL DEFAULT '',           -- the last failure, since then
  tries         INTEGER NOT NULL DEFAULT 0,         -- failures in a row
  try_at        DATETIME                            -- until then it is not asked
);

CREATE TABLE ticket_wants (                         -- tickets of which a change's gate wants to know
  change_id     INTEGER NOT NULL REFERENCES changes (id),
  house_id      INTEGER NOT NULL REFERENCES houses (id),
  ticket        TEXT NOT NULL,
  max_age       INTEGER NOT NULL,                   -- for how long an answer counts, in seconds
  PRIMARY KEY (change_id, ticket)
);
CREATE INDEX ticket_wants_ticket ON ticket_wants (house_id, ticket);

CREATE TABLE ticket_answers (                       -- the newest answer about each of them
  house_id      INTEGER NOT NULL REFERENCES houses (id),
  ticket        TEXT NOT NULL,
  state         TEXT NOT NULL DEFAULT '',           -- open, closed or none; empty: no answer yet
  title         TEXT NOT NULL DEFAULT '',
  answered_at   DATETIME,
  trouble       TEXT NOT NULL DEFAULT '',           -- what was wrong when it was asked last, since then
  tries         INTEGER NOT NULL DEFAULT 0,         -- that came to nothing in a row
  due_at        DATETIME NOT NULL,                  -- when it is asked next
  PRIMARY KEY (house_id, ticket)
);
CREATE INDEX ticket_answers_due ON ticket_answers (house_id, due_at);

CREATE TABLE freezes (                              -- why nothing lands at some times
  id            INTEGER PRIMARY KEY,
  house_id      INTEGER REFERENCES houses (id),       -- on branches of all its repositories
  repository_id INTEGER REFERENCES repositories (id), -- or of this one
  hold          BOOLEAN NOT NULL DEFAULT FALSE,     -- until somebody frees the queue
  name          TEXT NOT NULL,
  reason        TEXT NOT NULL,
  branches      TEXT NOT NULL,                      -- JSON, globs; a hold: the one branch
  calendar      TEXT NOT NULL DEFAULT '',           -- an event in iCalendar; empty: its one time says when
  zone          TEXT NOT NULL DEFAULT 'UTC',        -- where times are meant that name none
  through       DATETIME NOT NULL,                  -- up to when its times are worked out
  made_by       TEXT NOT NULL,
  created_at    DATETIME NOT NULL,
  deleted_at    DATETIME,
  CHECK ((house_id IS NULL) <> (repository_id IS NULL))
);
CREATE INDEX freezes_repository ON freezes (repository_id) WHERE deleted_at IS NULL;
CREATE INDEX freezes_house ON freezes (house_id) WHERE deleted_at IS NULL;
CREATE INDEX freezes_through ON freezes (through) WHERE deleted_at IS NULL AND calendar <> '';

CREATE TABLE freeze_times (                         -- one time of a freeze
  id            INTEGER PRIMARY KEY,
  freeze_id     INTEGER NOT NULL REFERENCES freezes (id),
  begins        DATETIME NOT NULL,
  ends          DATETIME,                           -- NULL: when somebody frees the queue
  state         TEXT NOT NULL CHECK (state IN ('planned', 'on', 'over')) -- as far as that was told
);
CREATE INDEX freeze_times_freeze ON freeze_times (freeze_id, begins);
CREATE INDEX freeze_times_planned ON freeze_times (begins) WHERE state = 'planned';
CREATE INDEX freeze_times_on ON freeze_times (ends) WHERE state = 'on';

-- The journal.

CREATE TABLE journal_lines (
  seq           INTEGER PRIMARY KEY,
  at            TEXT NOT NULL,                      -- RFC 3339 with nanoseconds, as hashed
  actor         TEXT NOT NULL,
  kind          TEXT NOT NULL,
  repository_id INTEGER NOT NULL,                   -- 0: none
  repository    TEXT NOT NULL,
  subject       TEXT NOT NULL,
  text          TEXT NOT NULL,
  data          TEXT NOT NULL,
  prev          TEXT NOT NULL,
  hash          TEXT NOT NULL
);
CREATE INDEX journal_lines_repository ON journal_lines (repository_id, seq);
CREATE INDEX journal_lines_subject ON journal_lines (repository_id, subject, seq);

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
