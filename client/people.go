package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"tavrin/wire"
)

// people is the part of the client about people, teams, keys, tokens and what is whose.
type people struct{ *connection }

// Me says who the token belongs to.
func (c people) Me(ctx context.Context) (wire.Me, error) {
	return get[wire.Me](ctx, c, "/me")
}

// People lists people and robots.
func (c people) People(ctx context.Context) ([]wire.Person, error) {
	return get[[]wire.Person](ctx, c, "/people")
}

// NewPerson is what a person or robot is made from.
type NewPerson struct {
	Login string `json:"login"`
	Name  string `json:"name,omitempty"`
	Email string `json:"email,omitempty"`
	Robot bool   `json:"robot,omitempty"`
	Admin bool   `json:"admin,omitempty"`
}

// CreatePerson makes a person or a robot.
func (c people) CreatePerson(ctx context.Context, p NewPerson) (wire.Person, error) {
	return post[wire.Person](ctx, c, "/people", p)
}

// SetDisabled takes an account out of use, and ends all that was begun with its tokens, or takes it back into use.
func (c people) SetDisabled(ctx context.Context, login string, disabled bool) (wire.Disabled, error) {
	var out wire.Disabled
	err := c.Call(ctx, http.MethodPut, "/people/"+url.PathEscape(login)+"/disabled",
		map[string]bool{"disabled": disabled}, &out)
	return out, err
}

// Refusals lists what was refused for a reason of rights since the service was started, the most frequent first.
func (c people) Refusals(ctx context.Context) ([]wire.Refusal, error) {
	return get[[]wire.Refusal](ctx, c, "/refusals")
}

// Teams lists teams.
func (c people) Teams(ctx context.Context) ([]wire.Team, error) {
	return get[[]wire.Team](ctx, c, "/teams")
}

// CreateTeam makes a team. Its managers may change it, besides administrators.
func (c people) CreateTeam(ctx context.Context, name string, members, managers []string) (wire.Team, error) {
	return post[wire.Team](ctx, c, "/teams", map[string]any{"name": name, "members": append([]string{}, members...),
		"managers": append([]string{}, managers...)})
}

// SetTeam replaces a team's members, its managers, or both; nil leaves a list as it is.
func (c people) SetTeam(ctx context.Context, name string, members, managers []string) error {
	body := map[string]any{}
	if members != nil {
		body["members"] = members
	}
	if managers != nil {
		body["managers"] = managers
	}
	return c.Call(ctx, http.MethodPut, "/teams/"+url.PathEscape(name), body, nil)
}

// Grant gives somebody a role in a house or repository; "none" takes it away.
func (c people) Grant(ctx context.Context, where, who, role string) error {
	return c.Call(ctx, http.MethodPut, "/grants", wire.Grant{Who: who, Where: where, Role: role}, nil)
}

// Keys lists a person's public keys; one's own when login is empty.
func (c people) Keys(ctx context.Context, login string) ([]wire.Key, error) {
	return get[[]wire.Key](ctx, c, "/keys", "login", login)
}

// AddKey registers a public key of one's own, in the form of authorized_keys.
func (c people) AddKey(ctx context.Context, name, key string) (wire.Key, error) {
	return post[wire.Key](ctx, c, "/keys", map[string]string{"name": name, "key": key})
}

// RemoveKey takes a key out of use.
func (c people) RemoveKey(ctx context.Context, id int64) error {
	return c.Call(ctx, http.MethodDelete, fmt.Sprintf("/keys/%d", id), nil, nil)
}

// NewToken is what a token is made from.
type NewToken struct {
	Login           string   `json:"login"`
	Name            string   `json:"name,omitempty"`
	LifetimeSeconds int64    `json:"lifetime_seconds,omitempty"`
	ReadOnly        bool     `json:"read_only,omitempty"`
	Checks          []string `json:"checks,omitempty"`
	Runner          []string `json:"runner,omitempty"`
}

// CreateToken makes a token; the answer holds its secret.
func (c people) CreateToken(ctx context.Context, t NewToken) (wire.Token, error) {
	return post[wire.Token](ctx, c, "/tokens", t)
}

// Tokens lists tokens without their secrets.
func (c people) Tokens(ctx context.Context) ([]wire.Token, error) {
	return get[[]wire.Token](ctx, c, "/tokens")
}

// RevokeToken ends a token.
func (c people) RevokeToken(ctx context.Context, id int64) error {
	return c.Call(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}
