package api

import (
	"context"
	"net/http"
	"time"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/service"
	"tavrin/wire"

	"github.com/danielgtaylor/huma/v2"
)

// access: who one is, people, teams, roles and tokens.
func (s *server) access() {
	call(s, "GET", base+"/me", "get-me", "Who is asking", func(ctx context.Context, a service.Actor, _ *in) (wire.Me, error) {
		return s.Service.Me(ctx, a)
	})
	s.sessions()
	call(s, "GET", base+"/people", "list-people", "People and robots", func(ctx context.Context, a service.Actor, _ *in) ([]wire.Person, error) {
		return s.Service.People(ctx, a)
	})
	call(s, "POST", base+"/people", "create-person", "Make a person or a robot", func(ctx context.Context, a service.Actor, q *struct {
		Body struct {
			Login string `json:"login"`
			Name  string `json:"name,omitempty"`
			Email string `json:"email,omitempty"`
			Robot bool   `json:"robot,omitempty"`
			Admin bool   `json:"admin,omitempty"`
		}
	}) (wire.Person, error) {
		return s.Service.CreateAccount(ctx, a, service.NewAccount(q.Body))
	})
	call(s, "PUT", base+"/people/{login}/disabled", "put-person-disabled", "Take an account out of use, or back", func(ctx context.Context, a service.Actor, q *struct {
		Login string `path:"login"`
		Body  struct {
			Disabled bool `json:"disabled"`
		}
	}) (done, error) {
		return done{true}, s.Service.SetDisabled(ctx, a, q.Login, q.Body.Disabled)
	})
	call(s, "GET", base+"/teams", "list-teams", "Teams and their members", func(ctx context.Context, a service.Actor, _ *in) ([]wire.Team, error) {
		return s.Service.Teams(ctx, a)
	})
	call(s, "POST", base+"/teams", "create-team", "Make a team", func(ctx context.Context, a service.Actor, q *struct {
		Body struct {
			Name    string   `json:"name"`
			Members []string `json:"members,omitempty"`
		}
	}) (wire.Team, error) {
		return s.Service.CreateTeam(ctx, a, q.Body.Name, q.Body.Members)
	})
	call(s, "PUT", base+"/teams/{team}", "put-team", "Set a team's members", func(ctx context.Context, a service.Actor, q *struct {
		Team string `path:"team"`
		Body struct {
			Members []string `json:"members"`
		}
	}) (done, error) {
		return done{true}, s.Service.SetTeam(ctx, a, q.Team, q.Body.Members)
	})
	call(s, "PUT", base+"/grants", "put-grant", "Give a role in a house or a repository", func(ctx context.Context, a service.Actor, q *struct{ Body wire.Grant }) (done, error) {
		return done{true}, s.Service.Grant(ctx, a, q.Body.Where, q.Body.Who, q.Body.Role)
	})
	call(s, "GET", base+"/tokens", "list-tokens", "Tokens, without their secrets", func(ctx context.Context, a service.Actor, _ *in) ([]wire.Token, error) {
		return s.Service.Tokens(ctx, a)
	})
	call(s, "POST", base+"/tokens", "create-token", "Make a token", func(ctx context.Context, a service.Actor, q *struct {
		Body struct {
			Login    string   `json:"login"`
			Name     string   `json:"name,omitempty"`
			Lifetime int64    `json:"lifetime_seconds,omitempty" minimum:"0" doc:"0: 90 days"`
			ReadOnly bool     `json:"read_only,omitempty"`
			Witness  []string `json:"witness,omitempty" doc:"HOUSE/NAME:CHECK"`
			Runner   []string `json:"runner,omitempty" doc:"HOUSE/NAME"`
		}
	}) (wire.Token, error) {
		b := q.Body
		return s.Service.CreateToken(ctx, a, service.NewToken{Login: b.Login, Name: b.Name, Lifetime: time.Duration(b.Lifetime) * time.Second,
			ReadOnly: b.ReadOnly, Witness: b.Witness, RunnerFor: b.Runner})
	})
	call(s, "DELETE", base+"/tokens/{id}", "delete-token", "Revoke a token", func(ctx context.Context, a service.Actor, q *struct {
		ID int64 `path:"id"`
	}) (done, error) {
		return done{true}, s.Service.RevokeToken(ctx, a, q.ID)
	})
}

