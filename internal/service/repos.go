package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

const (
	MaxFileBytes = 512 << 10 // of a file shown
	maxHistory   = 200       // commits in one answer
)

func houseByName(db *gorm.DB, name string) (store.House, error) {
	var h store.House
	err := db.Where("name = ?", name).First(&h).Error
	return h, orUnknown(err, "there is no house %q: tavrin house create %s", name, name)
}

// CreateHouse makes a house.
func (s *Service) CreateHouse(ctx context.Context, a Actor, name string) (wire.House, error) {
	if err := a.mustAdminister("making houses"); err != nil {
		return wire.House{}, err
	}
	if !houseForm.MatchString(name) {
		return wire.House{}, invalid("name", "%q is not a name for a house: lower-case letters, digits and \"-\", at most 39", name)
	}
	err := s.write(ctx, func(tx *tx) error {
		if err := tx.Create(&store.House{Name: name, CreatedAt: s.now()}).Error; err != nil {
			return taken(err, "there is a house %s already", name)
		}
		return tx.record(event{actor: a.Login(), kind: "house.created", subject: "house/" + name, text: fmt.Sprintf("%s made house %s", a.Login(), name)})
	})
	return wire.House{Name: name, Role: "maintainer"}, err
}

// Houses lists the houses in which the actor may read something, or has a role.
func (s *Service) Houses(ctx context.Context, a Actor) ([]wire.House, error) {
	db := s.store.Read(ctx)
	var rows []store.House
	if err := db.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	repos, err := s.readable(db, a)
	if err != nil {
		return nil, err
	}
	houses := []wire.House{}
	for _, h := range rows {
		role, err := houseRole(db, a.account, h.ID)
		if err != nil {
			return nil, err
		}
		n := 0
		for _, r := range repos {
			if r.HouseID == h.ID {
				n++
			}
		}
		if role == "" && n == 0 && !a.account.Admin {
			continue
		}
		if role == "" {
			role = "none"
		}
		houses = append(houses, wire.House{Name: h.Name, Role: role, Repositories: n})
	}
	return houses, nil
}

// readable returns the repositories that the actor may read, by name.
func (s *Service) readable(db *gorm.DB, a Actor) ([]store.Repository, error) {
	var rows []store.Repository
	if err := db.Order("name").Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []store.Repository
	for _, r := range rows {
		if _, err := s.reach(db, a, r.Name, gate.Reader); err == nil {
			out = append(out, r)
		} else if p := (*Problem)(nil); !errors.As(err, &p) {
			return nil, err
		}
	}
	return out, nil
}

// NewRepository is what a repository is made from.
type NewRepository struct {
	Name          string // HOUSE/NAME
	DefaultBranch string // empty: main
	Public        bool
	ImportURL     string // empty: it starts empty
}

