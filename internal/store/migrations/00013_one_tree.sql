-- +goose Up
ALTER TABLE revisions ADD COLUMN same_as TEXT DEFAULT '[]';          -- JSON list: earlier revisions that bring the same, each compared with this one
ALTER TABLE revisions ADD COLUMN bases INTEGER NOT NULL DEFAULT 1;            -- best common ancestors with the target
ALTER TABLE revisions ADD COLUMN history TEXT DEFAULT '{}';          -- JSON: what its commits bring one by one
ALTER TABLE reviews ADD COLUMN title TEXT NOT NULL DEFAULT '';                -- the change's when the review was given
ALTER TABLE reviews ADD COLUMN description TEXT NOT NULL DEFAULT '';
ALTER TABLE rehearsals ADD COLUMN same_as TEXT DEFAULT '[]';         -- JSON list: earlier revisions that bring the same to its base
ALTER TABLE check_runs ADD COLUMN silent BOOLEAN NOT NULL DEFAULT FALSE;      -- it ended because nobody answered
ALTER TABLE repositories ADD COLUMN trouble TEXT NOT NULL DEFAULT '';         -- why it is set apart: only to be read; empty: it is not
ALTER TABLE repositories ADD COLUMN trouble_since DATETIME;

DROP TABLE pushed_commits;
CREATE TABLE pushed_commits (                     -- whose authenticated pushes brought a commit, or pointed at one that rode along in another's
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  login         TEXT NOT NULL,
  PRIMARY KEY (repository_id, commit_id, login)
) WITHOUT ROWID;

CREATE TABLE landed_sources (                     -- the commits of a change as they were before they landed
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  landing_id    INTEGER NOT NULL REFERENCES landings (id),
  PRIMARY KEY (repository_id, commit_id, landing_id)
) WITHOUT ROWID;

CREATE INDEX check_runs_silent ON check_runs (created_at) WHERE state IN ('waiting', 'running') AND command = '';

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
