package checks

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/facts"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

const (
	maxSummary = 500      // characters
	MaxLog     = 64 << 10 // bytes kept of a runner's log
	// leaseLength is how long a job stays with a runner that gives no sign of life.
	leaseLength = 45 * time.Second
)

func checkView(r records.CheckRun) wire.Check {
	return wire.Check{Name: r.Name, Commit: r.CommitID, State: r.State, Attempt: r.Attempt, Link: r.Link,
		Summary: r.Summary, By: r.ReportedBy,
		Runner: r.Command != "", AskedFor: r.AskedFor, Change: r.ChangeNumber, Target: r.Target, Log: r.Log,
		Seconds: float64(r.Milliseconds) / 1000, Numbers: r.Numbers, Annotations: r.Annotations, Parts: parts(r), PartsOf: r.PartsOf, RanOn: r.RanOn, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt, CreatedAt: r.CreatedAt}
}

// LastLines are the last lines of a log, few enough to be read beside what else is said.
func LastLines(log string) string {
	const lines, bytes = 15, 2000
	log = strings.TrimRight(log, "\n")
	if len(log) > bytes {
		log = strings.ToValidUTF8(log[len(log)-bytes:], "")
	}
	if all := strings.Split(log, "\n"); len(all) > lines {
		log = strings.Join(all[len(all)-lines:], "\n")
	}
	return log
}

// Rerun asks for another attempt of a check on a commit.
func (s *Checks) Rerun(ctx context.Context, a accounts.Actor, name, commit, check string) (wire.Check, error) {
	var out wire.Check
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Writer)
	if err != nil {
		return out, err
	}
	if commit, err = s.disk.Commit(ctx, repo, commit); err != nil {
		return out, err
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Writer)
		if err != nil {
			return err
		}
		var run records.CheckRun
		err = tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit,
			check).Order("attempt DESC").First(&run).Error
		if err != nil {
			return records.OrUnknown(err, "check %q was never seen on commit %s of %s", check, commit, name)
		}
		if !change.CheckState(run.State).Final() {
			return problem.New(problem.Conflict, "attempt %d of %s is still %s", run.Attempt, check, run.State)
		}
		force, err := s.rulebook.RulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		next, err := s.nextAttempt(tx, repo, force.Set.Check(check), run, a.Login())
		out = checkView(next)
		return err
	})
	return out, err
}

// Checks lists the newest attempts of the checks on a commit.
func (s *Checks) Checks(ctx context.Context, a accounts.Actor, name, commit string) ([]wire.Check, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	if commit, err = s.disk.Commit(ctx, repo, commit); err != nil {
		return nil, err
	}
	views, err := CheckViews(db, repo, commit)
	if a.Scope() == accounts.ScopeChecks { // those that its token names
		views = slices.DeleteFunc(views, func(c wire.Check) bool { return !a.Names(repo.ID, c.Name) })
	}
	return views, err
}

// CheckViews describes the newest attempts of the checks on commits.
func CheckViews(db *gorm.DB, repo *records.Repository, commits ...string) ([]wire.Check, error) {
	rows, err := facts.NewestRuns(db, repo.ID, commits...)
	out := []wire.Check{}
	for _, r := range rows {
		out = append(out, checkView(r))
	}
	return out, err
}

// CheckNames lists every check seen or named by the rules.
func (s *Checks) CheckNames(ctx context.Context, a accounts.Actor, name string) ([]wire.CheckName, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	var seen []struct {
		Name      string
		Reports   int
		Newest    int64
		CreatedAt time.Time // of the newest: beside max(), SQLite takes a column from the row that has it
	}
	err = db.Raw("SELECT name, count(*) AS reports, max(id) AS newest, created_at FROM check_runs "+
		"WHERE repository_id = ? GROUP BY name", repo.ID).Scan(&seen).Error
	if err != nil {
		return nil, err
	}
	force, err := s.rulebook.RulesOf(db, repo)
	if err != nil {
		return nil, err
	}
	names := map[string]wire.CheckName{}
	for _, r := range seen {
		names[r.Name] = wire.CheckName{Name: r.Name, Reports: r.Reports, LastSeen: &r.CreatedAt}
	}
	demanded := force.Set.Demanded()
	for _, c := range append(force.Set.Checks(), demanded...) {
		n := names[c.Name]
		n.Name, n.Command = c.Name, force.Set.Check(c.Name).Command
		names[c.Name] = n
	}
	for name, n := range names {
		n.Demanded = slices.ContainsFunc(demanded, func(d rules.Check) bool { return d.Name == name })
		names[name] = n
	}
	out := []wire.CheckName{}
	for _, n := range names {
		out = append(out, n)
	}
	slices.SortFunc(out, func(x, y wire.CheckName) int { return strings.Compare(x.Name, y.Name) })
	return out, nil
}