// CreateRepository makes a repository, empty or fetched from a URL on the administrator's list.
func (s *Service) CreateRepository(ctx context.Context, a Actor, n NewRepository) (wire.Repository, error) {
	if !a.Known() {
		return wire.Repository{}, problem(SignInNeeded, "sign in to make a repository")
	}
	house, name, ok := strings.Cut(n.Name, "/")
	if !ok || !houseForm.MatchString(house) || !repoForm.MatchString(name) || strings.HasSuffix(name, ".git") || strings.Contains(name, "..") {
		return wire.Repository{}, invalid("name", "%q is not a repository: HOUSE/NAME, lower-case letters, digits, \".\", \"_\" and \"-\", not ending in .git", n.Name)
	}
	if n.DefaultBranch == "" {
		n.DefaultBranch = "main"
	}
	if err := git.CheckBranch(n.DefaultBranch); err != nil {
		return wire.Repository{}, invalid("default_branch", "%v", err)
	}
	var pin string
	if n.ImportURL != "" {
		var err error
		if pin, err = s.destination(ctx, n.ImportURL); err != nil {
			return wire.Repository{}, err
		}
	}
	repo := store.Repository{Name: n.Name, DefaultBranch: n.DefaultBranch, Public: n.Public, CreatedAt: s.now()}
	db := s.store.Read(ctx)
	h, err := houseByName(db, house)
	if err == nil {
		err = s.mustBuild(db, a, h)
	}
	if err != nil {
		return wire.Repository{}, err
	}
	repo.HouseID = h.ID
	prepared, err := s.prepareBare(ctx, n, pin)
	if err != nil {
		return wire.Repository{}, err
	}
	defer os.RemoveAll(prepared)
	begins, err := s.git.Open(prepared).Refs(ctx, "refs/")
	if err != nil {
		return wire.Repository{}, err
	}
	refs := map[string]string{} // what an import brought, so that the journal tells of every branch from its beginning
	for _, r := range begins {
		refs[r.Name] = r.ID
	}
	err = s.write(ctx, func(tx *tx) error {
		if err := tx.Create(&repo).Error; err != nil {
			return taken(err, "there is a repository %s already", n.Name)
		}
		text := fmt.Sprintf("%s made repository %s", a.Login(), repo.Name)
		if n.ImportURL != "" {
			text += " from " + n.ImportURL
		}
		if err := tx.record(event{actor: a.Login(), kind: "repository.created", repo: &repo, subject: "repository/" + repo.Name, text: text, data: map[string]any{"refs": refs}}); err != nil {
			return err
		}
		dir := s.bareDir(&repo)
		if err := os.RemoveAll(dir); err != nil { // left by a try that was never recorded
			return err
		}
		return os.Rename(prepared, dir)
	})
	if err != nil {
		return wire.Repository{}, err
	}
	return s.Repository(ctx, a, n.Name)
}

// prepareBare makes the Git side of a new repository in a folder of its own, so that no record waits for it.
func (s *Service) prepareBare(ctx context.Context, n NewRepository, pin string) (string, error) {
	parent, err := os.MkdirTemp(filepath.Join(s.dir, "repositories"), "new-")
	if err != nil {
		return "", err
	}
	if err := os.Remove(parent); err != nil {
		return "", err
	}
	bare, err := s.git.Create(ctx, parent, n.DefaultBranch)
	if err == nil && n.ImportURL != "" {
		err = bare.Import(ctx, git.ImportOptions{URL: n.ImportURL, Resolve: pin})
	}
	if err != nil {
		os.RemoveAll(parent)
		var failed *git.CommandError
		if errors.As(err, &failed) {
			return "", problem(Invalid, "the import did not work: %v", err)
		}
	}
	return parent, err
}

// mustBuild refuses those who may not make repositories in a house.
func (s *Service) mustBuild(db *gorm.DB, a Actor, h store.House) error {
	role, err := houseRole(db, a.account, h.ID)
	if err != nil {
		return err
	}
	if a.scope == ScopeAll && (role == "maintainer" || role == roleKeeper) {
		return nil
	}
	return s.mustKeep(db, a, h, "making repositories")
}

