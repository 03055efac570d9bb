package client

import (
	"context"

	"tavrin/wire"
)

// people is the part of the client about people, teams, keys, tokens and what is whose.
type people struct{ *connection }

// Me says who the token belongs to.
func (c people) Me(ctx context.Context) (wire.Me, error) {
	return do(ctx, c.connection, wire.GetMe, wire.Nothing{})
}

// People lists people and robots.
func (c people) People(ctx context.Context) ([]wire.Person, error) {
	return do(ctx, c.connection, wire.ListPeople, wire.Nothing{})
}

// CreatePerson makes a person or a robot.
func (c people) CreatePerson(ctx context.Context, p wire.NewPerson) (wire.Person, error) {
	return do(ctx, c.connection, wire.CreatePerson, just(p))
}

// SetDisabled disables an account, and ends all that was begun with its tokens, or enables it again.
func (c people) SetDisabled(ctx context.Context, login string, disabled bool) (wire.Disabled, error) {
	return do(ctx, c.connection, wire.DisablePerson, wire.PersonDisabled{Login: login, Body: wire.Disabling{Disabled: disabled}})
}

// Refusals lists what was refused for a reason of rights since the service was started, the most frequent first.
func (c people) Refusals(ctx context.Context) ([]wire.Refusal, error) {
	return do(ctx, c.connection, wire.ListRefusals, wire.Nothing{})
}

// Teams lists teams.
func (c people) Teams(ctx context.Context) ([]wire.Team, error) {
	return do(ctx, c.connection, wire.ListTeams, wire.Nothing{})
}

// CreateTeam makes a team. Its managers may change it, besides administrators.
func (c people) CreateTeam(ctx context.Context, t wire.NewTeam) (wire.Team, error) {
	return do(ctx, c.connection, wire.CreateTeam, just(t))
}

// SetTeam replaces a team's members, its managers, or both; nil leaves a list as it is.
func (c people) SetTeam(ctx context.Context, name string, members, managers []string) error {
	var e wire.TeamEdit
	if members != nil {
		e.Members = &members
	}
	if managers != nil {
		e.Managers = &managers
	}
	return none(do(ctx, c.connection, wire.PutTeam, wire.TeamChanged{Team: name, Body: e}))
}

// Grants lists who has which role in a house or repository; of a repository, those in its house too.
func (c people) Grants(ctx context.Context, where string) ([]wire.Grant, error) {
	return do(ctx, c.connection, wire.ListGrants, wire.GrantQuery{Where: where})
}

// Grant gives somebody a role in a house or repository; "none" takes it away.
func (c people) Grant(ctx context.Context, where, who, role string) error {
	return none(do(ctx, c.connection, wire.PutGrant, just(wire.Grant{Who: who, Where: where, Role: role})))
}

// Keys lists a person's public keys; one's own when login is empty.
func (c people) Keys(ctx context.Context, login string) ([]wire.Key, error) {
	return do(ctx, c.connection, wire.ListKeys, wire.KeyQuery{Login: login})
}

// AddKey registers a public key of one's own, in the form of authorized_keys.
func (c people) AddKey(ctx context.Context, name, key string) (wire.Key, error) {
	return do(ctx, c.connection, wire.CreateKey, just(wire.NewKey{Name: name, Key: key}))
}

// RemoveKey removes a key.
func (c people) RemoveKey(ctx context.Context, id int64) error {
	return none(do(ctx, c.connection, wire.DeleteKey, wire.WithID{ID: id}))
}

// CreateToken makes a token; the answer holds its secret.
func (c people) CreateToken(ctx context.Context, t wire.NewToken) (wire.Token, error) {
	return do(ctx, c.connection, wire.CreateToken, just(t))
}

// Tokens lists tokens without their secrets.
func (c people) Tokens(ctx context.Context) ([]wire.Token, error) {
	return do(ctx, c.connection, wire.ListTokens, wire.Nothing{})
}

// RevokeToken ends a token.
func (c people) RevokeToken(ctx context.Context, id int64) error {
	return none(do(ctx, c.connection, wire.DeleteToken, wire.WithID{ID: id}))
}
