package desk

import (
	"context"
	"slices"
	"strings"

	"tavrin/internal/accounts"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/records"
	"tavrin/wire"
)

// ReviewLoads says how the open reviews of a repository are spread over people.
func (s *Desk) ReviewLoads(ctx context.Context, a accounts.Actor, name string) ([]wire.ReviewLoad, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, gate.Reader)
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
	for _, c := range open {
		g, err := s.facts.Remembered(snap, repo, c)
		if err != nil {
			return nil, err
		}
		could, only := map[string]bool{}, map[string]bool{}
		for _, q := range g.Judge().Requirements {
			if q.Level != rules.Required || !strings.HasPrefix(q.Key, "approvals") && !strings.HasPrefix(q.Key, "owners") {
				continue
			}
			for _, login := range q.Who {
				could[login] = true
				only[login] = only[login] || len(q.Who) == q.Need-q.Have
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
		var asked []records.ChangeReviewer
		if err := db.Where("change_id = ? AND NOT optional", c.ID).Find(&asked).Error; err != nil {
			return nil, err
		}
		for login, p := range g.Facts.People {
			if !p.Robot && slices.ContainsFunc(asked, func(r records.ChangeReviewer) bool { return p.Is(accounts.PrincipalNamed(r.Who)) }) {
				of(login).Asked++
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
