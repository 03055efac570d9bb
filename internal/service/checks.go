package service

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

const (
	maxSummary = 500      // characters
	MaxLog     = 64 << 10 // bytes kept of a runner's log
	// leaseLength is how long a job stays with a runner that gives no sign of life.
	leaseLength = 45 * time.Second
)

var tokenForm = regexp.MustCompile(TokenPrefix + `[A-Z2-7]{10,}`)

// Mask replaces everything that looks like a token.
func Mask(text string) string { return tokenForm.ReplaceAllString(text, TokenPrefix+"…") }

// newestRuns returns the newest attempt of each check on each of the commits, by commit and name.
func newestRuns(db *gorm.DB, repo int64, commits ...string) ([]store.CheckRun, error) {
	var rows []store.CheckRun
	err := db.Where("repository_id = ? AND commit_id IN ?", repo, commits).Order("commit_id, name, attempt DESC").Find(&rows).Error
	return slices.CompactFunc(rows, func(a, b store.CheckRun) bool { return a.CommitID == b.CommitID && a.Name == b.Name }), err
}

// gateChecks gives the gate the newest attempts of the checks on a commit.
func gateChecks(db *gorm.DB, repo int64, commit string) ([]gate.Check, error) {
	rows, err := newestRuns(db, repo, commit)
	checks := []gate.Check{}
	for _, r := range rows {
		c := gate.Check{Name: r.Name, State: gate.CheckState(r.State), Attempt: r.Attempt, By: r.ReportedBy, Runner: r.Runner, Summary: r.Summary}
		if r.FinishedAt != nil {
			c.At = r.FinishedAt.UTC()
		}
		checks = append(checks, c)
	}
	return checks, err
}

// checkStates combines the newest attempts on each of the commits into one state: the worst of them.
func checkStates(db *gorm.DB, repo int64, commits []string) (map[string]string, error) {
	states := map[string]string{}
	for chunk := range slices.Chunk(commits, 500) {
		rows, err := newestRuns(db, repo, chunk...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			states[r.CommitID] = string(gate.Worse(gate.CheckState(states[r.CommitID]), gate.CheckState(r.State)))
		}
	}
	return states, nil
}

func checkView(r store.CheckRun) wire.Check {
	return wire.Check{Name: r.Name, Commit: r.CommitID, State: r.State, Attempt: r.Attempt, Link: r.Link, Summary: r.Summary, By: r.ReportedBy,
		Runner: r.Command != "", AskedFor: r.AskedFor, Log: r.Log, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt, CreatedAt: r.CreatedAt}
}

// NewReport is what a witness says of a check.
type NewReport struct {
	Commit, Name  string
	State         gate.CheckState
	Link, Summary string
	Attempt       int // 0: the only one there is
}

func (n NewReport) valid() error {
	switch {
	case !git.IsID(n.Commit):
		return invalid("commit", "%q is not a commit id: forty hexadecimal digits", n.Commit)
	case !checkForm.MatchString(n.Name):
		return invalid("name", "%q is not a name for a check: letters, digits, space and . _ / : -, at most 100", n.Name)
	case !slices.Contains(gate.CheckStates, n.State):
		return invalid("state", "%q is not a state of a check: one of %s", n.State, gate.Join(gate.CheckStates))
	case n.Attempt < 0:
		return invalid("attempt", "attempts are counted from 1")
	}
	if n.Link != "" {
		if u, err := url.Parse(n.Link); err != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Host == "" || len(n.Link) > 1000 {
			return invalid("link", "%q is not an http or https URL", n.Link)
		}
	}
	if utf8.RuneCountInString(n.Summary) > maxSummary || !utf8.ValidString(n.Summary) {
		return invalid("summary", "a summary has at most %d characters of valid UTF-8", maxSummary)
	}
	return nil
}