// Claim is claim, and waits for a check where none waits.
func (s *Checks) Claim(ctx context.Context, a accounts.Actor, name, check string, wait time.Duration) ([]wire.Check, error) {
	enough := time.NewTimer(min(wait, longestWait))
	defer enough.Stop()
	for first := true; ; first = false {
		grown := s.records.Grown()
		// What only finds that none waits takes no turn of the one writer; the first look says what is wrong.
		waiting := first
		if !first {
			var err error
			if waiting, err = s.anyWaits(ctx, a, name, check); err != nil {
				return nil, err
			}
		}
		if waiting {
			if taken, err := s.claim(ctx, a, name, check); err != nil || len(taken) > 0 {
				return taken, err
			}
		}
		select {
		case <-grown:
		case <-enough.C:
			return []wire.Check{}, nil
		case <-s.records.StreamsEnded():
			return []wire.Check{}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// longestWait is how long a call waits for a check at most.
const longestWait = 25 * time.Second

// anyWaits says whether a check waits that a check robot could take.
func (s *Checks) anyWaits(ctx context.Context, a accounts.Actor, name, check string) (bool, error) {
	v := s.records.View(ctx)
	defer v.Close()
	repo, err := accounts.Reach(v.DB, a, name, people.Reader)
	if err != nil {
		return false, err
	}
	query := s.wanted(v.DB, a, repo, change.Waiting)
	if check != "" {
		query = query.Where("name = ?", check)
	}
	var run records.CheckRun
	err = query.Limit(1).Find(&run).Error
	return run.ID != 0, err
}

// claim has a worker of a check robot take the oldest check that waits for it: it is running from then on, and no other
// worker gets it. None is taken when none waits. A worker that is never heard of again uses up the time that the check has.
func (s *Checks) claim(ctx context.Context, a accounts.Actor, name, check string) ([]wire.Check, error) {
	out := []wire.Check{}
	err := s.records.Write(ctx, func(tx *records.Tx) error {
		repo, err := accounts.Reach(tx.DB, a, name, people.Reader)
		if err != nil {
			return err
		}
		if a.Scope() != accounts.ScopeChecks || check != "" && !a.Names(repo.ID, check) {
			return problem.New(problem.Forbidden, "only a check robot takes checks on, by a token that names them: tavrin token "+
				"create ROBOT --check %s:%s makes one", name, cmp.Or(check, "CHECK"))
		}
		force, err := s.rulebook.RulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		names := []string{}
		for _, b := range a.Bindings() {
			if b.RepositoryID == repo.ID && (check == "" || check == b.CheckName) && reportable(force.Set.Check(b.CheckName), a) == nil {
				names = append(names, b.CheckName)
			}
		}
		var run records.CheckRun
		if err := s.wanted(tx.DB, a, repo, change.Waiting).Where("name IN ?", names).Limit(1).Find(&run).Error; err != nil || run.ID == 0 {
			return err
		}
		run.ReportedBy = a.Login()
		taken, err := s.saveReport(tx, repo, &run, wire.NewReport{State: change.Running})
		out = append(out, taken)
		return err
	})
	return out, err
}

// wanted are the checks in a state that were asked for and that a check robot, not a runner, has to answer; to a check
// robot, those that its token names. The oldest come first.
func (s *Checks) wanted(db *gorm.DB, a accounts.Actor, repo *records.Repository, state change.CheckState) *gorm.DB {
	query := db.Where("repository_id = ? AND state = ? AND command = ''", repo.ID, state)
	if a.Scope() == accounts.ScopeChecks {
		query = query.Where("name IN (SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)",
			a.Token(), repo.ID)
	}
	return query.Order("id").Limit(200)
}

// Wanted lists the checks that wait for a check robot, not a runner, to take them on; or, with taken, those that one has
// taken on and not answered.
func (s *Checks) Wanted(ctx context.Context, a accounts.Actor, name string, taken bool) ([]wire.Check, error) {
	state := change.Waiting
	if taken {
		state = change.Running
	}
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	var rows []records.CheckRun
	err = s.wanted(db, a, repo, state).Find(&rows).Error
	out := []wire.Check{}
	for _, r := range rows {
		out = append(out, checkView(r))
	}
	return out, err
}
