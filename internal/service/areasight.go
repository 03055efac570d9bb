package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tavrin/internal/core/areas"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// tree lists the files at the tip of a repository's default branch; none while it is empty.
func (s *Service) tree(ctx context.Context, repo *store.Repository) (commit string, paths []string, err error) {
	bare := s.bare(repo)
	commit, err = bare.Tip(ctx, "refs/heads/"+repo.DefaultBranch)
	if errors.Is(err, git.ErrNotFound) {
		return "", nil, nil
	}
	if err == nil {
		paths, err = bare.Paths(ctx, commit)
	}
	return commit, paths, err
}

// membersOf lists the people with access who are meant by principals, by login.
func membersOf(people map[string]gate.Person, who []rules.Principal) []string {
	out := []string{}
	for login, p := range people {
		if !p.Robot && p.IsAny(who) {
			out = append(out, login)
		}
	}
	slices.Sort(out)
	return out
}

func principalTexts(who []rules.Principal) []string {
	out := []string{}
	for _, p := range who {
		out = append(out, p.String())
	}
	return out
}

// Areas lists the areas that are in force for a repository.
func (s *Service) Areas(ctx context.Context, a Actor, name string) ([]wire.Area, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	force, people, err := s.ownership(db, repo)
	if err != nil {
		return nil, err
	}
	_, paths, err := s.tree(ctx, repo)
	if err != nil {
		return nil, err
	}
	files := map[string]int{}
	for _, p := range paths {
		for _, area := range force.set.AreasOf(p) {
			files[area.From.String()]++
		}
	}
	out := []wire.Area{}
	for _, x := range force.set.Areas() {
		out = append(out, wire.Area{Name: x.Name, Paths: x.Text, Owners: principalTexts(x.Owners), People: membersOf(people, x.Owners), Approvals: x.Approvals,
			Checks: append([]string{}, x.Checks...), Reviewers: principalTexts(x.Reviewers), Optional: principalTexts(x.Optional), Source: x.From, FixedBy: x.From.Document, Files: files[x.From.String()]})
	}
	return out, nil
}

func (s *Service) ownership(db *gorm.DB, repo *store.Repository) (*inForce, map[string]gate.Person, error) {
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return nil, nil, err
	}
	people, err := peopleOf(db, repo)
	return force, people, err
}

func ownerAreas(set *rules.Set, people map[string]gate.Person, path string) []wire.OwnerArea {
	out := []wire.OwnerArea{}
	for _, o := range areas.Of(set, path) {
		out = append(out, wire.OwnerArea{Area: o.Area.Name, Pattern: o.Pattern, Owners: principalTexts(o.Area.Owners), People: membersOf(people, o.Area.Owners),
			Source: o.Area.From, FixedBy: o.Area.From.Document})
	}
	return out
}

// maxPath is the longest path asked about, in bytes.
const maxPath = 4096

// WhoOwns says who owns a path, and why: a file that there is or that may come.
func (s *Service) WhoOwns(ctx context.Context, a Actor, name, path string) (wire.PathOwners, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.PathOwners{}, err
	}
	clean := strings.TrimPrefix(strings.TrimPrefix(path, "./"), "/")
	if clean == "" || len(clean) > maxPath || strings.ContainsRune(clean, 0) {
		return wire.PathOwners{}, invalid("path", "give the path of a file, such as docs/members.md")
	}
	force, people, err := s.ownership(db, repo)
	if err != nil {
		return wire.PathOwners{}, err
	}
	_, paths, err := s.tree(ctx, repo)
	if err != nil {
		return wire.PathOwners{}, err
	}
	out := wire.PathOwners{Path: clean, Areas: ownerAreas(force.set, people, clean)}
	for _, p := range paths {
		if p == clean || strings.HasPrefix(p, strings.TrimSuffix(clean, "/")+"/") {
			out.Files++
		}
	}
	return out, nil
}

// ChangeAreas says which areas a change touches and whose approval would be enough.
func (s *Service) ChangeAreas(ctx context.Context, a Actor, name string, number int) (wire.ChangeAreas, error) {
	db := s.store.Read(ctx)
	repo, c, err := s.changeRow(db, a, name, number, gate.Reader)
	if err != nil {
		return wire.ChangeAreas{}, err
	}
	g, err := s.judgedOf(db, repo, c)
	if err != nil {
		return wire.ChangeAreas{}, err
	}
	return changeAreas(g), nil
}