// sessions: signing in to the console and out of it.
func (s *server) sessions() {
	type cookie struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.Me
	}
	made := func(value string, age int) http.Cookie {
		return http.Cookie{Name: sessionCookie, Value: value, Path: "/", HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode, MaxAge: age}
	}
	huma.Register(s.huma, huma.Operation{OperationID: "create-session", Method: "POST", Path: base + "/session", Summary: "Sign in to the console with a token", Tags: []string{"session"}},
		func(ctx context.Context, q *struct {
			Body struct {
				Token string `json:"token"`
			}
		}) (*cookie, error) {
			session, a, err := s.Service.SignIn(ctx, q.Body.Token)
			if err != nil {
				return nil, s.problemOf(ctx, err)
			}
			me, err := s.Service.Me(ctx, a)
			if err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &cookie{SetCookie: made(session, 12*3600), Body: me}, nil
		})
	huma.Register(s.huma, huma.Operation{OperationID: "delete-session", Method: "DELETE", Path: base + "/session", Summary: "Sign out", Tags: []string{"session"}},
		func(ctx context.Context, q *struct {
			Session string `cookie:"tavrin_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      done
		}, error) {
			if err := s.Service.SignOut(ctx, q.Session); err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
				Body      done
			}{made("", -1), done{true}}, nil
		})
}

// repositories: houses, repositories and what is in them.
func (s *server) repositories() {
	call(s, "GET", base+"/houses", "list-houses", "Houses", func(ctx context.Context, a service.Actor, _ *in) ([]wire.House, error) {
		return s.Service.Houses(ctx, a)
	})
	call(s, "POST", base+"/houses", "create-house", "Make a house", func(ctx context.Context, a service.Actor, q *struct {
		Body struct {
			Name string `json:"name"`
		}
	}) (wire.House, error) {
		return s.Service.CreateHouse(ctx, a, q.Body.Name)
	})
	call(s, "GET", base+"/repositories", "list-repositories", "Repositories that you may read", func(ctx context.Context, a service.Actor, _ *in) ([]wire.Repository, error) {
		return s.Service.Repositories(ctx, a)
	})
	call(s, "POST", base+"/repositories", "create-repository", "Make a repository, empty or imported", func(ctx context.Context, a service.Actor, q *struct {
		Body struct {
			Name          string `json:"name" doc:"HOUSE/NAME"`
			DefaultBranch string `json:"default_branch,omitempty" doc:"absent: main"`
			Public        bool   `json:"public,omitempty" doc:"readable without signing in"`
			ImportURL     string `json:"import_url,omitempty"`
		}
	}) (wire.Repository, error) {
		return s.Service.CreateRepository(ctx, a, service.NewRepository(q.Body))
	})
	call(s, "GET", repoPath, "get-repository", "One repository", func(ctx context.Context, a service.Actor, q *InRepo) (wire.Repository, error) {
		return s.Service.Repository(ctx, a, q.repository())
	})
	call(s, "GET", repoPath+"/branches", "list-branches", "Branches with what protects them", func(ctx context.Context, a service.Actor, q *InRepo) ([]wire.Branch, error) {
		return s.Service.Branches(ctx, a, q.repository())
	})
	call(s, "GET", repoPath+"/history", "list-history", "Commits with their checks, newest first", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		At    string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
		Skip  int    `query:"skip" minimum:"0"`
		Limit int    `query:"limit" minimum:"0" maximum:"200"`
	}) ([]wire.Commit, error) {
		return s.Service.History(ctx, a, q.repository(), q.At, q.Skip, q.Limit)
	})
	call(s, "GET", repoPath+"/tree", "get-tree", "A folder or a file at a commit", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		At   string `query:"at" doc:"branch, tag or commit; absent: the default branch"`
		Path string `query:"path" doc:"absent: the root"`
	}) (wire.Tree, error) {
		return s.Service.Tree(ctx, a, q.repository(), q.At, q.Path)
	})
}

// rules: the rules document, its versions, and what it means for a branch.
func (s *server) rules() {
	type answer struct {
		ETag string `header:"ETag" doc:"the version, in quotes"`
		Body wire.Rules
	}
	huma.Register(s.huma, huma.Operation{OperationID: "get-rules", Method: "GET", Path: repoPath + "/rules", Summary: "The rules document", Tags: []string{"rules"}},
		func(ctx context.Context, q *struct {
			InRepo
			Version int `query:"version" minimum:"0" doc:"absent: the newest"`
		}) (*answer, error) {
			r, err := s.Service.Rules(ctx, actor(ctx), q.repository(), q.Version)
			if err != nil {
				return nil, s.problemOf(ctx, err)
			}
			return &answer{etag(r.Version), r}, nil
		})
	huma.Register(s.huma, huma.Operation{OperationID: "put-rules", Method: "PUT", Path: repoPath + "/rules", Summary: "Apply a rules document", Tags: []string{"rules"}, MaxBodyBytes: 3 << 20},
		func(ctx context.Context, q *struct {
			InRepo
			IfMatch string `header:"If-Match" doc:"the version last read, in quotes, or * for whatever it is"`
			Body    struct {
				Text    string `json:"text"`
				Because string `json:"because"`
			}
		}) (*answer, error) {
			version, err := matched(q.IfMatch)
			if err != nil {
				return nil, err
			}
			r, failed := s.Service.ApplyRules(ctx, actor(ctx), q.repository(), q.Body.Text, q.Body.Because, version)
			if failed != nil {
				return nil, s.problemOf(ctx, failed)
			}
			return &answer{etag(r.Version), r}, nil
		})
	call(s, "GET", repoPath+"/rules/versions", "list-rules-versions", "Versions of the rules, newest first", func(ctx context.Context, a service.Actor, q *InRepo) ([]wire.Rules, error) {
		return s.Service.RulesHistory(ctx, a, q.repository())
	})
	call(s, "POST", base+"/rules/check", "check-rules", "Read a rules document without applying it", func(ctx context.Context, _ service.Actor, q *struct {
		Body struct {
			Text string `json:"text"`
		}
	}) (wire.RulesCheck, error) {
		return s.Service.CheckRules(ctx, q.Body.Text), nil
	})
	call(s, "GET", repoPath+"/explain", "get-branch-rules", "What protects a branch", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Branch string `query:"branch" required:"true"`
	}) (wire.BranchRules, error) {
		return s.Service.ExplainBranch(ctx, a, q.repository(), q.Branch)
	})
}

// changes: changes, their revisions and reviews, and the gate.
func (s *server) changes() {
	call(s, "GET", repoPath+"/changes", "list-changes", "Changes, newest first", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		State  string `query:"state" enum:"draft,open,landed,closed,all" doc:"absent: draft and open"`
		Before int    `query:"before" minimum:"0"`
		Limit  int    `query:"limit" minimum:"0" maximum:"200"`
	}) ([]wire.Change, error) {
		return s.Service.Changes(ctx, a, q.repository(), service.ChangeQuery{State: q.State, Before: q.Before, Limit: q.Limit})
	})
	call(s, "POST", repoPath+"/changes", "create-change", "Open a change", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Body struct {
			Source      string `json:"source"`
			Target      string `json:"target,omitempty" doc:"absent: the default branch"`
			Title       string `json:"title"`
			Description string `json:"description,omitempty"`
			Draft       bool   `json:"draft,omitempty"`
		}
	}) (wire.Change, error) {
		return s.Service.OpenChange(ctx, a, q.repository(), service.NewChange(q.Body))
	})
	call(s, "GET", changePath, "get-change", "One change", func(ctx context.Context, a service.Actor, q *InChange) (wire.Change, error) {
		return s.Service.Change(ctx, a, q.repository(), q.Number)
	})
	call(s, "PATCH", changePath, "edit-change", "Alter title, description or draft state", func(ctx context.Context, a service.Actor, q *struct {
		InChange
		Body struct {
			Title       *string `json:"title,omitempty"`
			Description *string `json:"description,omitempty"`
			Draft       *bool   `json:"draft,omitempty"`
		}
	}) (wire.Change, error) {
		return s.Service.EditChange(ctx, a, q.repository(), q.Number, service.ChangeEdit(q.Body))
	})
	call(s, "POST", changePath+"/close", "close-change", "Give a change up", func(ctx context.Context, a service.Actor, q *InChange) (wire.Change, error) {
		return s.Service.CloseChange(ctx, a, q.repository(), q.Number)
	})
	call(s, "POST", changePath+"/reopen", "reopen-change", "Take a closed change up again", func(ctx context.Context, a service.Actor, q *InChange) (wire.Change, error) {
		return s.Service.ReopenChange(ctx, a, q.repository(), q.Number)
	})
	call(s, "GET", changePath+"/gate", "get-gate", "What still stands between a change and its target", func(ctx context.Context, a service.Actor, q *InChange) (wire.Report, error) {
		return s.Service.Gate(ctx, a, q.repository(), q.Number)
	})
	call(s, "GET", changePath+"/landing", "get-landing", "How a change landed, with its evidence", func(ctx context.Context, a service.Actor, q *InChange) (wire.Landing, error) {
		return s.Service.Landing(ctx, a, q.repository(), q.Number)
	})
	call(s, "GET", changePath+"/revisions", "list-revisions", "A change's revisions, newest first", func(ctx context.Context, a service.Actor, q *InChange) ([]wire.Revision, error) {
		return s.Service.Revisions(ctx, a, q.repository(), q.Number)
	})
	call(s, "GET", changePath+"/diff", "get-diff", "What a revision brings", func(ctx context.Context, a service.Actor, q *struct {
		InChange
		Revision int `query:"revision" minimum:"0" doc:"absent: the newest"`
	}) (wire.Diff, error) {
		return s.Service.Diff(ctx, a, q.repository(), q.Number, q.Revision)
	})
	call(s, "GET", changePath+"/reviews", "list-reviews", "What reviewers said, oldest first", func(ctx context.Context, a service.Actor, q *InChange) ([]wire.Review, error) {
		return s.Service.Reviews(ctx, a, q.repository(), q.Number)
	})
	call(s, "POST", changePath+"/reviews", "create-review", "Approve, object or comment", func(ctx context.Context, a service.Actor, q *struct {
		InChange
		Body struct {
			Verdict  string `json:"verdict" enum:"approve,object,comment"`
			Revision int    `json:"revision,omitempty" minimum:"0" doc:"the one that was read; a comment may leave it out"`
			Text     string `json:"text,omitempty"`
		}
	}) (wire.Review, error) {
		return s.Service.Review(ctx, a, q.repository(), q.Number, service.NewReview{Verdict: gate.Verdict(q.Body.Verdict), Revision: q.Body.Revision, Text: q.Body.Text})
	})
	call(s, "POST", changePath+"/withdraw", "withdraw-review", "Take back your approval or objection", func(ctx context.Context, a service.Actor, q *InChange) (wire.Review, error) {
		return s.Service.Withdraw(ctx, a, q.repository(), q.Number)
	})
}

// checks: reports of witnesses, and the jobs of runners.
func (s *server) checks() {
	call(s, "POST", repoPath+"/checks", "create-check-report", "Report a check", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Body struct {
			Commit  string `json:"commit"`
			Name    string `json:"name"`
			State   string `json:"state" enum:"waiting,running,passed,failed,errored,skipped,cancelled"`
			Link    string `json:"link,omitempty"`
			Summary string `json:"summary,omitempty"`
			Attempt int    `json:"attempt,omitempty" minimum:"0" doc:"which attempt is answered; needed from the second on"`
		}
	}) (wire.Check, error) {
		b := q.Body
		return s.Service.ReportCheck(ctx, a, q.repository(), service.NewReport{Commit: b.Commit, Name: b.Name, State: gate.CheckState(b.State), Link: b.Link, Summary: b.Summary, Attempt: b.Attempt})
	})
	call(s, "GET", repoPath+"/checks", "list-check-names", "Checks seen so far, and those that the rules name", func(ctx context.Context, a service.Actor, q *InRepo) ([]wire.CheckName, error) {
		return s.Service.CheckNames(ctx, a, q.repository())
	})
	call(s, "GET", repoPath+"/checks/wanted", "list-wanted-checks", "Checks that wait for a witness", func(ctx context.Context, a service.Actor, q *InRepo) ([]wire.Check, error) {
		return s.Service.Wanted(ctx, a, q.repository())
	})
	call(s, "GET", repoPath+"/commits/{commit}/checks", "list-checks", "The checks of a commit", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Commit string `path:"commit"`
	}) ([]wire.Check, error) {
		return s.Service.Checks(ctx, a, q.repository(), q.Commit)
	})
	call(s, "POST", repoPath+"/commits/{commit}/checks/again", "ask-check-again", "Ask for another attempt", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Commit string `path:"commit"`
		Body   struct {
			Name string `json:"name"`
		}
	}) (wire.Check, error) {
		return s.Service.AskAgain(ctx, a, q.repository(), q.Commit, q.Body.Name)
	})
	call(s, "POST", base+"/jobs/lease", "lease-job", "Take the oldest waiting command check", func(ctx context.Context, a service.Actor, _ *in) ([]wire.Job, error) {
		jobs := []wire.Job{}
		job, err := s.Service.Lease(ctx, a)
		if job != nil {
			jobs = append(jobs, *job)
		}
		return jobs, err
	})
	call(s, "GET", base+"/jobs/place", "get-runner-place", "How a runner finds out whether it could read the service's data", func(_ context.Context, a service.Actor, _ *in) (wire.RunnerPlace, error) {
		return s.Service.RunnerPlace(a)
	})
	type Job struct {
		ID            int64  `path:"id"`
		Authorization string `header:"Authorization" doc:"Bearer and the job's lease"`
	}
	lease := func(j Job) string {
		return credential(&http.Request{Header: http.Header{"Authorization": {j.Authorization}}})
	}
	call(s, "POST", base+"/jobs/{id}/alive", "keep-job", "A runner's sign of life", func(ctx context.Context, _ service.Actor, q *Job) (done, error) {
		return done{true}, s.Service.JobAlive(ctx, q.ID, lease(*q))
	})
	call(s, "POST", base+"/jobs/{id}/result", "finish-job", "A runner's answer", func(ctx context.Context, _ service.Actor, q *struct {
		Job
		Body struct {
			State   string `json:"state" enum:"passed,failed,errored,skipped,cancelled"`
			Summary string `json:"summary,omitempty"`
			Log     string `json:"log,omitempty"`
		}
	}) (done, error) {
		return done{true}, s.Service.FinishJob(ctx, q.ID, lease(q.Job), service.JobResult{State: gate.CheckState(q.Body.State), Summary: q.Body.Summary, Log: q.Body.Log})
	})
}

// queue: joining, leaving and looking.
func (s *server) queue() {
	call(s, "GET", repoPath+"/queue", "get-queue", "The line for a target branch", func(ctx context.Context, a service.Actor, q *struct {
		InRepo
		Branch string `query:"branch" doc:"absent: the default branch"`
	}) (wire.Queue, error) {
		return s.Service.Queue(ctx, a, q.repository(), q.Branch)
	})
	call(s, "POST", changePath+"/queue", "join-queue", "Land a change as soon as it may", func(ctx context.Context, a service.Actor, q *struct {
		InChange
		Body struct {
			Strategy     string `json:"strategy,omitempty" doc:"absent: the rules' default"`
			Message      string `json:"message,omitempty"`
			RemoveSource *bool  `json:"remove_source,omitempty" doc:"absent: as the rules say"`
		}
	}) (wire.Entry, error) {
		return s.Service.Join(ctx, a, q.repository(), q.Number, service.NewEntry{Strategy: rules.Strategy(q.Body.Strategy), Message: q.Body.Message, RemoveSource: q.Body.RemoveSource})
	})
	call(s, "DELETE", changePath+"/queue", "leave-queue", "Take a change out of the queue", func(ctx context.Context, a service.Actor, q *InChange) (wire.Entry, error) {
		return s.Service.Leave(ctx, a, q.repository(), q.Number)
	})
}

// journal: what was decided and done.
func (s *server) journal() {
	call(s, "GET", base+"/journal", "list-journal", "Lines of the journal", func(ctx context.Context, a service.Actor, q *struct {
		Repository string `query:"repository"`
		After      int64  `query:"after" minimum:"0" doc:"lines after this one, oldest first"`
		Before     int64  `query:"before" minimum:"0" doc:"lines before this one, newest first"`
		Limit      int    `query:"limit" minimum:"0" maximum:"500" default:"50"`
	}) ([]wire.JournalLine, error) {
		return s.Service.Journal(ctx, a, service.JournalQuery{Repository: q.Repository, After: q.After, Before: q.Before, Limit: q.Limit})
	})
	call(s, "POST", base+"/journal/verify", "verify-journal", "Check the whole journal and sign its head", func(ctx context.Context, a service.Actor, _ *in) (wire.SignedHead, error) {
		return s.Service.VerifyJournal(ctx, a)
	})
}
