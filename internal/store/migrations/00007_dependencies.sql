-- +goose Up
CREATE TABLE change_dependencies (                -- a change that another one waits for
  change_id INTEGER NOT NULL REFERENCES changes (id),
  on_id     INTEGER NOT NULL REFERENCES changes (id),
  PRIMARY KEY (change_id, on_id),
  CHECK (change_id <> on_id)
);
CREATE INDEX change_dependencies_on ON change_dependencies (on_id);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
