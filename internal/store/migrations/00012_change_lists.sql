-- +goose Up
CREATE INDEX changes_state ON changes (repository_id, state, number);
CREATE INDEX changes_target ON changes (repository_id, target, number);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