// destination checks a URL against the administrator's list and pins its address.
func (s *Service) destination(ctx context.Context, raw string) (string, error) {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || strings.HasPrefix(raw, "-") {
		return "", invalid("import_url", "%q is not a URL to import from: https://HOST/PATH, without a name or password", raw)
	}
	listed := slices.ContainsFunc(s.imports, func(prefix string) bool {
		return raw == prefix || strings.HasPrefix(raw, strings.TrimSuffix(prefix, "/")+"/")
	})
	if !listed || strings.Contains(raw, "..") {
		return "", invalid("import_url", "%s is not on the list of places to import from; an administrator adds it with serve --allow-import PREFIX", raw)
	}
	addresses, err := net.DefaultResolver.LookupIPAddr(ctx, u.Hostname())
	if err != nil || len(addresses) == 0 {
		return "", invalid("import_url", "the host %s has no address", u.Hostname())
	}
	ip := addresses[0].IP
	if u.Scheme != "https" && !(u.Scheme == "http" && ip.IsLoopback()) {
		return "", invalid("import_url", "%s is fetched in the clear; https only", raw)
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	return fmt.Sprintf("%s:%s:%s", u.Hostname(), port, ip), nil
}

// Repositories lists the repositories that the actor may read.
func (s *Service) Repositories(ctx context.Context, a Actor) ([]wire.Repository, error) {
	rows, err := s.readable(s.store.Read(ctx), a)
	if err != nil {
		return nil, err
	}
	repos := []wire.Repository{}
	for _, r := range rows {
		view, err := s.repositoryView(ctx, a, &r)
		if err != nil {
			return nil, err
		}
		repos = append(repos, view)
	}
	return repos, nil
}

// Repository describes one repository.
func (s *Service) Repository(ctx context.Context, a Actor, name string) (wire.Repository, error) {
	repo, err := s.reach(s.store.Read(ctx), a, name, gate.Reader)
	if err != nil {
		return wire.Repository{}, err
	}
	return s.repositoryView(ctx, a, repo)
}

func (s *Service) repositoryView(ctx context.Context, a Actor, repo *store.Repository) (wire.Repository, error) {
	db := s.store.Read(ctx)
	role, err := roleIn(db, a.account, repo)
	if err != nil {
		return wire.Repository{}, err
	}
	if role == gate.NoRole {
		role = "none"
	}
	v := wire.Repository{Trouble: repo.Trouble, Name: repo.Name, DefaultBranch: repo.DefaultBranch, Public: repo.Public, Role: string(role)}
	heads, err := s.bare(repo).Refs(ctx, "refs/heads/")
	if err != nil {
		return v, err
	}
	v.Empty = len(heads) == 0
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return v, err
	}
	v.RulesVersion, v.HouseVersion = force.own.Version, force.house.Version
	var open, queued int64
	if err := db.Model(&store.Change{}).Where("repository_id = ? AND state IN ('open', 'draft')", repo.ID).Count(&open).Error; err != nil {
		return v, err
	}
	err = db.Model(&store.Entry{}).Where("repository_id = ? AND ended_at IS NULL", repo.ID).Count(&queued).Error
	v.OpenChanges, v.InQueue = int(open), int(queued)
	return v, err
}

// Branches lists a repository's branches with what protects them.
func (s *Service) Branches(ctx context.Context, a Actor, name string) ([]wire.Branch, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	bare := s.bare(repo)
	heads, err := bare.Refs(ctx, "refs/heads/")
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(heads))
	for i, h := range heads {
		ids[i] = h.ID
	}
	states, err := checkStates(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return nil, err
	}
	set := force.now()
	tips, err := bare.Commits(ctx, ids)
	if err != nil {
		return nil, fmt.Errorf("read the tips of the branches: %w", err)
	}
	branches := []wire.Branch{}
	for i, h := range heads {
		b := wire.Branch{Name: strings.TrimPrefix(h.Name, "refs/heads/"), Commit: h.ID, Subject: tips[i].Subject, Author: tips[i].Author.Name,
			CommittedAt: tips[i].CommittedAt, Protections: set.For(strings.TrimPrefix(h.Name, "refs/heads/")).Names(), Checks: states[h.ID]}
		b.Default = b.Name == repo.DefaultBranch
		branches = append(branches, b)
	}
	slices.SortStableFunc(branches, func(x, y wire.Branch) int { return order(x.Default, y.Default) })
	return branches, nil
}

// order sorts what is true first.
func order(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// commitAt finds the commit that a branch name, a tag or a whole id means.
func (s *Service) commitAt(ctx context.Context, repo *store.Repository, at string) (string, error) {
	bare := s.bare(repo)
	if at == "" {
		at = repo.DefaultBranch
	}
	if git.IsID(at) {
		if bare.HasCommit(ctx, at) {
			return at, nil
		}
		return "", problem(Unknown, "%s has no commit %s", repo.Name, at)
	}
	for _, prefix := range []string{"refs/heads/", "refs/tags/"} {
		if id, err := bare.Tip(ctx, prefix+at); err == nil {
			return id, nil
		}
	}
	return "", problem(Unknown, "%s has no branch, tag or commit %q", repo.Name, at)
}

// History lists commits from a branch, tag or commit backwards.
func (s *Service) History(ctx context.Context, a Actor, name, at string, skip, limit int) ([]wire.Commit, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	from, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return nil, err
	}
	if limit <= 0 {
		limit = 30
	}
	log, err := s.bare(repo).Log(ctx, from, nil, max(0, skip), min(limit, maxHistory))
	if err != nil {
		return nil, err
	}
	if at == "" {
		at = repo.DefaultBranch
	}
	return s.commitViews(db, repo, log, at)
}

