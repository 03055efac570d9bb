package reading

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"path"
	"regexp"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tavrin/internal/accounts"
	"tavrin/internal/changes"
	"tavrin/internal/core/people"
	"tavrin/internal/facts"
	"tavrin/internal/git"
	"tavrin/internal/git/rehearsal"
	"tavrin/internal/problem"
	"tavrin/internal/recall"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

const (
	MaxPatch     = 2 << 20 // of a whole difference
	maxFilePatch = 1 << 20 // of one file
	usualContext = 3       // lines
	maxContext   = 10000
)

// Reading says what of a change somebody reads, and how.
type Reading struct {
	Revision    int    // 0: the newest
	Since       int    // another revision: what came after it, without what came only from the target; 0: everything
	Commit      string // one commit of the revision; empty: all
	IgnoreSpace bool
	FilesOnly   bool
	Context     int // lines around what differs; 0: three
}

func (q Reading) options() git.DiffOptions {
	if q.Context == 0 {
		q.Context = usualContext
	}
	return git.DiffOptions{IgnoreSpace: q.IgnoreSpace, Context: min(q.Context, maxContext)}
}

// compared is what a reading compares: two commits or trees.
type compared struct {
	revision records.Revision
	from, to string
	notTaken []string
}

// compare finds out what a reading compares.
func (s *Reader) compare(ctx context.Context, db *gorm.DB, repo *records.Repository, c records.Change,
	q Reading) (compared, error) {
	r, err := facts.RevisionNumbered(db, c, q.Revision)
	if err != nil {
		return compared{}, err
	}
	v := compared{revision: r, from: r.Base, to: r.Head}
	switch {
	case q.Commit != "" && q.Since != 0:
		return v, problem.Wrong("commit", "one commit, or what came since a revision: not both")
	case q.Commit != "":
		if v.to, err = facts.BroughtBy(c, r, q.Commit); err != nil {
			return v, err
		}
		v.from, err = s.disk.Bare(repo).Parent(ctx, v.to)
		return v, err
	case q.Since != 0:
		since, err := facts.RevisionNumbered(db, c, q.Since)
		if err != nil {
			return v, err
		}
		v.from, v.notTaken, err = s.carriedOver(ctx, repo, since, r)
		return v, err
	}
	return v, nil
}

// carriedOver is the tree that an earlier revision would have made on a later one's base.
func (s *Reader) carriedOver(ctx context.Context, repo *records.Repository, since,
	r records.Revision) (string, []string, error) {
	type tree struct {
		id       string
		notTaken []string
	}
	v, err := recall.Of(s.memory, recall.Key{What: "carried", Repo: repo.ID, Of: since.Base + since.Head + r.Base},
		recall.Light, func() (tree, error) {
			id, notTaken, err := rehearsal.CarryOver(ctx, s.disk.Bare(repo), rehearsal.Shown{Base: since.Base, Head: since.Head}, r.Base)
			for i := range notTaken {
				notTaken[i] = typed.Shown(notTaken[i])
			}
			return tree{id, notTaken}, err
		})
	return v.id, v.notTaken, err
}

// filesOf lists the files of a difference.
func (s *Reader) filesOf(ctx context.Context, repo *records.Repository, from, to string,
	o git.DiffOptions) ([]git.FileDiff, error) {
	o.Context = 0
	space := ""
	if o.IgnoreSpace {
		space = "w"
	}
	return recall.Of(s.memory, recall.Key{What: "files", Repo: repo.ID, Of: from + to + space}, recall.ByLength,
		func() ([]git.FileDiff, error) { return s.disk.Bare(repo).DiffWith(ctx, from, to, o) })
}

// fileKey names a file by its path, whatever that is made of.
func fileKey(path string) string {
	sum := sha256.Sum256([]byte(path))
	return hex.EncodeToString(sum[:8])
}

// Diff shows what a reading is about.
func (s *Reader) Diff(ctx context.Context, a accounts.Actor, name string, number int, q Reading) (wire.Diff, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.Diff{}, err
	}
	k, err := s.compare(ctx, db, repo, c, q)
	if err != nil {
		return wire.Diff{}, err
	}
	files, err := s.filesOf(ctx, repo, k.from, k.to, q.options())
	if err != nil {
		return wire.Diff{}, err
	}
	v := wire.Diff{Number: number, Revision: k.revision.Number, Since: q.Since, Commit: q.Commit, Base: k.from,
		Head: k.to, Files: make([]wire.FileDiff, len(files)), NotTaken: []string{}}
	v.NotTaken = append(v.NotTaken, k.notTaken...)
	read, err := s.ticked(ctx, db, a, repo, c, k.revision)
	if err != nil {
		return v, err
	}
	for i, f := range files {
		v.Files[i] = fileView(f, read)
	}
	var look records.ChangeLook
	if err := db.Where("change_id = ? AND login = ?", c.ID, a.Login()).Limit(1).Find(&look).Error; err != nil {
		return v, err
	}
	v.Looked = look.Revision
	if q.FilesOnly {
		return v, nil
	}
	v.Patch, v.Partial, err = s.wholePatch(ctx, repo, k, files, q)
	v.Patch = typed.Shown(v.Patch)
	return v, err
}

