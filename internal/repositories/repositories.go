package repositories

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/chosen"
	"tavrin/internal/core/event"
	"tavrin/internal/core/people"
	"tavrin/internal/git"
	"tavrin/internal/git/transport"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// CreateHouse makes a house.
func (s *Repositories) CreateHouse(ctx context.Context, a accounts.Actor, name string) (wire.House, error) {
	if err := a.MustAdminister("making houses"); err != nil {
		return wire.House{}, err
	}
	if !typed.HouseForm.MatchString(name) {
		return wire.House{}, problem.Wrong("name", "%q is not a name for a house: lower-case letters, digits and "+
			"\"-\", at most 39", name)
	}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Create(&records.House{Name: name, CreatedAt: s.records.Now()}).Error; err != nil {
			return records.OrTaken(err, "there is a house %s already", name)
		}
		return tx.Record(a.Login(), nil, event.HouseCreated{House: name})
	})
	return wire.House{Name: name, Role: "maintainer"}, err
}

// Houses lists the houses in which the actor may read something, or has a role.
func (s *Repositories) Houses(ctx context.Context, a accounts.Actor) ([]wire.House, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	var rows []records.House
	if err := db.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	repos, err := accounts.Readable(db, a)
	if err != nil {
		return nil, err
	}
	houses := []wire.House{}
	for _, h := range rows {
		role, err := accounts.HouseRole(db, a.Account(), h.ID)
		if err != nil {
			return nil, err
		}
		n := 0
		for _, r := range repos {
			if r.HouseID == h.ID {
				n++
			}
		}
		if role == "" && n == 0 && !a.Account().Admin {
			continue
		}
		if role == "" {
			role = "none"
		}
		houses = append(houses, wire.House{Name: h.Name, Role: role, Repositories: n})
	}
	return houses, nil
}

// CreateRepository makes a repository, empty or fetched from a URL on the administrator's list.
func (s *Repositories) CreateRepository(ctx context.Context, a accounts.Actor,
	n wire.NewRepository) (wire.Repository, error) {
	if !a.Known() {
		return wire.Repository{}, problem.New(problem.SignInNeeded, "sign in to make a repository")
	}
	if err := validName(n.Name); err != nil {
		return wire.Repository{}, err
	}
	house, _, _ := strings.Cut(n.Name, "/")
	if n.DefaultBranch != "" {
		if err := git.CheckBranch(n.DefaultBranch); err != nil {
			return wire.Repository{}, problem.Wrong("default_branch", "%v", err)
		}
	}
	var pin string
	if n.ImportURL != "" {
		var err error
		if pin, err = s.destination(ctx, n.ImportURL); err != nil {
			return wire.Repository{}, err
		}
	}
	repo := records.Repository{Name: n.Name, Public: n.Public, CreatedAt: s.records.Now()}
	db := s.records.Read(ctx)
	h, err := accounts.HouseByName(db, a, house)
	if err == nil {
		err = mustBuild(db, a, h)
	}
	if err != nil {
		return wire.Repository{}, err
	}
	repo.HouseID = h.ID
	prepared, imported, err := s.prepareBare(ctx, &n, pin)
	if err != nil {
		return wire.Repository{}, err
	}
	defer os.RemoveAll(prepared)
	repo.DefaultBranch = n.DefaultBranch
	begins, err := git.Open(s.disk.Git, prepared).Refs(ctx, "refs/")
	if err != nil {
		return wire.Repository{}, err
	}
	refs := []event.Ref{} // what an import brought, so that the journal tells of every branch from its beginning
	for _, r := range begins {
		refs = append(refs, event.Ref(r))
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		if err := tx.Create(&repo).Error; err != nil {
			return records.OrTaken(err, "there is a repository %s already, or one that is deleted and can still be restored", n.Name)
		}
		if err := tx.Where("name = ?", n.Name).Delete(&records.FormerName{}).Error; err != nil { // it leads to this one now
			return err
		}
		if err := tx.Record(a.Login(), &repo, event.RepositoryCreated{Name: repo.Name, From: n.ImportURL,
			Refs: refs}); err != nil {
			return err
		}
		return s.disk.Admit(prepared, repo.ID)
	})
	if err != nil {
		return wire.Repository{}, err
	}
	made, err := s.Repository(ctx, a, n.Name)
	made.Imported = imported
	return made, err
}

// validName says what is wrong with the name of a repository, if anything.
func validName(full string) error {
	house, name, ok := strings.Cut(full, "/")
	if !ok || !typed.HouseForm.MatchString(house) || !typed.RepoForm.MatchString(name) ||
		strings.HasSuffix(name, ".git") || strings.Contains(name, "..") {
		return problem.Wrong("name", "%q is not a repository: HOUSE/NAME, lower-case letters, "+
			"digits, \".\", \"_\" and \"-\", not ending in .git", full)
	}
	return nil
}

// prepareBare makes the Git side of a new repository in a folder of its own, so that no record waits for it. The default
// branch that nobody chose is that of what is imported, or main.
func (s *Repositories) prepareBare(ctx context.Context, n *wire.NewRepository, pin string) (string, *wire.Imported, error) {
	parent, err := s.disk.Begin()
	if err != nil {
		return "", nil, err
	}
	bare, err := git.Create(ctx, s.disk.Git, parent, cmp.Or(n.DefaultBranch, "main"))
	var imported *wire.Imported
	if err == nil && n.ImportURL != "" {
		imported, err = s.fetchAll(ctx, bare, n, transport.ImportOptions{URL: n.ImportURL, Resolve: pin})
	}
	n.DefaultBranch = cmp.Or(n.DefaultBranch, "main")
	if err != nil {
		os.RemoveAll(parent) // what stays belongs to no repository and goes at the next start
		var failed *git.CommandError
		if errors.As(err, &failed) {
			return "", nil, problem.New(problem.Invalid, "the import did not work: %v", err)
		}
		return "", nil, err
	}
	return parent, imported, nil
}

