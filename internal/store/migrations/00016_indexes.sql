-- +goose Up
-- What is asked for again and again is found without going through everything: entries and landings by change, moves by ref, rules by
-- place and version, leases that run, overrides by repository.
CREATE INDEX entries_change ON entries (change_id, id);
CREATE INDEX intents_ref ON intents (repository_id, ref, id);
CREATE INDEX landings_change ON landings (change_id);
CREATE INDEX rules_versions_repository ON rules_versions (repository_id, version);
CREATE INDEX rules_versions_house ON rules_versions (house_id, version);
CREATE INDEX rules_proposals_state ON rules_proposals (state, id);
CREATE INDEX suspensions_live ON suspensions (id) WHERE ended_at IS NULL;
CREATE INDEX change_reviewers_who ON change_reviewers (who, change_id);
CREATE INDEX check_runs_leased ON check_runs (lease_token) WHERE lease_hash <> '';
CREATE INDEX overrides_repository ON overrides (repository_id, id);

-- +goose Down
SELECT raise(ABORT, 'a newer version has no way back');
