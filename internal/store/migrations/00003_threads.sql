-- +goose Up
CREATE TABLE threads (                            -- discussions about a change
  id           INTEGER PRIMARY KEY,
  change_id    INTEGER NOT NULL REFERENCES changes (id),
  revision     INTEGER NOT NULL,                  -- the one that was looked at
  commit_id    TEXT NOT NULL DEFAULT '',          -- of a commit; empty: of the whole difference
  path         TEXT NOT NULL DEFAULT '',          -- of a file; empty: of the change or commit
  before       BOOLEAN NOT NULL DEFAULT FALSE,    -- lines are those of the file before the change
  first_line   INTEGER NOT NULL DEFAULT 0,        -- counted from 1; 0: the file
  last_line    INTEGER NOT NULL DEFAULT 0,
  quoted       TEXT NOT NULL DEFAULT '',          -- the lines as they were
  needs_answer BOOLEAN NOT NULL,
  begun_by     TEXT NOT NULL,
  begun_at     DATETIME NOT NULL,
  settled_by   TEXT NOT NULL DEFAULT '',
  settled_at   DATETIME,
  outcome      TEXT NOT NULL DEFAULT ''
);
CREATE INDEX threads_change ON threads (change_id);

CREATE TABLE remarks (                            -- what was said in a thread
  id         INTEGER PRIMARY KEY,
  thread_id  INTEGER NOT NULL REFERENCES threads (id),
  login      TEXT NOT NULL,
  text       TEXT NOT NULL,
  created_at DATETIME NOT NULL,
  edited_at  DATETIME
);
CREATE INDEX remarks_thread ON remarks (thread_id);

CREATE TABLE remark_versions (                    -- what a remark said before it was edited
  remark_id INTEGER NOT NULL REFERENCES remarks (id),
  text      TEXT NOT NULL,
  until     DATETIME NOT NULL
);
CREATE INDEX remark_versions_remark ON remark_versions (remark_id);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