// ReportCheck records a witness's word about a commit (P7): only for a check that its token names, only while that
// attempt is the newest and has no final answer yet.
func (s *Service) ReportCheck(ctx context.Context, a Actor, name string, n NewReport) (wire.Check, error) {
	if err := n.valid(); err != nil {
		return wire.Check{}, err
	}
	n.Summary = Mask(n.Summary)
	var out wire.Check
	err := s.write(ctx, func(tx *tx) error {
		repo, err := s.reach(tx.DB, a, name, gate.Reader)
		if err != nil {
			return err
		}
		if a.scope != ScopeWitness || !a.names(repo.ID, n.Name) {
			return problem(Forbidden, "this token may not report check %q of %s: tavrin token create ROBOT --witness %s:%s makes one that may", n.Name, name, name, n.Name)
		}
		force, err := s.rulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		switch declared := force.set.Check(n.Name); {
		case declared.Command != "":
			return problem(Forbidden, "the rules define %s as a command: a runner runs it, and nobody reports it", n.Name)
		case declared.Witness != "" && declared.Witness != a.Login():
			return problem(Forbidden, "the rules name robot:%s as the witness of %s, and you are %s", declared.Witness, n.Name, a.Login())
		}
		if !s.bare(repo).HasCommit(ctx, n.Commit) {
			return problem(Unknown, "%s has no commit %s", name, n.Commit)
		}
		run, err := s.attempt(tx, repo, n)
		if err != nil {
			return err
		}
		run.ReportedBy = a.Login()
		out, err = s.saveReport(tx, repo, run, n)
		return err
	})
	return out, err
}

// attempt finds the attempt that a report is about, or begins the first.
func (s *Service) attempt(tx *tx, repo *store.Repository, n NewReport) (store.CheckRun, error) {
	var run store.CheckRun
	err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, n.Commit, n.Name).Order("attempt DESC").Limit(1).Find(&run).Error
	switch {
	case err != nil:
		return run, err
	case run.ID == 0 && n.Attempt > 1:
		return run, problem(Conflict, "nobody asked for attempt %d of %s on %.10s", n.Attempt, n.Name, n.Commit)
	case run.ID == 0:
		return store.CheckRun{RepositoryID: repo.ID, CommitID: n.Commit, Name: n.Name, Attempt: 1, CreatedAt: s.now()}, nil
	case n.Attempt == 0 && run.Attempt > 1:
		return run, problem(Conflict, "%s was asked for %d times on %.10s: say which attempt the answer is for, with --attempt %d for the newest", n.Name, run.Attempt, n.Commit, run.Attempt)
	case n.Attempt != 0 && n.Attempt != run.Attempt:
		return run, problem(Conflict, "attempt %d of %s on %.10s is over; the newest is %d", n.Attempt, n.Name, n.Commit, run.Attempt)
	case gate.CheckState(run.State).Final() && run.State != string(n.State):
		return run, problem(Conflict, "attempt %d of %s on %.10s has ended as %s, and an answer is not taken back: tavrin check again %s --name %q asks for another attempt",
			run.Attempt, n.Name, n.Commit, run.State, n.Commit, n.Name)
	}
	return run, nil
}

// saveReport stores a state of an attempt.
func (s *Service) saveReport(tx *tx, repo *store.Repository, run store.CheckRun, n NewReport) (wire.Check, error) {
	now := s.now()
	run.State, run.Link, run.Summary = string(n.State), n.Link, n.Summary
	if run.StartedAt == nil && n.State != gate.Waiting {
		run.StartedAt = &now
	}
	if n.State.Final() && run.FinishedAt == nil {
		run.FinishedAt = &now
	}
	if err := tx.Save(&run).Error; err != nil {
		return wire.Check{}, err
	}
	return checkView(run), tx.record(event{actor: run.ReportedBy, kind: "check.reported", repo: repo, subject: "commit/" + run.CommitID,
		text: fmt.Sprintf("%s reported %s as %s on %.10s (attempt %d)", run.ReportedBy, run.Name, run.State, run.CommitID, run.Attempt),
		data: map[string]any{"name": run.Name, "state": run.State, "attempt": run.Attempt, "commit": run.CommitID, "summary": run.Summary}})
}

// ask makes sure that a check is asked for on a commit. A check whose command has changed since, or, with fresh,
// one that ended otherwise than passed, is asked for once more.
func (s *Service) ask(tx *tx, repo *store.Repository, c rules.Check, commit, askedFor string, fresh bool) error {
	var run store.CheckRun
	err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit, c.Name).Order("attempt DESC").Limit(1).Find(&run).Error
	if err != nil {
		return err
	}
	changed := run.Command != c.Command || (run.ReportedBy != "" && c.Witness != "" && run.ReportedBy != c.Witness)
	ended := gate.CheckState(run.State).Final() && run.State != string(gate.Passed)
	if run.ID != 0 && !changed && !(fresh && ended) {
		return nil
	}
	if run.ID != 0 && !gate.CheckState(run.State).Final() {
		if err := tx.Model(&run).Updates(map[string]any{"state": "cancelled", "finished_at": s.now(), "lease_hash": "", "summary": "its definition changed"}).Error; err != nil {
			return err
		}
	}
	_, err = s.nextAttempt(tx, repo, c, store.CheckRun{CommitID: commit, Attempt: run.Attempt, AskedFor: askedFor}, itself)
	return err
}

