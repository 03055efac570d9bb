package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tavrin/internal/accounts"
	"tavrin/wire"
)

// access: who one is, people, teams, roles and tokens.
func (s *server) access() {
	call(s, "GET", base+"/me", "get-me", "Who is asking", func(ctx context.Context, a accounts.Actor, _ *in) (wire.Me,
		error) {
		return s.Service.People.Me(ctx, a)
	})
	call(s, "GET", base+"/desk", "list-desk", "What waits for you, in every repository",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.DeskItem, error) {
			return s.Service.Desk.Desk(ctx, a)
		})
	s.sessions()
	call(s, "GET", base+"/people", "list-people", "People and robots",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.Person, error) {
			return s.Service.People.People(ctx, a)
		})
	call(s, "POST", base+"/people", "create-person", "Make a person or a robot",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Body struct {
				Login string `json:"login"`
				Name  string `json:"name,omitempty"`
				Email string `json:"email,omitempty"`
				Robot bool   `json:"robot,omitempty"`
				Admin bool   `json:"admin,omitempty"`
			}
		}) (wire.Person, error) {
			return s.Service.People.CreateAccount(ctx, a, accounts.NewAccount(q.Body))
		})
	call(s, "PUT", base+"/people/{login}/disabled", "put-person-disabled", "Take an account out of use, or back",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Login string `path:"login"`
			Body  struct {
				Disabled bool `json:"disabled"`
			}
		}) (wire.Disabled, error) {
			return s.Service.People.SetDisabled(ctx, a, q.Login, q.Body.Disabled)
		})
	call(s, "GET", base+"/teams", "list-teams", "Teams and their members",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.Team, error) {
			return s.Service.People.Teams(ctx, a)
		})
	call(s, "POST", base+"/teams", "create-team", "Make a team", func(ctx context.Context, a accounts.Actor, q *struct {
		Body struct {
			Name     string   `json:"name"`
			Members  []string `json:"members,omitempty"`
			Managers []string `json:"managers,omitempty" doc:"who may change it, besides administrators"`
		}
	}) (wire.Team, error) {
		return s.Service.People.CreateTeam(ctx, a, q.Body.Name, q.Body.Members, q.Body.Managers)
	})
	call(s, "PUT", base+"/teams/{team}", "put-team", "Set a team's members, its managers, or both",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Team string `path:"team"`
			Body struct {
				Members  *[]string `json:"members,omitempty" doc:"absent: as they are"`
				Managers *[]string `json:"managers,omitempty" doc:"absent: as they are"`
			}
		}) (done, error) {
			return done{true}, s.Service.People.SetTeam(ctx, a, q.Team,
				accounts.TeamEdit{Members: q.Body.Members, Managers: q.Body.Managers})
		})
	call(s, "PUT", base+"/grants", "put-grant", "Give a role in a house or a repository",
		func(ctx context.Context, a accounts.Actor, q *struct{ Body wire.Grant }) (done, error) {
			return done{true}, s.Service.People.Grant(ctx, a, q.Body.Where, q.Body.Who, q.Body.Role)
		})
	call(s, "GET", base+"/keys", "list-keys", "Public keys by which a person signs commits",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Login string `query:"login" doc:"absent: yourself"`
		}) ([]wire.Key, error) {
			return s.Service.People.Keys(ctx, a, q.Login)
		})
	call(s, "POST", base+"/keys", "create-key", "Register a public key of your own",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Body struct {
				Name string `json:"name"`
				Key  string `json:"key" doc:"in the form of authorized_keys"`
			}
		}) (wire.Key, error) {
			return s.Service.People.AddKey(ctx, a, q.Body.Name, q.Body.Key)
		})
	call(s, "DELETE", base+"/keys/{id}", "delete-key", "Take a key out of use; what it signed counts no more",
		func(ctx context.Context, a accounts.Actor, q *struct {
			ID int64 `path:"id"`
		}) (done, error) {
			return done{true}, s.Service.People.RemoveKey(ctx, a, q.ID)
		})
	call(s, "GET", base+"/tokens", "list-tokens", "Tokens, without their secrets",
		func(ctx context.Context, a accounts.Actor, _ *in) ([]wire.Token, error) {
			return s.Service.Access.Tokens(ctx, a)
		})
	call(s, "POST", base+"/tokens", "create-token", "Make a token",
		func(ctx context.Context, a accounts.Actor, q *struct {
			Body struct {
				Login    string   `json:"login"`
				Name     string   `json:"name,omitempty"`
				Lifetime int64    `json:"lifetime_seconds,omitempty" minimum:"0" doc:"0: 90 days"`
				ReadOnly bool     `json:"read_only,omitempty"`
				Checks   []string `json:"checks,omitempty" doc:"HOUSE/NAME:CHECK"`
				Runner   []string `json:"runner,omitempty" doc:"HOUSE/NAME"`
			}
		}) (wire.Token, error) {
			b := q.Body
			return s.Service.Access.CreateToken(ctx, a, accounts.NewToken{Login: b.Login, Name: b.Name,
				Lifetime: time.Duration(b.Lifetime) * time.Second,
				ReadOnly: b.ReadOnly, Checks: b.Checks, RunnerFor: b.Runner})
		})
	call(s, "DELETE", base+"/tokens/{id}", "delete-token", "Revoke a token",
		func(ctx context.Context, a accounts.Actor, q *struct {
			ID int64 `path:"id"`
		}) (done, error) {
			return done{true}, s.Service.Access.RevokeToken(ctx, a, q.ID)
		})
}

// sessions: signing in to the console and out of it.
func (s *server) sessions() {
	type cookie struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.Me
	}
	made := func(value string, age int) http.Cookie {
		return http.Cookie{Name: sessionCookie, Value: value, Path: "/", HttpOnly: true, Secure: s.Secure,
			SameSite: http.SameSiteStrictMode, MaxAge: age}
	}
	huma.Register(s.huma, huma.Operation{OperationID: "create-session", Method: "POST", Path: base + "/session",
		Summary: "Sign in to the console with a token", Tags: []string{"session"}},
		func(ctx context.Context, q *struct {
			Body struct {
				Token string `json:"token"`
			}
		}) (*cookie, error) {
			session, a, err := s.Service.Access.SignIn(ctx, q.Body.Token)
			if err != nil {
				address, _ := ctx.Value(addressKey{}).(string)
				err = s.refusedSignIn(address, err)
				return nil, s.problemOf(ctx, err)
			}
			me, err := s.Service.People.Me(ctx, a)
			if err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &cookie{SetCookie: made(session, 12*3600), Body: me}, nil
		})
	call(s, "POST", base+"/session/confirmation", "confirm-session", "Show a token again, so that rules may be "+
		"changed from the console for a while", func(ctx context.Context, _ accounts.Actor, q *struct {
		Session string `cookie:"tavrin_session"`
		Body    struct {
			Token string `json:"token"`
		}
	}) (confirmed, error) {
		until, err := s.Service.Access.Confirm(ctx, q.Session, q.Body.Token)
		return confirmed{until}, err
	})
	huma.Register(s.huma, huma.Operation{OperationID: "delete-session", Method: "DELETE", Path: base + "/session",
		Summary: "Sign out", Tags: []string{"session"}},
		func(ctx context.Context, q *struct {
			Session string `cookie:"tavrin_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      done
		}, error) {
			if err := s.Service.Access.SignOut(ctx, q.Session); err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
				Body      done
			}{made("", -1), done{true}}, nil
		})
}

// confirmed says until when a console session may change rules.
type confirmed struct {
	Until time.Time `json:"until"`
}