// manyFiles is up to how many files are named to git one by one.
const manyFiles = 500

// wholePatch is the patch of all files. Where some are text that Git takes for binary, their content is shown, and that
// of binary files is not.
func (s *Reader) wholePatch(ctx context.Context, repo *records.Repository, k compared, files []git.FileDiff,
	q Reading) (string, bool, error) {
	bare := s.disk.Bare(repo)
	if !slices.ContainsFunc(files, func(f git.FileDiff) bool { return f.Odd }) || len(files) > manyFiles {
		return bare.Patch(ctx, k.from, k.to, MaxPatch, q.options(), false)
	}
	paths := map[bool][]string{} // by whether it is binary
	for _, f := range files {
		paths[f.Binary] = append(paths[f.Binary], f.Path)
		if f.OldPath != "" {
			paths[f.Binary] = append(paths[f.Binary], f.OldPath)
		}
	}
	text, partial, err := bare.Patch(ctx, k.from, k.to, MaxPatch, q.options(), true, paths[false]...)
	if err != nil || partial || len(paths[true]) == 0 {
		return text, partial, err
	}
	binary, partial, err := bare.Patch(ctx, k.from, k.to, MaxPatch, q.options(), false, paths[true]...)
	return text + binary, partial, err
}

func fileView(f git.FileDiff, read map[string]bool) wire.FileDiff {
	v := wire.FileDiff{File: fileKey(f.Path), Path: typed.Shown(f.Path), OldPath: typed.Shown(f.OldPath),
		Status: f.Status, Similarity: f.Similarity, Added: f.Added, Removed: f.Removed, Binary: f.Binary, Generated: generated(f.Path)}
	if f.OldMode != f.NewMode && f.Status != "added" && f.Status != "deleted" {
		v.OldMode, v.NewMode = f.OldMode, f.NewMode
	}
	v.Notes = fileNotes(f)
	v.Read = read[v.File]
	return v
}

// modeWords says what a mode of Git's makes of a file.
var modeWords = map[string]string{"100755": "may be run as a program",
	"120000": "a symbolic link: its line is where it leads", "160000": "a submodule: its line is a commit of " +
		"another repository"}

// fileNotes says what the lines of a file do not show.
func fileNotes(f git.FileDiff) []string {
	notes := []string{}
	switch {
	case f.Status == "deleted" && modeWords[f.OldMode] != "":
		notes = append(notes, "was: "+modeWords[f.OldMode])
	case modeWords[f.NewMode] != "" && f.NewMode != f.OldMode:
		notes = append(notes, modeWords[f.NewMode])
	case f.OldMode == "100755" && f.NewMode != f.OldMode && f.Status != "deleted":
		notes = append(notes, "may not be run as a program any more")
	case f.NewMode == "120000" || f.NewMode == "160000":
		notes = append(notes, modeWords[f.NewMode])
	}
	if f.Odd {
		notes = append(notes, "holds bytes that text does not have")
	}
	return notes
}

// lockFiles are the names of files that package managers write.
var lockFiles = regexp.MustCompile(`^(go\.sum|package-lock\.json|npm-shrinkwrap\.json|yarn\.lock|pnpm-lock\.yaml|composer\.lock|Cargo\.lock|Gemfile\.lock|poetry\.lock|uv\.lock)$|\.(min\.(js|css)|map|pb\.go|snap)$|_pb2\.py$`)

// generated says whether a file is made by a program, as far as its name tells.
func generated(file string) bool { return lockFiles.MatchString(path.Base(file)) }