// nextAttempt asks for the attempt of a check that follows the one given, which may be none.
func (s *Service) nextAttempt(tx *tx, repo *store.Repository, c rules.Check, last store.CheckRun, by string) (store.CheckRun, error) {
	next := store.CheckRun{RepositoryID: repo.ID, CommitID: last.CommitID, Name: c.Name, Attempt: last.Attempt + 1, State: string(gate.Waiting), AskedFor: last.AskedFor,
		Command: c.Command, LimitSeconds: int(c.Limit / time.Second), CreatedAt: s.now()}
	if err := tx.Create(&next).Error; err != nil {
		return next, err
	}
	purpose := ""
	if next.AskedFor != "" {
		purpose = ", for " + next.AskedFor
	}
	return next, tx.record(event{actor: by, kind: "check.asked", repo: repo, subject: "commit/" + next.CommitID,
		text: fmt.Sprintf("check %s was asked for on %.10s%s (attempt %d)", c.Name, next.CommitID, purpose, next.Attempt),
		data: map[string]any{"name": c.Name, "commit": next.CommitID, "attempt": next.Attempt, "for": next.AskedFor}})
}

// askForHead asks for the checks that the gate wants on a change's head.
func (s *Service) askForHead(tx *tx, repo *store.Repository, g gathered) error {
	for _, q := range g.judge().Requirements {
		if q.At == "rehearsal" || q.State == gate.NotApplicable {
			continue
		}
		for _, name := range q.Checks {
			if err := s.ask(tx, repo, g.set.Check(name), g.revision.Head, fmt.Sprintf("change/%d", g.change.Number), false); err != nil {
				return err
			}
		}
	}
	return nil
}

