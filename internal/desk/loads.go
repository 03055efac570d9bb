package desk

import (
	"context"
	"slices"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/records"
	"tavrin/wire"
)

// ReviewLoads says how the open reviews of a repository are spread over people.
func (s *Desk) ReviewLoads(ctx context.Context, a accounts.Actor, name string) ([]wire.ReviewLoad, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	var open []records.Change
	if err := db.Where("repository_id = ? AND state = 'open'", repo.ID).Find(&open).Error; err != nil {
		return nil, err
	}
	loads := map[string]*wire.ReviewLoad{}
	of := func(login string) *wire.ReviewLoad {
		if loads[login] == nil {
			loads[login] = &wire.ReviewLoad{Login: login}
		}
		return loads[login]
	}
	all, err := s.facts.RememberedAll(snap, repo, open)
	if err != nil {
		return nil, err
	}
	said, err := saidOf(db, open)
	if err != nil {
		return nil, err
	}
	for _, g := range all {
		could, only := map[string]bool{}, map[string]bool{}
		for _, q := range g.Judge().Requirements {
			if q.Level != require.Required {
				continue
			}
			who := q.WhoCan(require.DoApprove)
			for _, login := range who {
				could[login] = true
				only[login] = only[login] || len(who) == q.Need-q.Have
			}
		}
		for login := range could {
			of(login).Could++
			if only[login] {
				of(login).Only++
			}
		}
		for _, r := range g.Facts.Reviews {
			of(r.By).Given++
		}
		asked := said.asked[g.Change.ID]
		who := make([]people.Principal, len(asked))
		for i, r := range asked {
			who[i] = accounts.PrincipalNamed(r.Who)
		}
		for _, p := range g.Facts.People.Among(who) {
			if !p.Robot {
				of(p.Login).Asked++
			}
		}
	}
	out := []wire.ReviewLoad{}
	for _, l := range loads {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b wire.ReviewLoad) int {
		if a.Could != b.Could {
			return b.Could - a.Could
		}
		return strings.Compare(a.Login, b.Login)
	})
	return out, nil
}
