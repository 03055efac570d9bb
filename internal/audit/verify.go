package audit

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/journal"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/tasks"
	"tavrin/wire"
)

// NoteLoss puts on record that a loss was accepted, and returns what does not agree with the journal.
func (s *Auditor) NoteLoss(ctx context.Context) ([]string, error) {
	v := verification{s: s, story: journal.NewStory(), tell: func(float64, string) {}}
	err := v.lines(s.records.Read(ctx))
	if err == nil {
		err = v.refs(ctx)
	}
	if err != nil {
		return nil, err
	}
	return v.found, s.records.Write(ctx, func(tx *records.Tx) error {
		return tx.Record(records.Itself, nil, event.LossAccepted{
			Seq: v.chain.Head().Seq, Count: len(v.found), Found: v.found[:min(len(v.found), mostFindings)],
		})
	})
}

// mostFindings is how many things that do not agree are told at once.
const mostFindings = 20

// Verification is the task of verifying the journal: from the service's last checkpoint on, where there is one that its key has signed,
// or, with whole, from the first line; and that it goes on from a head that was exported earlier.
func (s *Auditor) Verification(a accounts.Actor, earlier *wire.SignedHead, whole bool) (tasks.Work, error) {
	if earlier != nil {
		if err := s.key.IsOurs(*earlier); err != nil {
			return tasks.Work{}, err
		}
	}
	return tasks.Work{
		What: "verify the journal",
		May:  func(_ context.Context, a accounts.Actor) error { return a.MustAdminister("verifying the journal") },
		Do: func(ctx context.Context, tell func(float64, string), result *wire.Task) error {
			head, from, err := s.VerifyJournal(ctx, a, earlier, whole, tell)
			result.Head, result.From = &head, from
			return err
		},
	}, nil
}

