-- +goose Up
ALTER TABLE reviews ADD COLUMN teams TEXT DEFAULT '[]';              -- JSON list: those of who gave it, when it was given

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