// askUnderNewRules asks, after the rules changed, for what they want on the heads of open changes and on rehearsals
// under way: a new check runs on the same commit, a changed one runs again.
func (s *Service) askUnderNewRules(tx *tx, repo *store.Repository) error {
	var changes []store.Change
	if err := tx.Where("repository_id = ? AND state IN ('draft', 'open')", repo.ID).Find(&changes).Error; err != nil {
		return err
	}
	for _, c := range changes {
		g, err := s.gather(tx.DB, repo, c)
		if err == nil {
			err = s.askForHead(tx, repo, g)
		}
		if err == nil && g.facts.Rehearsal != nil {
			err = s.askRehearsal(tx, repo, g, *g.rehearsal, false)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// timeLimit is how long an attempt may go without an answer.
func timeLimit(r store.CheckRun) time.Duration {
	if r.LimitSeconds > 0 {
		return time.Duration(r.LimitSeconds) * time.Second
	}
	return rules.DefaultAnswer
}

// endSilentChecks ends the attempts of checks from outside that nobody answered in time: each is asked for once more, and
// the second time stays without a pass, so that what waits for it goes on without it.
func (s *Service) endSilentChecks(ctx context.Context) error {
	var open []store.CheckRun
	if err := s.store.Read(ctx).Where("state IN ('waiting', 'running') AND command = ''").Find(&open).Error; err != nil {
		return err
	}
	var errs []error
	for _, r := range open {
		if s.now().Sub(r.CreatedAt) >= timeLimit(r) {
			errs = append(errs, s.endSilent(ctx, r.ID))
		}
	}
	return errors.Join(errs...)
}

func (s *Service) endSilent(ctx context.Context, id int64) error {
	return s.write(ctx, func(tx *tx) error {
		var run store.CheckRun
		var repo store.Repository
		if err := tx.First(&run, id).Error; err != nil || gate.CheckState(run.State).Final() { // it was answered meanwhile
			return err
		}
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		now := s.now()
		run.State, run.Silent, run.FinishedAt = string(gate.Errored), true, &now
		run.Summary = fmt.Sprintf("no answer within %s", rules.Brief(timeLimit(run)))
		if err := tx.Save(&run).Error; err != nil {
			return err
		}
		err := tx.record(event{actor: itself, kind: "check.silent", repo: &repo, subject: "commit/" + run.CommitID,
			text: fmt.Sprintf("nobody answered for %s on %.10s within %s (attempt %d)", run.Name, run.CommitID, rules.Brief(timeLimit(run)), run.Attempt),
			data: map[string]any{"name": run.Name, "commit": run.CommitID, "attempt": run.Attempt}})
		if err != nil || run.AskedFor == "" {
			return err
		}
		var before store.CheckRun
		if err := tx.Where("repository_id = ? AND commit_id = ? AND name = ? AND attempt = ?", repo.ID, run.CommitID, run.Name, run.Attempt-1).Limit(1).Find(&before).Error; err != nil || before.Silent {
			return err
		}
		force, err := s.rulesOf(tx.DB, &repo)
		if err != nil {
			return err
		}
		_, err = s.nextAttempt(tx, &repo, force.set.Check(run.Name), run, itself)
		return err
	})
}

// silentChecks lists the checks of a repository that were asked for and are not answered: those that have used up half of
// their time, those asked for once more, and commands that no runner takes.
func (s *Service) silentChecks(db *gorm.DB, repo *store.Repository) ([]wire.SilentCheck, error) {
	var open []store.CheckRun
	if err := db.Where("repository_id = ? AND state IN ('waiting', 'running') AND asked_for <> '' AND (command = '' OR state = 'waiting')", repo.ID).Order("id").Find(&open).Error; err != nil {
		return nil, err
	}
	out := []wire.SilentCheck{}
	for _, r := range open {
		since := r.CreatedAt
		var before store.CheckRun
		if r.Attempt > 1 {
			err := db.Where("repository_id = ? AND commit_id = ? AND name = ? AND attempt = ? AND silent", repo.ID, r.CommitID, r.Name, r.Attempt-1).Limit(1).Find(&before).Error
			if err != nil {
				return nil, err
			}
		}
		if before.ID != 0 {
			since = before.CreatedAt
		} else if s.now().Sub(since) < timeLimit(r)/2 {
			continue
		}
		c := wire.SilentCheck{Name: r.Name, Commit: r.CommitID, For: r.AskedFor, Attempt: r.Attempt, Since: since, Runner: r.Command != ""}
		if !c.Runner {
			until := r.CreatedAt.Add(timeLimit(r))
			c.Until = &until
		}
		out = append(out, c)
	}
	return out, nil
}

// AskAgain asks for another attempt of a check on a commit.
func (s *Service) AskAgain(ctx context.Context, a Actor, name, commit, check string) (wire.Check, error) {
	var out wire.Check
	err := s.write(ctx, func(tx *tx) error {
		repo, err := s.reach(tx.DB, a, name, gate.Writer)
		if err != nil {
			return err
		}
		var run store.CheckRun
		err = tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, commit, check).Order("attempt DESC").First(&run).Error
		if err != nil {
			return orUnknown(err, "check %q was never seen on commit %s of %s", check, commit, name)
		}
		if !gate.CheckState(run.State).Final() {
			return problem(Conflict, "attempt %d of %s is still %s", run.Attempt, check, run.State)
		}
		force, err := s.rulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		next, err := s.nextAttempt(tx, repo, force.set.Check(check), run, a.Login())
		out = checkView(next)
		return err
	})
	return out, err
}

// Checks lists the newest attempts of the checks on a commit.
func (s *Service) Checks(ctx context.Context, a Actor, name, commit string) ([]wire.Check, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	if !s.bare(repo).HasCommit(ctx, commit) {
		return nil, problem(Unknown, "%s has no commit %q; a whole commit id is needed", name, commit)
	}
	views, err := s.checkViews(db, repo, commit)
	if a.scope == ScopeWitness { // those that its token names
		views = slices.DeleteFunc(views, func(c wire.Check) bool { return !a.names(repo.ID, c.Name) })
	}
	return views, err
}

func (s *Service) checkViews(db *gorm.DB, repo *store.Repository, commit string) ([]wire.Check, error) {
	rows, err := newestRuns(db, repo.ID, commit)
	out := []wire.Check{}
	for _, r := range rows {
		out = append(out, checkView(r))
	}
	return out, err
}

// CheckNames lists every check seen or named by the rules.
func (s *Service) CheckNames(ctx context.Context, a Actor, name string) ([]wire.CheckName, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	var seen []struct {
		Name    string
		Reports int
		Newest  int64
	}
	err = db.Raw("SELECT name, count(*) AS reports, max(id) AS newest FROM check_runs WHERE repository_id = ? GROUP BY name", repo.ID).Scan(&seen).Error
	if err != nil {
		return nil, err
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return nil, err
	}
	names := map[string]wire.CheckName{}
	for _, r := range seen {
		var newest store.CheckRun
		if err := db.First(&newest, r.Newest).Error; err != nil {
			return nil, err
		}
		names[r.Name] = wire.CheckName{Name: r.Name, Reports: r.Reports, LastSeen: &newest.CreatedAt}
	}
	demanded := force.set.Demanded()
	for _, c := range append(force.set.Checks(), demanded...) {
		n := names[c.Name]
		n.Name, n.Command = c.Name, force.set.Check(c.Name).Command
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

// Wanted lists the checks that were asked for and that a witness, not a runner, has to answer.
func (s *Service) Wanted(ctx context.Context, a Actor, name string) ([]wire.Check, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	query := db.Where("repository_id = ? AND state IN ('waiting', 'running') AND command = ''", repo.ID)
	if a.scope == ScopeWitness { // those that its token names
		query = query.Where("name IN (SELECT check_name FROM token_bindings WHERE token_id = ? AND repository_id = ?)", a.token, repo.ID)
	}
	var rows []store.CheckRun
	err = query.Order("id").Limit(200).Find(&rows).Error
	out := []wire.Check{}
	for _, r := range rows {
		out = append(out, checkView(r))
	}
	return out, err
}

// Lease gives the oldest waiting command check to a runner, or nil when there is none.
func (s *Service) Lease(ctx context.Context, a Actor) (*wire.Job, error) {
	if a.scope != ScopeRunner {
		return nil, problem(Forbidden, "this token is not a runner's: tavrin token create ROBOT --runner HOUSE/NAME makes one")
	}
	ids := []int64{}
	for _, b := range a.bindings {
		ids = append(ids, b.RepositoryID)
	}
	var probe int64
	err := s.store.Read(ctx).Model(&store.CheckRun{}).Where("repository_id IN ? AND state = 'waiting' AND command <> ''", ids).Count(&probe).Error
	if err != nil || probe == 0 {
		return nil, err
	}
	var job *wire.Job
	err = s.write(ctx, func(tx *tx) error {
		var run store.CheckRun
		err := tx.Where("repository_id IN ? AND state = 'waiting' AND command <> ''", ids).Order("id").Limit(1).Find(&run).Error
		if err != nil || run.ID == 0 {
			return err
		}
		var repo store.Repository
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		lease := secret()
		until := s.now().Add(leaseLength)
		run.LeaseHash, run.LeaseUntil, run.ReportedBy, run.Runner = digest(lease), &until, a.Login(), true
		run.LeaseToken = a.token
		job = &wire.Job{ID: run.ID, Repository: repo.Name, Commit: run.CommitID, Check: run.Name, Attempt: run.Attempt, Command: run.Command,
			LimitSeconds: run.LimitSeconds, Lease: lease, LeaseSeconds: int(leaseLength / time.Second)}
		_, err = s.saveReport(tx, &repo, run, NewReport{State: gate.Running})
		return err
	})
	return job, err
}

// leased finds the attempt that a lease is for. Late and foreign answers end here (P7).
func (s *Service) leased(db *gorm.DB, id int64, lease string) (store.CheckRun, error) {
	var run store.CheckRun
	err := db.Where("id = ? AND lease_hash = ? AND state = 'running'", id, digest(lease)).First(&run).Error
	if err == nil && run.LeaseUntil != nil && s.now().After(*run.LeaseUntil) {
		err = store.ErrNotFound
	}
	if err == nil { // it ends with the token it was taken with
		var good bool
		if good, err = s.goodToken(db, run.LeaseToken); err == nil && !good {
			err = store.ErrNotFound
		}
	}
	if orUnknown(err, "") != err {
		return run, problem(Conflict, "this lease is over: the job was given up, cancelled or given to another runner")
	}
	return run, err
}

// JobAlive is a runner's sign of life; it prolongs the lease.
func (s *Service) JobAlive(ctx context.Context, id int64, lease string) error {
	return s.store.Write(ctx, func(tx *gorm.DB) error {
		run, err := s.leased(tx, id, lease)
		if err != nil {
			return err
		}
		return tx.Model(&run).Update("lease_until", s.now().Add(leaseLength)).Error
	})
}

// JobPack writes the pack of the one commit that a lease is for.
func (s *Service) JobPack(ctx context.Context, id int64, lease string, w io.Writer) error {
	db := s.store.Read(ctx)
	run, err := s.leased(db, id, lease)
	if err != nil {
		return err
	}
	var repo store.Repository
	if err := db.First(&repo, run.RepositoryID).Error; err != nil {
		return err
	}
	return s.bare(&repo).PackOfCommit(ctx, run.CommitID, w)
}

// JobResult is how a runner's job ended.
type JobResult struct {
	State   gate.CheckState
	Summary string
	Log     string // the tail
}

// FinishJob records a runner's answer and ends the lease.
func (s *Service) FinishJob(ctx context.Context, id int64, lease string, r JobResult) error {
	if !r.State.Final() {
		return invalid("state", "a job ends as passed, failed, errored, skipped or cancelled, not as %q", r.State)
	}
	r.Summary = strings.ToValidUTF8(Mask(r.Summary), "\uFFFD")
	if utf8.RuneCountInString(r.Summary) > maxSummary {
		r.Summary = string([]rune(r.Summary)[:maxSummary])
	}
	return s.write(ctx, func(tx *tx) error {
		run, err := s.leased(tx.DB, id, lease)
		if err != nil {
			return err
		}
		var repo store.Repository
		if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
			return err
		}
		log := strings.ToValidUTF8(Mask(r.Log), "\uFFFD")
		run.Log = log[max(0, len(log)-MaxLog):]
		run.LeaseHash, run.LeaseUntil = "", nil
		_, err = s.saveReport(tx, &repo, run, NewReport{State: r.State, Summary: r.Summary})
		return err
	})
}

// dropSilentLeases puts jobs back whose runner fell silent; its late answer will be refused.
func (s *Service) dropSilentLeases(ctx context.Context) error {
	var rows []store.CheckRun
	err := s.store.Read(ctx).Where("state = 'running' AND lease_hash <> '' AND (lease_until < @now OR lease_token NOT IN ("+goodTokens+"))", sql.Named("now", s.now())).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return err
	}
	return s.write(ctx, func(tx *tx) error {
		for _, run := range rows {
			why := "its runner fell silent"
			if run.LeaseUntil != nil && !run.LeaseUntil.Before(s.now()) {
				why = "the token of its runner has ended"
			}
			if err := s.giveBack(tx, run, why); err != nil {
				return err
			}
		}
		return nil
	})
}

// giveBack ends a lease, so that another runner may take the job.
func (s *Service) giveBack(tx *tx, run store.CheckRun, why string) error {
	var repo store.Repository
	if err := tx.First(&repo, run.RepositoryID).Error; err != nil {
		return err
	}
	err := tx.Model(&store.CheckRun{}).Where("id = ? AND lease_hash = ?", run.ID, run.LeaseHash).
		Updates(map[string]any{"state": "waiting", "lease_hash": "", "lease_until": nil, "started_at": nil}).Error
	if err != nil {
		return err
	}
	return tx.record(event{actor: itself, kind: "check.given-back", repo: &repo, subject: "commit/" + run.CommitID,
		text: fmt.Sprintf("%s waits on %.10s for another runner: %s", run.Name, run.CommitID, why),
		data: map[string]any{"name": run.Name, "commit": run.CommitID, "attempt": run.Attempt}})
}

// placeFile is the file by which a runner finds out whether it can read the service's folder.
const placeFile = "not-for-runners"

// RunnerPlace tells a runner which file it must not be able to read.
func (s *Service) RunnerPlace(a Actor) (wire.RunnerPlace, error) {
	if a.scope != ScopeRunner {
		return wire.RunnerPlace{}, problem(Forbidden, "this is for runners")
	}
	path, err := filepath.Abs(filepath.Join(s.dir, placeFile))
	if err != nil {
		return wire.RunnerPlace{}, err
	}
	content, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		content = []byte(rand.Text())
		err = os.WriteFile(path, content, 0o600)
	}
	return wire.RunnerPlace{Path: path, SHA256: digest(string(content))}, err
}