// VerifyJournal checks the journal, and that records and branches are as it tells; see Verification. It tells how far it is, and from which line on it was read.
func (s *Auditor) VerifyJournal(ctx context.Context, a accounts.Actor, earlier *wire.SignedHead, whole bool,
	tell func(done float64, words string)) (head wire.SignedHead, from int64, err error) {
	if err := a.MustAdminister("verifying the journal"); err != nil {
		return head, 0, err
	}
	v := verification{s: s, story: journal.NewStory(), tell: tell}
	if earlier != nil {
		if err := s.key.IsOurs(*earlier); err != nil {
			return head, 0, err
		}
		v.earlier = earlier.JournalHead
	}
	if !whole {
		v.goOn()
	}
	if at := v.chain.Head(); v.earlier.Seq == at.Seq && v.earlier != at || v.earlier.Seq != 0 && v.earlier.Seq < at.Seq {
		v.chain, v.story = journal.Verifier{}, journal.NewStory() // the head is of before: the lines from it on are to be read
	}
	from = v.chain.Head().Seq
	// One snapshot: what is written meanwhile is not half of it.
	var checkpoint []byte
	err = s.records.Read(ctx).Transaction(func(db *gorm.DB) error {
		if err := v.lines(db); err != nil {
			return err
		}
		var err error
		if checkpoint, err = v.checkpoint(); err != nil {
			return err
		}
		for i, compare := range []func(*gorm.DB) error{v.checks, v.reviews, v.landings, v.rules} {
			v.tell(0.7+0.05*float64(i), "the records are compared")
			if err := compare(db); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		v.tell(0.9, "the branches are compared")
		err = v.refs(ctx)
	}
	if err != nil {
		return head, 0, err
	}
	if len(v.found) > 0 {
		more := ""
		if n := len(v.found) - mostFindings; n > 0 {
			v.found, more = v.found[:mostFindings], fmt.Sprintf("; and %d more", n)
		}
		return head, 0, problem.New(problem.Conflict, "the journal does not agree with what there is: %s%s",
			strings.Join(v.found, "; "), more)
	}
	if err := v.keep(checkpoint); err != nil {
		s.log.Warn("the checkpoint of a verification could not be kept", "error", err)
	}
	return s.key.Head(v.chain.Head()), from, nil
}

// verification is one verification of the journal.
type verification struct {
	s       *Auditor
	earlier journal.Head // of an earlier export; zero: none
	chain   journal.Verifier
	story   *journal.Story
	found   []string
	tell    func(done float64, words string)
}

func (v *verification) say(format string, args ...any) {
	v.found = append(v.found, fmt.Sprintf(format, args...))
}

// lines reads the journal. A chain that does not hold together ends it: what follows says nothing.
func (v *verification) lines(db *gorm.DB) error {
	var end int64
	if err := db.Raw("SELECT ifnull(max(seq), 0) FROM journal_lines").Scan(&end).Error; err != nil {
		return err
	}
	from := v.chain.Head().Seq
	if from > 0 { // a checkpoint says what stood there
		var at records.JournalLine
		if err := db.Limit(1).Find(&at, from).Error; err != nil {
			return err
		}
		if at.Hash != v.chain.Head().Hash {
			return problem.New(problem.Conflict, "the journal was rewritten or cut: its line %d has the hash %q, and %q when it was verified last", from, at.Hash, v.chain.Head().Hash)
		}
	}
	for n := 0; ; n++ {
		if n%20 == 0 {
			at := v.chain.Head().Seq
			v.tell(0.7*float64(at-from)/float64(max(1, end-from)), fmt.Sprintf("line %d of %d", at, end))
		}
		lines, err := readLines(db.Where("seq > ?", v.chain.Head().Seq).Order("seq").Limit(maxLines))
		if err != nil {
			return err
		}
		for _, l := range lines {
			if err := v.chain.Next(l); err != nil {
				return problem.New(problem.Conflict, "the journal does not hold together: %v", err)
			}
			if l.Seq == v.earlier.Seq && l.Hash != v.earlier.Hash {
				return problem.New(problem.Conflict, "the journal was rewritten: its line %d has the hash %s, and "+
					"%s when the head was exported", l.Seq, l.Hash, v.earlier.Hash)
			}
			if err := v.story.Take(l); err != nil {
				return problem.New(problem.Conflict, "the journal does not hold together: %v", err)
			}
		}
		if len(lines) == 0 {
			break
		}
	}
	if at := v.chain.Head().Seq; at < v.earlier.Seq {
		return problem.New(problem.Conflict, "the journal was cut: it ends with line %d, and had %d when the head "+
			"was exported", at, v.earlier.Seq)
	}
	return nil
}

// checks compares every attempt of every check. One that was called off has no line of its own.
func (v *verification) checks(db *gorm.DB) error {
	names, err := repositoryNames(db)
	if err != nil {
		return err
	}
	seen := 0
	var batch []records.CheckRun
	err = db.Select("id", "repository_id", "commit_id", "name", "attempt", "state", "reported_by").FindInBatches(&batch,
		2000, func(*gorm.DB, int) error {
			for _, r := range batch {
				said, known := v.story.Checks[journal.Attempt{Repository: names[r.RepositoryID], Commit: r.CommitID,
					Name: r.Name, Number: r.Attempt}]
				final := said.State != "waiting" && said.State != "running"
				what := fmt.Sprintf("attempt %d of %s on %.10s in %s", r.Attempt, r.Name, r.CommitID, names[r.RepositoryID])
				if known {
					seen++
				}
				switch {
				case !known:
					v.say("the records have %s, of which the journal does not tell", what)
				case r.State == "cancelled" && !final:
				case r.State != said.State:
					v.say("%s is %s in the records, and %s in the journal", what, r.State, said.State)
				case final && said.By != "" && said.By != r.ReportedBy:
					v.say("%s was reported by %s in the records, and by %s in the journal", what, r.ReportedBy, said.By)
				}
			}
			return nil
		}).Error
	if missing := len(v.story.Checks) - seen; err == nil && missing > 0 {
		v.say("%d attempts of checks of which the journal tells are not in the records", missing)
	}
	return err
}

func repositoryNames(db *gorm.DB) (map[int64]string, error) {
	var repos []records.Repository
	err := db.Find(&repos).Error
	names := map[int64]string{}
	for _, r := range repos {
		names[r.ID] = r.Name
	}
	return names, err
}

// reviews compares who stands to what: each person's newest approval or objection, unless it was withdrawn.
func (v *verification) reviews(db *gorm.DB) error {
	var rows []struct {
		Name, Login, Verdict string
		Number, Revision     int
	}
	err := db.Raw(`SELECT r.name, c.number, v.login, v.verdict, v.revision FROM reviews v JOIN changes c ON c.id = v.change_id JOIN repositories r ON r.id = c.repository_id
WHERE v.withdrawn_at IS NULL AND v.id = (SELECT max(id) FROM reviews o WHERE o.change_id = v.change_id AND o.login = v.login AND o.verdict <> 'comment')`).Scan(&rows).Error
	if err != nil {
		return err
	}
	for _, r := range rows {
		key := journal.Review{Change: journal.Change{Repository: r.Name, Number: r.Number}, By: r.Login}
		said, known := v.story.Reviews[key]
		delete(v.story.Reviews, key)
		if now := (journal.Standing{Verdict: r.Verdict, Revision: r.Revision}); !known || said != now {
			v.say("%s's %s of revision %d of %s change %d is not what the journal tells", r.Login, r.Verdict,
				r.Revision, r.Name, r.Number)
		}
	}
	for _, key := range sortedBy(maps.Keys(v.story.Reviews), func(k journal.Review) string { return fmt.Sprint(k) }) {
		v.say("the journal tells of a review by %s of %s change %d that stands, the records do not", key.By,
			key.Repository, key.Number)
	}
	return nil
}

func sortedBy[K any](keys func(func(K) bool), by func(K) string) []K {
	return slices.SortedFunc(keys, func(a, b K) int { return cmp.Compare(by(a), by(b)) })
}

// landings compares every landing and its statement.
func (v *verification) landings(db *gorm.DB) error {
	// Statements are long, and there is one for each landing: some at a time.
	for after := int64(0); ; {
		var rows []struct {
			ID                              int64
			Name, Old, New, Strategy, State string
			Statement                       string `gorm:"serializer:packed"`
			Number                          int
		}
		err := db.Raw(`SELECT l.id, r.name, c.number, c.state, l.old, l.new, l.strategy, l.statement FROM landings l JOIN changes c ON c.id = l.change_id
JOIN repositories r ON r.id = c.repository_id WHERE l.id > ? ORDER BY l.id LIMIT 200`, after).Scan(&rows).Error
		if err != nil {
			return err
		}
		for _, r := range rows {
			after = r.ID
			key := journal.Change{Repository: r.Name, Number: r.Number}
			said, known := v.story.Landings[key]
			delete(v.story.Landings, key)
			switch {
			case !known:
				v.say("the records say that %s change %d landed, the journal does not", r.Name, r.Number)
			case r.State != "landed" || said.Old != r.Old || said.New != r.New || said.Strategy != r.Strategy:
				v.say("the landing of %s change %d is not what the journal tells", r.Name, r.Number)
			case said.Statement != accounts.Digest(r.Statement):
				v.say("the statement of %s change %d was altered", r.Name, r.Number)
			case !v.s.key.Sealed(r.Statement):
				v.say("the statement of %s change %d does not carry this service's signature", r.Name, r.Number)
			}
		}
		if len(rows) == 0 {
			break
		}
	}
	var missing []struct {
		Name   string
		Number int
	}
	err := db.Raw(`SELECT r.name, c.number FROM changes c JOIN repositories r ON r.id = c.repository_id
WHERE c.state = 'landed' AND NOT EXISTS (SELECT 1 FROM landings l WHERE l.change_id = c.id)`).Scan(&missing).Error
	if err != nil {
		return err
	}
	for _, r := range missing {
		key := journal.Change{Repository: r.Name, Number: r.Number}
		if _, known := v.story.Landings[key]; known {
			v.say("the journal says that %s change %d landed, the records do not", r.Name, r.Number)
		} else {
			v.say("the records say that %s change %d landed, the journal does not", r.Name, r.Number)
		}
		delete(v.story.Landings, key)
	}
	for _, key := range sortedBy(maps.Keys(v.story.Landings), func(k journal.Change) string { return fmt.Sprint(k) }) {
		v.say("the journal says that %s change %d landed, the records do not", key.Repository, key.Number)
	}
	return nil
}

// rules compares every version of every rules document.
func (v *verification) rules(db *gorm.DB) error {
	var rows []struct {
		Name, Text string
		Version    int
	}
	err := db.Raw("SELECT coalesce(r.name, h.name) AS name, v.version, v.text FROM rules_versions v LEFT JOIN " +
		"repositories r ON r.id = v.repository_id LEFT JOIN houses h ON h.id = v.house_id").Scan(&rows).Error
	if err != nil {
		return err
	}
	for _, r := range rows {
		key := journal.Rules{Of: r.Name, Version: r.Version}
		if v.story.Rules[key] != accounts.Digest(r.Text) {
			v.say("version %d of the rules of %s is not the one that was applied", r.Version, r.Name)
		}
		delete(v.story.Rules, key)
	}
	for _, key := range sortedBy(maps.Keys(v.story.Rules), func(k journal.Rules) string { return fmt.Sprint(k) }) {
		v.say("version %d of the rules of %s is not in the records", key.Version, key.Of)
	}
	return nil
}

// refs compares the branches and tags on disk, repository by repository. Each is held still for that, and what came
// after the snapshot is taken in first.
func (v *verification) refs(ctx context.Context) error {
	var repos []records.Repository
	if err := v.s.records.Read(ctx).Where("NOT purged").Order("name").Find(&repos).Error; err != nil {
		return err
	}
	for i := range repos {
		if err := v.refsOf(ctx, &repos[i]); err != nil {
			return err
		}
	}
	return nil
}

func (v *verification) refsOf(ctx context.Context, repo *records.Repository) error {
	defer v.s.moves.Hold(repo.ID)()
	var open int64
	if err := v.s.records.Read(ctx).Model(&records.Intent{}).Where("repository_id = ? AND outcome = ''",
		repo.ID).Count(&open).Error; err != nil {
		return err
	}
	if open > 0 {
		v.say("%s has moves that are begun and not resolved: verify again in a minute", repo.Name)
		return nil
	}
	later, err := readLines(v.s.records.Read(ctx).Where("seq > ? AND repository_id = ?", v.chain.Head().Seq,
		repo.ID).Order("seq"))
	if err != nil {
		return err
	}
	for _, l := range later {
		if err := v.story.Take(l); err != nil {
			return err
		}
	}
	refs, err := v.s.disk.Bare(repo).Refs(ctx, "refs/heads/")
	tags, err2 := v.s.disk.Bare(repo).Refs(ctx, "refs/tags/")
	if err := cmp.Or(err, err2); err != nil {
		v.say("the branches of %s cannot be read: %v", repo.Name, err)
		return nil
	}
	said := map[string]string{}
	for r, id := range v.story.Refs {
		if r.Repository == repo.Name && (strings.HasPrefix(r.Name, "refs/heads/") ||
			strings.HasPrefix(r.Name, "refs/tags/")) {
			said[r.Name] = id
		}
	}
	for _, r := range append(refs, tags...) {
		if said[r.Name] != r.ID {
			v.say("%s of %s is at %.10s on disk, and %s in the journal", r.Name, repo.Name, r.ID,
				cmp.Or(said[r.Name], "not there"))
		}
		delete(said, r.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		v.say("%s of %s is not on disk, and at %.10s in the journal", name, repo.Name, said[name])
	}
	return nil
}