// changeAreas says which areas a change touches and whose approval would be enough.
func changeAreas(g gathered) wire.ChangeAreas {
	out := wire.ChangeAreas{Number: g.change.Number, Areas: []wire.TouchedArea{}, Unowned: []string{}, Enough: []string{}, Hopeless: []string{}}
	for _, t := range g.set.Touched(gate.Comes(g.set, g.facts)) {
		var why string
		for _, o := range areas.Of(g.set, t.Paths[0]) {
			if o.Area.From == t.From {
				why = o.Pattern
			}
		}
		out.Areas = append(out.Areas, wire.TouchedArea{Paths: t.Paths, OwnerArea: wire.OwnerArea{Area: t.Name, Pattern: why, Owners: principalTexts(t.Owners),
			People: membersOf(g.facts.People, t.Owners), Source: t.From, FixedBy: t.From.Document}})
	}
	for _, p := range gate.Comes(g.set, g.facts) {
		if len(g.set.AreasOf(p)) == 0 {
			out.Unowned = append(out.Unowned, p)
		}
	}
	enough, hopeless, exact := gate.Fewest(g.set, g.facts)
	out.Enough, out.Hopeless, out.Exact = append(out.Enough, enough...), append(out.Hopeless, hopeless...), exact
	return out
}

// OwnershipGaps says what nobody owns and which globs match nothing, at the tip of the default branch.
func (s *Service) OwnershipGaps(ctx context.Context, a Actor, name string, depth int) (wire.OwnershipGaps, error) {
	out := wire.OwnershipGaps{Folders: []wire.FolderShare{}, Idle: []wire.IdlePattern{}}
	if depth < 1 || depth > 10 {
		return out, invalid("depth", "folders are counted 1 to 10 deep")
	}
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return out, err
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return out, err
	}
	commit, paths, err := s.tree(ctx, repo)
	if err != nil {
		return out, err
	}
	out.Commit = commit
	for _, x := range areas.Shares(force.set, paths, depth) {
		out.Folders = append(out.Folders, wire.FolderShare{Folder: x.Folder, Files: x.Files, Unowned: x.Unowned()})
	}
	for _, x := range areas.IdlePatterns(force.set, paths) {
		out.Idle = append(out.Idle, wire.IdlePattern{Area: x.Area.Name, Pattern: x.Pattern, Source: x.Area.From})
	}
	return out, nil
}

