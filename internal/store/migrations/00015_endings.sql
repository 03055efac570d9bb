-- +goose Up
-- Leases know the token they were taken with, so that they end with it; a token knows when a refusal of it was last noted.
ALTER TABLE check_runs ADD COLUMN lease_token INTEGER;
ALTER TABLE tokens ADD COLUMN refused_at DATETIME;

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