// commitViews describes commits as a branch has them.
func (s *Service) commitViews(db *gorm.DB, repo *store.Repository, log []git.Commit, branch string) ([]wire.Commit, error) {
	ids := make([]string, len(log))
	for i, c := range log {
		ids[i] = c.ID
	}
	states, err := checkStates(db, repo.ID, ids)
	if err != nil {
		return nil, err
	}
	landed, err := s.landingsOf(db, repo, ids, branch)
	if err != nil {
		return nil, err
	}
	overrides, err := overrideViews(db.Where("overrides.repository_id = ? AND used_as IN ?", repo.ID, ids))
	if err != nil {
		return nil, err
	}
	commits := []wire.Commit{}
	for _, c := range log {
		v := wire.Commit{ID: c.ID, Subject: c.Subject, Body: c.Body, Author: c.Author.Name, AuthoredAt: c.Author.When, Parents: c.Parents, Checks: states[c.ID]}
		if l, ok := landed[c.ID]; ok {
			v.Change, v.Landed = l.Number, &l
		}
		if i := slices.IndexFunc(overrides, func(o wire.Override) bool { return o.UsedAs == c.ID }); i >= 0 {
			v.Override = &overrides[i]
		}
		commits = append(commits, v)
	}
	return commits, nil
}

// treePath says what is wrong with a path in a tree, if anything.
func treePath(path string) error {
	if strings.ContainsRune(path, 0) || !utf8.ValidString(path) || slices.Contains(strings.Split(path, "/"), "..") {
		return invalid("path", "%q is not a path in a tree", path)
	}
	return nil
}

// RawFile finds a file, and returns what writes its bytes.
func (s *Service) RawFile(ctx context.Context, a Actor, name, at, path string) (send func(io.Writer) error, err error) {
	repo, err := s.reach(s.store.Read(ctx), a, name, gate.Reader)
	if err == nil {
		err = cmp.Or(s.MayCall(a, "get-file"), treePath(path))
	}
	if err != nil {
		return nil, err
	}
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return nil, err
	}
	bare := s.bare(repo)
	if path = strings.Trim(path, "/"); path == "" || !bare.HasFile(ctx, commit, path) {
		return nil, problem(Unknown, "%s has no file %q at %.10s", repo.Name, path, commit)
	}
	return func(w io.Writer) error { return bare.SendFile(ctx, commit, path, w) }, nil
}

// Tree shows a folder or a file at a commit.
func (s *Service) Tree(ctx context.Context, a Actor, name, at, path string) (wire.Tree, error) {
	repo, err := s.reach(s.store.Read(ctx), a, name, gate.Reader)
	if err != nil {
		return wire.Tree{}, err
	}
	if err := treePath(path); err != nil {
		return wire.Tree{}, err
	}
	path = strings.Trim(path, "/")
	commit, err := s.commitAt(ctx, repo, at)
	if err != nil {
		return wire.Tree{}, err
	}
	if err := s.wantsOf(s.store.Read(ctx), a, repo, commit); err != nil {
		return wire.Tree{}, err
	}
	v := wire.Tree{Commit: commit, Path: path}
	bare := s.bare(repo)
	entries, err := bare.Tree(ctx, commit, path)
	if err == nil {
		v.Entries = []wire.TreeEntry{}
		for _, e := range entries {
			v.Entries = append(v.Entries, wire.TreeEntry(e))
		}
		return v, nil
	}
	text, partial, err := bare.File(ctx, commit, path, MaxFileBytes)
	if errors.Is(err, git.ErrNotFound) {
		return v, problem(Unknown, "%s has no %q at %.10s", repo.Name, path, commit)
	}
	v.File, v.Partial, v.Binary = true, partial, strings.ContainsRune(text, 0)
	if !v.Binary {
		v.Text = strings.ToValidUTF8(text, "\uFFFD")
	}
	return v, err
}
