-- +goose Up
ALTER TABLE revisions ADD COLUMN kind TEXT NOT NULL DEFAULT '';  -- what it did to the one before; empty: from before it was kept

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
