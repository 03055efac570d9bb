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
	serve(s, wire.GetMe, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) (wire.Me, error) {
		return s.Service.People.Me(ctx, a)
	})
	serve(s, wire.ListDesk, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.DeskItem, error) {
		return s.Service.Desk.Desk(ctx, a)
	})
	s.sessions()
	serve(s, wire.ListPeople, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Person, error) {
		return s.Service.People.People(ctx, a)
	})
	serve(s, wire.CreatePerson, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewPerson]) (wire.Person, error) {
		return s.Service.People.CreateAccount(ctx, a, q.Body)
	})
	serve(s, wire.DisablePerson, func(ctx context.Context, a accounts.Actor, q *wire.PersonDisabled) (wire.Disabled, error) {
		return s.Service.People.SetDisabled(ctx, a, q.Login, q.Body.Disabled)
	})
	serve(s, wire.ListTeams, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Team, error) {
		return s.Service.People.Teams(ctx, a)
	})
	serve(s, wire.CreateTeam, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewTeam]) (wire.Team, error) {
		return s.Service.People.CreateTeam(ctx, a, q.Body.Name, q.Body.Members, q.Body.Managers)
	})
	serve(s, wire.PutTeam, func(ctx context.Context, a accounts.Actor, q *wire.TeamChanged) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.People.SetTeam(ctx, a, q.Team,
			wire.TeamEdit{Members: q.Body.Members, Managers: q.Body.Managers})
	})
	serve(s, wire.ListGrants, func(ctx context.Context, a accounts.Actor, q *wire.GrantQuery) ([]wire.Grant, error) {
		return s.Service.People.Grants(ctx, a, q.Where)
	})
	serve(s, wire.PutGrant, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.Grant]) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.People.Grant(ctx, a, q.Body.Where, q.Body.Who, q.Body.Role)
	})
	serve(s, wire.ListKeys, func(ctx context.Context, a accounts.Actor, q *wire.KeyQuery) ([]wire.Key, error) {
		return s.Service.People.Keys(ctx, a, q.Login)
	})
	serve(s, wire.CreateKey, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewKey]) (wire.Key, error) {
		return s.Service.People.AddKey(ctx, a, q.Body.Name, q.Body.Key)
	})
	serve(s, wire.DeleteKey, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.People.RemoveKey(ctx, a, q.ID)
	})
	serve(s, wire.ListTokens, func(ctx context.Context, a accounts.Actor, _ *wire.Nothing) ([]wire.Token, error) {
		return s.Service.Access.Tokens(ctx, a)
	})
	serve(s, wire.CreateToken, func(ctx context.Context, a accounts.Actor, q *wire.JustBody[wire.NewToken]) (wire.Token, error) {
		b := q.Body
		return s.Service.Access.CreateToken(ctx, a, accounts.NewToken{Login: b.Login, Name: b.Name,
			Lifetime: time.Duration(b.LifetimeSeconds) * time.Second,
			ReadOnly: b.ReadOnly, Checks: b.Checks, RunnerFor: b.Runner})
	})
	serve(s, wire.DeleteToken, func(ctx context.Context, a accounts.Actor, q *wire.WithID) (wire.Done, error) {
		return wire.Done{Done: true}, s.Service.Access.RevokeToken(ctx, a, q.ID)
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
	huma.Register(s.huma, operation(wire.SignIn.Operation),
		func(ctx context.Context, q *wire.JustBody[wire.Credential]) (*cookie, error) {
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
	serve(s, wire.Confirm, func(ctx context.Context, _ accounts.Actor, q *wire.Confirming) (wire.Confirmed, error) {
		until, err := s.Service.Access.Confirm(ctx, q.Session, q.Body.Token)
		return wire.Confirmed{Until: until}, err
	})
	huma.Register(s.huma, operation(wire.SignOut.Operation),
		func(ctx context.Context, q *wire.InSession) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      wire.Done
		}, error) {
			if err := s.Service.Access.SignOut(ctx, q.Session); err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
				Body      wire.Done
			}{made("", -1), wire.Done{Done: true}}, nil
		})
}