// FileDiff shows one file of what a reading is about.
func (s *Reader) FileDiff(ctx context.Context, a accounts.Actor, name string, number int, file string,
	q Reading) (wire.FilePatch, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return wire.FilePatch{}, err
	}
	k, err := s.compare(ctx, db, repo, c, q)
	if err != nil {
		return wire.FilePatch{}, err
	}
	files, err := s.filesOf(ctx, repo, k.from, k.to, q.options())
	if err != nil {
		return wire.FilePatch{}, err
	}
	i := slices.IndexFunc(files, func(f git.FileDiff) bool { return fileKey(f.Path) == file })
	if i < 0 {
		return wire.FilePatch{}, problem.New(problem.Unknown, "that difference has no file %q; its list of files "+
			"names each", file)
	}
	read, err := s.ticked(ctx, db, a, repo, c, k.revision)
	if err != nil {
		return wire.FilePatch{}, err
	}
	v := wire.FilePatch{FileDiff: fileView(files[i], read)}
	paths := []string{files[i].Path}
	if files[i].OldPath != "" {
		paths = append(paths, files[i].OldPath)
	}
	v.Patch, v.Partial, err = s.disk.Bare(repo).Patch(ctx, k.from, k.to, maxFilePatch, q.options(), files[i].Odd,
		paths...)
	v.Patch = typed.Shown(v.Patch)
	return v, err
}

// ticked says which files the actor has read at a revision: those they ticked there, and those ticked at another that
// are the same here.
func (s *Reader) ticked(ctx context.Context, db *gorm.DB, a accounts.Actor, repo *records.Repository, c records.Change,
	r records.Revision) (map[string]bool, error) {
	var rows []records.FileTick
	if !a.Known() {
		return nil, nil
	}
	if err := db.Where("change_id = ? AND login = ?", c.ID, a.Login()).Find(&rows).Error; err != nil {
		return nil, err
	}
	read := map[string]bool{}
	changed := map[int]map[string]bool{r.Number: {}} // by the revision of the tick
	for _, t := range rows {
		if changed[t.Revision] == nil {
			then, err := facts.RevisionNumbered(db, c, t.Revision)
			if err != nil {
				return nil, err
			}
			if changed[t.Revision], err = s.differing(ctx, repo, then, r); err != nil {
				return nil, err
			}
		}
		read[t.File] = !changed[t.Revision][t.File]
	}
	return read, nil
}

// differing says in which files one revision brings something else than another.
func (s *Reader) differing(ctx context.Context, repo *records.Repository, then,
	now records.Revision) (map[string]bool, error) {
	tree, notTaken, err := s.carriedOver(ctx, repo, then, now)
	if err != nil {
		return nil, err
	}
	files, err := s.filesOf(ctx, repo, tree, now.Head, git.DiffOptions{})
	out := map[string]bool{}
	for _, f := range files {
		out[fileKey(f.Path)] = true
		if f.OldPath != "" {
			out[fileKey(f.OldPath)] = true
		}
	}
	for _, p := range notTaken {
		out[fileKey(p)] = true
	}
	return out, err
}

// Tick ticks a file of a revision as read by the actor, or takes the tick away.
func (s *Reader) Tick(ctx context.Context, a accounts.Actor, name string, number, revision int, file string,
	read bool) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in to mark files as read")
	}
	db := s.records.Read(ctx)
	repo, c, err := facts.ChangeRow(db, a, name, number, people.Reader)
	if err != nil {
		return err
	}
	r, err := facts.RevisionNumbered(db, c, revision)
	if err != nil {
		return err
	}
	files, err := s.filesOf(ctx, repo, r.Base, r.Head, git.DiffOptions{})
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(files, func(f git.FileDiff) bool { return fileKey(f.Path) == file }) {
		return problem.New(problem.Unknown, "revision %d of change %d has no file %q", r.Number, number, file)
	}
	return s.records.Note(ctx, func(tx *records.Tx) error {
		if !read {
			return tx.Where("change_id = ? AND login = ? AND file = ?", c.ID, a.Login(),
				file).Delete(&records.FileTick{}).Error
		}
		row := records.FileTick{ChangeID: c.ID, Login: a.Login(), File: file, Revision: r.Number}
		return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "change_id"}, {Name: "login"},
			{Name: "file"}}, DoUpdates: clause.AssignmentColumns([]string{"revision"})}).Create(&row).Error
	})
}

// Looked remembers up to which revision the actor has looked at a change. It never goes back.
func (s *Reader) Looked(ctx context.Context, a accounts.Actor, name string, number, revision int) error {
	if !a.Known() {
		return problem.New(problem.SignInNeeded, "sign in to have it remembered what you looked at")
	}
	return s.records.Note(ctx, func(tx *records.Tx) error {
		_, c, err := facts.ChangeRow(tx.DB, a, name, number, people.Reader)
		if err != nil {
			return err
		}
		r, err := facts.RevisionNumbered(tx.DB, c, revision)
		if err != nil {
			return err
		}
		return changes.RememberLook(tx, c, a.Login(), r.Number)
	})
}
