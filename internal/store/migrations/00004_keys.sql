-- +goose Up
CREATE TABLE account_keys (                       -- public keys by which people sign commits
  id          INTEGER PRIMARY KEY,
  account_id  INTEGER NOT NULL REFERENCES accounts (id),
  name        TEXT NOT NULL,
  fingerprint TEXT NOT NULL,                      -- SHA-256, as ssh-keygen shows it
  text        TEXT NOT NULL,                      -- in the form of authorized_keys, without comment
  created_at  DATETIME NOT NULL,
  removed_at  DATETIME                            -- it counts no more, also for what was signed before
);
CREATE UNIQUE INDEX account_keys_once ON account_keys (fingerprint) WHERE removed_at IS NULL;

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