// ReviewLoads says how the open reviews of a repository are spread over people.
func (s *Service) ReviewLoads(ctx context.Context, a Actor, name string) ([]wire.ReviewLoad, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	var open []store.Change
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
		g, err := s.judgedOf(db, repo, c)
		if err != nil {
			return nil, err
		}
		could, only := map[string]bool{}, map[string]bool{}
		for _, q := range g.judge().Requirements {
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
		for _, r := range g.facts.Reviews {
			of(r.By).Given++
		}
		var asked []store.ChangeReviewer
		if err := db.Where("change_id = ? AND NOT optional", c.ID).Find(&asked).Error; err != nil {
			return nil, err
		}
		for login, p := range g.facts.People {
			if !p.Robot && slices.ContainsFunc(asked, func(r store.ChangeReviewer) bool { return p.Is(principalNamed(r.Who)) }) {
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

// principalNamed reads a principal that was kept as text.
func principalNamed(text string) rules.Principal {
	kind, name, _ := strings.Cut(text, ":")
	return rules.Principal{Kind: rules.PrincipalKind(kind), Name: name}
}

// wantedReviewers lists whom the areas that paths touch want to look at a change, each once, its opener left out.
func wantedReviewers(set *rules.Set, c store.Change, paths []string) []store.ChangeReviewer {
	var out []store.ChangeReviewer
	for _, t := range set.Touched(paths) {
		for i, list := range [][]rules.Principal{t.Reviewers, t.Optional} {
			for _, p := range list {
				known := slices.ContainsFunc(out, func(r store.ChangeReviewer) bool { return r.Who == p.String() })
				if !known && p != (rules.Principal{Kind: rules.Person, Name: c.OpenedBy}) {
					out = append(out, store.ChangeReviewer{ChangeID: c.ID, Who: p.String(), Optional: i == 1, Because: t.From.String()})
				}
			}
		}
	}
	return out
}

// askReviewers asks those for a review whom the areas that a change touches name. Who was asked once is not asked again.
func (s *Service) askReviewers(tx *tx, repo *store.Repository, c store.Change, paths []string) error {
	force, err := s.rulesOf(tx.DB, repo)
	if err != nil {
		return err
	}
	var before []store.ChangeReviewer
	if err := tx.Where("change_id = ?", c.ID).Find(&before).Error; err != nil {
		return err
	}
	var asked []store.ChangeReviewer
	for _, r := range wantedReviewers(force.set, c, paths) {
		if !slices.ContainsFunc(before, func(b store.ChangeReviewer) bool { return b.Who == r.Who }) {
			r.AskedAt = s.now()
			asked = append(asked, r)
		}
	}
	if len(asked) == 0 {
		return nil
	}
	if err := tx.Create(&asked).Error; err != nil {
		return err
	}
	var names []string
	for _, r := range asked {
		names = append(names, r.Who)
	}
	return tx.record(event{actor: itself, kind: "review.asked", repo: repo, subject: fmt.Sprintf("change/%d", c.Number),
		text: fmt.Sprintf("%s were asked to look at change %d, as its areas say", strings.Join(names, ", "), c.Number), data: map[string]any{"number": c.Number, "who": names}})
}

// AskForReview asks people or teams by hand for a review, or tells them of the change.
func (s *Service) AskForReview(ctx context.Context, a Actor, name string, number int, who []string, optional bool) (wire.Change, error) {
	err := s.write(ctx, func(tx *tx) error {
		repo, c, err := s.changeRow(tx.DB, a, name, number, gate.Writer)
		if err != nil {
			return err
		}
		if c.State != "open" && c.State != "draft" {
			return problem(Conflict, "change %d is %s; reviews are asked for while it is open", number, c.State)
		}
		people, err := peopleOf(tx.DB, repo)
		if err != nil {
			return err
		}
		for _, w := range who {
			p := principalNamed(w)
			if p.Kind != rules.Person && p.Kind != rules.Team || len(membersOf(people, []rules.Principal{p})) == 0 {
				return invalid("who", "%q is nobody with access to %s: person:LOGIN or team:NAME", w, name)
			}
			row := store.ChangeReviewer{ChangeID: c.ID, Who: w, Optional: optional, Because: a.Login() + " asked", AskedAt: s.now()}
			again := clause.OnConflict{Columns: []clause.Column{{Name: "change_id"}, {Name: "who"}}, DoUpdates: clause.AssignmentColumns([]string{"optional", "because", "asked_at"})}
			if err := tx.Clauses(again).Create(&row).Error; err != nil {
				return err
			}
		}
		verb := map[bool]string{false: "asked %s to look at change %d", true: "told %s of change %d"}[optional]
		return tx.record(event{actor: a.Login(), kind: "review.asked", repo: repo, subject: fmt.Sprintf("change/%d", number),
			text: a.Login() + " " + fmt.Sprintf(verb, strings.Join(who, ", "), number), data: map[string]any{"number": number, "who": who, "optional": optional}})
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

// SetLabels sets and removes labels of a change. Only those whom the rules name for a label may.
func (s *Service) SetLabels(ctx context.Context, a Actor, name string, number int, set, remove []string) (wire.Change, error) {
	err := s.write(ctx, func(tx *tx) error {
		repo, c, err := s.changeRow(tx.DB, a, name, number, gate.Writer)
		if err != nil {
			return err
		}
		force, people, err := s.ownership(tx.DB, repo)
		if err != nil {
			return err
		}
		for _, label := range append(slices.Clone(set), remove...) {
			lists, known := force.set.Label(label)
			if !known {
				return invalid("labels", "the rules know no label %q; they define labels: labels: {%s: {set_by: …}}", label, label)
			}
			for _, who := range lists {
				if person := people[a.Login()]; !person.IsAny(who) {
					return problem(Forbidden, "label %q is set and removed by %s", label, strings.Join(principalTexts(who), ", "))
				}
			}
		}
		for _, label := range remove {
			if err := tx.Where("change_id = ? AND label = ?", c.ID, label).Delete(&store.ChangeLabel{}).Error; err != nil {
				return err
			}
		}
		for _, label := range set {
			row := store.ChangeLabel{ChangeID: c.ID, Label: label, SetBy: a.Login(), SetAt: s.now()}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&row).Error; err != nil {
				return err
			}
		}
		return tx.record(event{actor: a.Login(), kind: "change.labelled", repo: repo, subject: fmt.Sprintf("change/%d", number),
			text: fmt.Sprintf("%s set the labels %s and removed %s on change %d", a.Login(), orNone(set), orNone(remove), number),
			data: map[string]any{"number": number, "set": set, "removed": remove}})
	})
	if err != nil {
		return wire.Change{}, err
	}
	return s.Change(ctx, a, name, number)
}

func orNone(labels []string) string {
	if len(labels) == 0 {
		return "none"
	}
	return strings.Join(labels, ", ")
}
