package rulebook

import (
	"context"
	"errors"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/areas"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// tree lists the files at the tip of a repository's default branch; none while it is empty.
func (s *Rulebook) tree(ctx context.Context, repo *records.Repository) (commit string, paths []string, err error) {
	bare := s.disk.Bare(repo)
	commit, err = bare.Tip(ctx, "refs/heads/"+repo.DefaultBranch)
	if errors.Is(err, git.ErrNotFound) {
		return "", nil, nil
	}
	if err == nil {
		paths, err = bare.Paths(ctx, commit)
	}
	return commit, paths, err
}

// Areas lists the areas that are in force for a repository.
func (s *Rulebook) Areas(ctx context.Context, a accounts.Actor, name string) ([]wire.Area, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	force, people, err := s.Ownership(db, repo)
	if err != nil {
		return nil, err
	}
	_, paths, err := s.tree(ctx, repo)
	if err != nil {
		return nil, err
	}
	files := map[string]int{}
	for _, p := range paths {
		for _, area := range force.Set.AreasOf(p) {
			files[area.From.String()]++
		}
	}
	out := []wire.Area{}
	for _, x := range force.Set.Areas() {
		out = append(out, wire.Area{Name: x.Name, Paths: x.Text, Owners: accounts.PrincipalTexts(x.Owners),
			People: accounts.MembersOf(people, x.Owners), Requires: required(x), Reviewers: accounts.PrincipalTexts(x.Reviewers),
			Optional: accounts.PrincipalTexts(x.Optional), Waive: accounts.PrincipalTexts(x.Waive), Source: x.From,
			FixedBy: x.From.Document, Files: files[x.From.String()]})
	}
	return out, nil
}

// required puts into words what an area requires by itself.
func required(a rules.PlacedArea) []string {
	out := []string{}
	for _, q := range a.Requirements {
		out = append(out, q.Clause())
	}
	return out
}

// Ownership is the rules in force for a repository, and who has access.
func (s *Rulebook) Ownership(db *gorm.DB, repo *records.Repository) (*InForce, people.Everyone, error) {
	force, err := s.RulesOf(db, repo)
	if err != nil {
		return nil, people.Everyone{}, err
	}
	people, err := accounts.PeopleOf(db, repo)
	return force, people, err
}

func ownerAreas(set *rules.Set, people people.Everyone, path string) []wire.OwnerArea {
	out := []wire.OwnerArea{}
	for _, o := range areas.Of(set, path) {
		out = append(out, wire.OwnerArea{Area: o.Area.Name, Pattern: o.Pattern,
			Owners: accounts.PrincipalTexts(o.Area.Owners), People: accounts.MembersOf(people, o.Area.Owners),
			Source: o.Area.From, FixedBy: o.Area.From.Document})
	}
	return out
}

// maxPath is the longest path asked about, in bytes.
const maxPath = 4096

// WhoOwns says who owns a path, and why: a file that there is or that may come.
func (s *Rulebook) WhoOwns(ctx context.Context, a accounts.Actor, name, path string) (wire.PathOwners, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.PathOwners{}, err
	}
	clean := strings.TrimPrefix(strings.TrimPrefix(path, "./"), "/")
	if clean == "" || len(clean) > maxPath || strings.ContainsRune(clean, 0) {
		return wire.PathOwners{}, problem.Wrong("path", "give the path of a file, such as docs/members.md")
	}
	force, people, err := s.Ownership(db, repo)
	if err != nil {
		return wire.PathOwners{}, err
	}
	_, paths, err := s.tree(ctx, repo)
	if err != nil {
		return wire.PathOwners{}, err
	}
	out := wire.PathOwners{Path: clean, Areas: ownerAreas(force.Set, people, clean)}
	for _, p := range paths {
		if p == clean || strings.HasPrefix(p, strings.TrimSuffix(clean, "/")+"/") {
			out.Files++
		}
	}
	return out, nil
}

// OwnershipGaps says what nobody owns and which globs match nothing, at the tip of the default branch.
func (s *Rulebook) OwnershipGaps(ctx context.Context, a accounts.Actor, name string,
	depth int) (wire.OwnershipGaps, error) {
	out := wire.OwnershipGaps{Folders: []wire.FolderShare{}, Idle: []wire.IdlePattern{}}
	if depth < 1 || depth > 10 {
		return out, problem.Wrong("depth", "folders are counted 1 to 10 deep")
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return out, err
	}
	force, err := s.RulesOf(db, repo)
	if err != nil {
		return out, err
	}
	commit, paths, err := s.tree(ctx, repo)
	if err != nil {
		return out, err
	}
	out.Commit = commit
	for _, x := range areas.Shares(force.Set, paths, depth) {
		out.Folders = append(out.Folders, wire.FolderShare{Folder: x.Folder, Files: x.Files, Unowned: x.Unowned()})
	}
	for _, x := range areas.IdlePatterns(force.Set, paths) {
		out.Idle = append(out.Idle, wire.IdlePattern{Area: x.Area.Name, Pattern: x.Pattern, Source: x.Area.From})
	}
	return out, nil
}
