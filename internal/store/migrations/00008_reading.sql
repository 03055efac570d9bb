-- +goose Up
CREATE TABLE change_looks (                       -- up to which revision a person has looked at a change
  change_id INTEGER NOT NULL REFERENCES changes (id),
  login     TEXT NOT NULL,
  revision  INTEGER NOT NULL,
  at        DATETIME NOT NULL,
  PRIMARY KEY (change_id, login)
);
CREATE TABLE file_ticks (                         -- files of a change that a person has read, and at which revision
  change_id INTEGER NOT NULL REFERENCES changes (id),
  login     TEXT NOT NULL,
  file      TEXT NOT NULL,                        -- hash of its path
  revision  INTEGER NOT NULL,
  PRIMARY KEY (change_id, login, file)
);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
