-- +goose Up
CREATE TABLE overrides (                          -- decisions to set requirements aside, once
  id            INTEGER PRIMARY KEY,
  repository_id INTEGER NOT NULL REFERENCES repositories (id),
  change_id     INTEGER REFERENCES changes (id),  -- NULL: it is for a push
  ref           TEXT NOT NULL,
  tip           TEXT NOT NULL,                    -- where the ref stood
  revision      INTEGER NOT NULL DEFAULT 0,       -- of the change
  new           TEXT NOT NULL DEFAULT '',         -- of a push: the commit
  aside         TEXT NOT NULL,                    -- JSON: key and title of each requirement
  because       TEXT NOT NULL,
  made_by       TEXT NOT NULL,
  made_at       DATETIME NOT NULL,
  until         DATETIME NOT NULL,
  used_at       DATETIME,
  used_as       TEXT NOT NULL DEFAULT '',         -- the commit that the branch moved to by it
  ended_at      DATETIME,                         -- it lapsed without being used
  ended_why     TEXT NOT NULL DEFAULT '',
  looked_by     TEXT NOT NULL DEFAULT '',         -- the second look
  looked_at     DATETIME,
  look          TEXT NOT NULL DEFAULT ''
);
CREATE INDEX overrides_live ON overrides (repository_id, change_id) WHERE used_at IS NULL AND ended_at IS NULL;
CREATE INDEX overrides_to_look_at ON overrides (repository_id) WHERE used_at IS NOT NULL AND looked_at IS NULL;
CREATE INDEX overrides_by_change ON overrides (change_id);
ALTER TABLE intents ADD COLUMN override_id INTEGER REFERENCES overrides (id);  -- that a push rests on

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