// fetchAll imports what is wanted, and chooses the default branch where nobody did.
func (s *Repositories) fetchAll(ctx context.Context, bare *git.Repo, n *wire.NewRepository, o transport.ImportOptions) (*wire.Imported, error) {
	far, err := transport.Look(ctx, bare, o)
	if err != nil {
		return nil, err
	}
	brings, err := chosen.Of(far.Refs, n.Branches, n.DefaultBranch, far.Head)
	if wrong, ok := errors.AsType[*chosen.Wrong](err); ok {
		return nil, problem.Wrong(wrong.Field, "%s: %s", o.URL, wrong.Text)
	}
	n.DefaultBranch = brings.Default
	out := &wire.Imported{Branches: brings.Branches(), Tags: brings.Tags, LeftOut: brings.LeftOut}
	if len(brings.Refs) == 0 {
		return out, nil
	}
	if err := transport.Import(ctx, bare, o, brings.Refs); err != nil {
		return nil, err
	}
	return out, bare.PointHead(ctx, n.DefaultBranch)
}

// mustBuild refuses those who may not make repositories in a house.
func mustBuild(db *gorm.DB, a accounts.Actor, h records.House) error {
	return accounts.MustMaintainHouse(db, a, h, "making repositories")
}

// destination checks a URL against the administrator's list and pins its address.
func (s *Repositories) destination(ctx context.Context, raw string) (string, error) {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || strings.HasPrefix(raw, "-") {
		return "", problem.Wrong("import_url", "%q is not a URL to import from: https://HOST/PATH, without a name "+
			"or password", raw)
	}
	listed := slices.ContainsFunc(s.imports, func(prefix string) bool {
		return raw == prefix || strings.HasPrefix(raw, strings.TrimSuffix(prefix, "/")+"/")
	})
	if !listed || strings.Contains(raw, "..") {
		return "", problem.Wrong("import_url", "%s is not on the list of places to import from; an administrator "+
			"adds it with serve --allow-import PREFIX", raw)
	}
	addresses, err := net.DefaultResolver.LookupIPAddr(ctx, u.Hostname())
	if err != nil || len(addresses) == 0 {
		return "", problem.Wrong("import_url", "the host %s has no address", u.Hostname())
	}
	ip := addresses[0].IP
	if u.Scheme != "https" && !(u.Scheme == "http" && ip.IsLoopback()) {
		return "", problem.Wrong("import_url", "%s is fetched in the clear; https only", raw)
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	return fmt.Sprintf("%s:%s:%s", u.Hostname(), port, ip), nil
}

// Repositories lists the repositories that the actor may read.
func (s *Repositories) Repositories(ctx context.Context, a accounts.Actor) ([]wire.Repository, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	rows, err := accounts.Readable(snap.DB, a)
	if err != nil {
		return nil, err
	}
	return s.repositoryViews(snap.DB, a, rows)
}

// Repository describes one repository.
func (s *Repositories) Repository(ctx context.Context, a accounts.Actor, name string) (wire.Repository, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	repo, err := accounts.Reach(snap.DB, a, name, people.Reader)
	if err != nil {
		return wire.Repository{}, err
	}
	views, err := s.repositoryViews(snap.DB, a, []records.Repository{*repo})
	if err != nil {
		return wire.Repository{}, err
	}
	return views[0], nil
}

// repositoryViews describes repositories, in their order: each table is asked once for all of them.
func (s *Repositories) repositoryViews(db *gorm.DB, a accounts.Actor, rows []records.Repository) ([]wire.Repository, error) {
	roles, err := accounts.RolesOf(db, a.Account())
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	open, err := counted(db, "SELECT repository_id, count(*) AS n FROM changes WHERE repository_id IN ? AND state IN ('draft', 'open') GROUP BY repository_id", ids)
	if err != nil {
		return nil, err
	}
	queued, err := counted(db, "SELECT repository_id, count(*) AS n FROM entries WHERE repository_id IN ? AND ended_at IS NULL GROUP BY repository_id", ids)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Repository, len(rows))
	for i := range rows {
		repo := &rows[i]
		v := wire.Repository{Trouble: repo.Trouble, Name: repo.Name, Description: repo.Description, ReadOnly: repo.ReadOnly, DefaultBranch: repo.DefaultBranch, Public: repo.Public,
			Role: cmp.Or(string(roles.In(repo)), "none"), OpenChanges: open[repo.ID], InQueue: queued[repo.ID]}
		any, err := s.disk.Bare(repo).RefFiles().Any("refs/heads/")
		if err != nil {
			return nil, err
		}
		v.Empty = !any
		force, err := s.rulebook.Versions(db, repo)
		if err != nil {
			return nil, err
		}
		v.RulesVersion, v.HouseVersion = force.Own.Version, force.House.Version
		out[i] = v
	}
	return out, nil
}

// counted counts rows by repository.
func counted(db *gorm.DB, query string, repos []int64) (map[int64]int, error) {
	var rows []struct {
		RepositoryID int64
		N            int
	}
	err := db.Raw(query, repos).Scan(&rows).Error
	out := map[int64]int{}
	for _, r := range rows {
		out[r.RepositoryID] = r.N
	}
	return out, err
}
