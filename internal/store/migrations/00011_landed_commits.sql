-- +goose Up
CREATE TABLE landed_commits (                     -- which landing brought a commit to its target
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  commit_id     TEXT NOT NULL,
  landing_id    INTEGER NOT NULL REFERENCES landings (id),
  PRIMARY KEY (repository_id, commit_id, landing_id)
) WITHOUT ROWID;
CREATE INDEX landed_commits_landing ON landed_commits (landing_id);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
