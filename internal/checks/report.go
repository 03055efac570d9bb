package checks

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"tavrin/internal/accounts"
	"tavrin/internal/core/change"
	"tavrin/internal/core/event"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// Limits of a report.
const (
	MaxReports     = 100 // in one call
	maxAnnotations = 50
	maxAnnotation  = 1000 // characters
	maxNumbers     = 20
	maxParts       = 200
	maxSeconds     = 30 * 24 * 3600
	maxKey         = 100 // characters
	// keysKept is how long a key under which something was reported is known.
	keysKept = 7 * 24 * time.Hour
)

var (
	numberForm = regexp.MustCompile(`^[a-z][a-z0-9_.-]{0,39}$`)
	partForm   = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._/:,+-]{0,99}$`)
)

// validReport tells what is wrong with a report.
func validReport(n wire.NewReport) error {
	switch {
	case !typed.CheckForm.MatchString(n.Name):
		return problem.Wrong("name", "%q is not a name for a check: letters, digits, space and . _ / : -, at most 100",
			n.Name)
	case !slices.Contains(change.CheckStates, n.State):
		return problem.Wrong("state", "%q is not a state of a check: one of %s", n.State, gate.Join(change.CheckStates))
	case n.Attempt < 0:
		return problem.Wrong("attempt", "attempts are counted from 1")
	case n.Seconds < 0 || n.Seconds > maxSeconds || math.IsNaN(n.Seconds):
		return problem.Wrong("seconds", "a check takes from 0 to %d seconds", maxSeconds)
	case len(n.Key) > maxKey || strings.ContainsFunc(n.Key, func(r rune) bool { return r < ' ' || r > '~' }):
		return problem.Wrong("key", "a key has at most %d plain characters", maxKey)
	case (n.Part == "") != (n.PartsOf == 0):
		return problem.Wrong("part", "part and parts_of go together: which part this is, and how many there are")
	case n.Part != "" && !partForm.MatchString(n.Part):
		return problem.Wrong("part", "%q is not a name for a part: letters, digits, space and . _ / : , + -, at most 100", n.Part)
	case n.PartsOf != 0 && (n.PartsOf < 2 || n.PartsOf > maxParts):
		return problem.Wrong("parts_of", "a check has from 2 to %d parts", maxParts)
	}
	if n.Link != "" {
		if u, err := url.Parse(n.Link); err != nil || (u.Scheme != "https" && u.Scheme != "http") || u.Host == "" ||
			len(n.Link) > 1000 {
			return problem.Wrong("link", "%q is not an http or https URL", n.Link)
		}
	}
	if utf8.RuneCountInString(n.Summary) > maxSummary || !utf8.ValidString(n.Summary) {
		return problem.Wrong("summary", "a summary has at most %d characters of valid UTF-8", maxSummary)
	}
	if err := validNumbers(n.Numbers); err != nil {
		return err
	}
	return validAnnotations(n.Annotations)
}

func validNumbers(numbers map[string]float64) error {
	if len(numbers) > maxNumbers {
		return problem.Wrong("numbers", "a report has at most %d numbers", maxNumbers)
	}
	for name, value := range numbers {
		if !numberForm.MatchString(name) {
			return problem.Wrong("numbers", "%q is not a name for a number: small letters, digits and . _ -, at most 40, such as coverage", name)
		}
		if math.IsNaN(value) || math.IsInf(value, 0) {
			return problem.Wrong("numbers", "%s is no number", name)
		}
	}
	return nil
}

func validAnnotations(all []wire.Annotation) error {
	if len(all) > maxAnnotations {
		return problem.Wrong("annotations", "a report has %d annotations; at most %d are taken: report the worst, and link to the rest",
			len(all), maxAnnotations)
	}
	for i, a := range all {
		field := fmt.Sprintf("annotations/%d", i)
		switch {
		case a.Path == "" || len(a.Path) > 1000 || path.Clean("/"+a.Path) != "/"+a.Path || !utf8.ValidString(a.Path):
			return problem.Wrong(field, "%q is not the path of a file from the top of the repository", a.Path)
		case a.Line < 1 || a.LastLine != 0 && a.LastLine < a.Line:
			return problem.Wrong(field, "lines are counted from 1, and the last one is not before the first")
		case !slices.Contains(Levels, a.Level):
			return problem.Wrong(field, "%q is not a level: one of %s", a.Level, strings.Join(Levels, ", "))
		}
		if utf8.RuneCountInString(a.Text) > maxAnnotation || !utf8.ValidString(a.Text) || strings.TrimSpace(a.Text) == "" {
			return problem.Wrong(field, "an annotation has from 1 to %d characters of valid UTF-8", maxAnnotation)
		}
	}
	return nil
}

// Levels are how bad what an annotation tells is.
var Levels = []string{"note", "warning", "error"}

// masked hides tokens that were pasted into a report, and cuts its log to the end that is kept.
func masked(n wire.NewReport) wire.NewReport {
	n.Summary = typed.Mask(n.Summary)
	n.Log = tail(n.Log)
	n.Annotations = slices.Clone(n.Annotations)
	for i := range n.Annotations {
		n.Annotations[i].Text = typed.Mask(n.Annotations[i].Text)
	}
	return n
}

// tail is the end of a log, as it is kept.
func tail(log string) string {
	log = strings.ReplaceAll(strings.ToValidUTF8(typed.Mask(log), "\uFFFD"), "\x00", "\uFFFD")
	return strings.ToValidUTF8(log[max(0, len(log)-MaxLog):], "")
}

// ReportCheck records a check robot's word about a commit (P7): only for a check that its token names, only while that
// attempt is the newest and has no final answer yet.
func (s *Checks) ReportCheck(ctx context.Context, a accounts.Actor, name string, n wire.NewReport) (wire.Check, error) {
	out, err := s.ReportChecks(ctx, a, name, []wire.NewReport{n})
	if err != nil {
		return wire.Check{}, err
	}
	return out[0], nil
}

// ReportChecks records several reports, all or none of them.
func (s *Checks) ReportChecks(ctx context.Context, a accounts.Actor, name string, all []wire.NewReport) ([]wire.Check, error) {
	repo, err := accounts.Reach(s.records.Read(ctx), a, name, people.Reader)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 || len(all) > MaxReports {
		return nil, problem.Wrong("reports", "from 1 to %d reports are taken at once", MaxReports)
	}
	unknown := make([]error, len(all))
	commits := map[string]string{}
	for i := range all {
		if err := validReport(all[i]); err != nil {
			return nil, numbered(err, i, len(all))
		}
		all[i] = masked(all[i])
		if id, seen := commits[all[i].Commit]; seen {
			all[i].Commit = id
			continue
		}
		var id string
		if id, unknown[i] = s.disk.Commit(ctx, repo, all[i].Commit); unknown[i] == nil { // a commit that is there stays
			commits[all[i].Commit], all[i].Commit = id, id
		}
	}
	var out []wire.Check
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		out = nil
		repo, err := accounts.Reach(tx.DB, a, name, people.Reader)
		if err != nil {
			return err
		}
		force, err := s.rulebook.RulesOf(tx.DB, repo)
		if err != nil {
			return err
		}
		for i, n := range all {
			if a.Scope() != accounts.ScopeChecks || !a.Names(repo.ID, n.Name) {
				return numbered(problem.New(problem.Forbidden, "this token may not report check %q of %s: tavrin token create "+
					"ROBOT --check %s:%s makes one that may", n.Name, name, name, n.Name), i, len(all))
			}
			if err := reportable(force.Set.Check(n.Name), a); err != nil {
				return numbered(err, i, len(all))
			}
			if unknown[i] != nil {
				return numbered(unknown[i], i, len(all))
			}
			view, err := s.report(tx, a, repo, n, force.Set.Check(n.Name))
			if err != nil {
				return numbered(err, i, len(all))
			}
			out = append(out, view)
		}
		return nil
	})
	return out, err
}

// numbered says of which of several reports a problem is.
func numbered(err error, i, of int) error {
	if p, is := err.(*problem.Problem); is && of > 1 {
		q := *p
		q.Text, q.Field = fmt.Sprintf("report %d: %s", i+1, p.Text), strings.TrimSuffix(fmt.Sprintf("reports/%d/%s", i, p.Field), "/")
		return &q
	}
	return err
}

// report records one report. The same one under the same key is answered as it was, and nothing else happens.
func (s *Checks) report(tx *records.Tx, a accounts.Actor, repo *records.Repository, n wire.NewReport, declared rules.Check) (wire.Check, error) {
	text, err := json.Marshal(n)
	if err != nil {
		return wire.Check{}, err
	}
	sum := sha256.Sum256(text)
	mark := records.ReportKey{RepositoryID: repo.ID, Login: a.Login(), Key: n.Key, SHA256: hex.EncodeToString(sum[:]), CreatedAt: tx.Now()}
	if n.Key != "" {
		var before records.ReportKey
		if err := tx.Where("repository_id = ? AND login = ? AND key = ?", repo.ID, a.Login(), n.Key).Limit(1).Find(&before).Error; err != nil {
			return wire.Check{}, err
		}
		if before.Key != "" {
			if before.SHA256 != mark.SHA256 {
				return wire.Check{}, problem.New(problem.Conflict, "something else was reported under the key %q: every report has a key of its own", n.Key)
			}
			var run records.CheckRun
			err := tx.First(&run, before.CheckRunID).Error
			tx.TouchesNothing()
			return checkView(run), err
		}
	}
	run, err := s.attempt(tx, repo, n, declared)
	if err != nil {
		return wire.Check{}, err
	}
	if n, err = joined(&run, n, tx.Now()); err != nil {
		return wire.Check{}, err
	}
	run.ReportedBy = a.Login()
	view, err := s.saveReport(tx, repo, &run, n)
	if err == nil && mark.Key != "" {
		mark.CheckRunID = run.ID
		err = tx.Create(&mark).Error
	}
	return view, err
}

// joined puts the report of a part with those of the others, and returns what that says of the whole.
func joined(run *records.CheckRun, n wire.NewReport, now time.Time) (wire.NewReport, error) {
	if n.Part == "" {
		if run.PartsOf != 0 {
			return n, problem.New(problem.Conflict, "%s is reported in %d parts: say which, with part and parts_of", n.Name, run.PartsOf)
		}
		return n, nil
	}
	if run.PartsOf == 0 && change.CheckState(run.State).Final() {
		return n, problem.New(problem.Conflict, "%s has ended as a whole; it has no parts", n.Name)
	}
	if run.PartsOf != 0 && run.PartsOf != n.PartsOf {
		return n, problem.New(problem.Conflict, "%s has %d parts, not %d", n.Name, run.PartsOf, n.PartsOf)
	}
	run.PartsOf = n.PartsOf
	i := slices.IndexFunc(run.Parts, func(p records.CheckPart) bool { return p.Name == n.Part })
	part := records.CheckPart{Name: n.Part, State: n.State, Link: n.Link, Summary: n.Summary, At: now}
	switch {
	case i < 0 && len(run.Parts) == run.PartsOf:
		return n, problem.New(problem.Conflict, "all %d parts of %s are known already, and %s is none of them", run.PartsOf, n.Name, n.Part)
	case i < 0:
		run.Parts = append(run.Parts, part)
	case run.Parts[i].State.Final() && run.Parts[i].State != n.State:
		return n, problem.New(problem.Conflict, "part %s of %s has ended as %s, and an answer is not taken back", n.Part, n.Name, run.Parts[i].State)
	default:
		run.Parts[i] = part
	}
	states := []change.CheckState{}
	for _, p := range run.Parts {
		states = append(states, p.State)
	}
	n.State, n.Summary = change.RollUp(states, run.PartsOf)
	n.Link = run.Link
	n.Annotations = append(slices.Clone(run.Annotations), n.Annotations...)
	n.Annotations = n.Annotations[:min(len(n.Annotations), maxAnnotations)]
	if n.Log == "" {
		n.Log = run.Log
	}
	n.Numbers = nil // of a part they are not those of the whole
	return n, nil
}

// reportable says why a check robot may not report a check, as the rules define it: what it may not report it cannot claim.
func reportable(declared rules.Check, a accounts.Actor) error {
	switch {
	case declared.Command != "":
		return problem.New(problem.Forbidden, "the rules define %s as a command: a runner runs it, and nobody "+
			"reports it", declared.Name)
	case declared.ReportedBy != "" && declared.ReportedBy != a.Login():
		return problem.New(problem.Forbidden, "by the rules only robot:%s reports %s, and you are %s",
			declared.ReportedBy, declared.Name, a.Login())
	}
	return nil
}

// attempt finds the attempt that a report is about, or begins the first. An answer is not taken back; but what was deployed and
// healthy may be found ill, and then has to be asked for once more.
func (s *Checks) attempt(tx *records.Tx, repo *records.Repository, n wire.NewReport, declared rules.Check) (records.CheckRun, error) {
	var run records.CheckRun
	err := tx.Where("repository_id = ? AND commit_id = ? AND name = ?", repo.ID, n.Commit,
		n.Name).Order("attempt DESC").Limit(1).Find(&run).Error
	switch {
	case err != nil:
		return run, err
	case run.ID == 0 && n.Attempt > 1:
		return run, problem.New(problem.Conflict, "nobody asked for attempt %d of %s on %.10s", n.Attempt, n.Name,
			n.Commit)
	case run.ID == 0:
		return records.CheckRun{RepositoryID: repo.ID, CommitID: n.Commit, Name: n.Name, Attempt: 1,
			CreatedAt: s.records.Now()}, nil
	case run.RanOn != "" && (n.Attempt == 0 || n.Attempt == run.Attempt): // it runs here after all, and that counts instead
		return records.CheckRun{ID: run.ID, RepositoryID: repo.ID, CommitID: n.Commit, Name: n.Name, Attempt: run.Attempt,
			AskedFor: run.AskedFor, ChangeNumber: run.ChangeNumber, Target: run.Target, CreatedAt: run.CreatedAt}, nil
	case n.Attempt == 0 && run.Attempt > 1:
		return run, problem.New(problem.Conflict, "%s was asked for %d times on %.10s: say which attempt the answer "+
			"is for, with --attempt %d for the newest", n.Name, run.Attempt, n.Commit, run.Attempt)
	case n.Attempt != 0 && n.Attempt != run.Attempt:
		return run, problem.New(problem.Conflict, "attempt %d of %s on %.10s is over; the newest is %d", n.Attempt,
			n.Name, n.Commit, run.Attempt)
	case declared.Environment != "" && n.Part == "" && run.State == string(change.Passed) && (n.State == change.Failed || n.State == change.Errored):
		run.FinishedAt = nil // from now on
	case n.Part == "" && change.CheckState(run.State).Final() && run.State != string(n.State):
		return run, problem.New(problem.Conflict, "attempt %d of %s on %.10s has ended as %s, and an answer is not "+
			"taken back: tavrin check rerun %s --name %q asks for another attempt",
			run.Attempt, n.Name, n.Commit, run.State, n.Commit, n.Name)
	}
	return run, nil
}

// saveReport stores a state of an attempt.
func (s *Checks) saveReport(tx *records.Tx, repo *records.Repository, run *records.CheckRun,
	n wire.NewReport) (wire.Check, error) {
	now := s.records.Now()
	run.State, run.Link, run.Summary = string(n.State), n.Link, n.Summary
	if n.Log != "" {
		run.Log = n.Log
	}
	if n.Numbers != nil {
		run.Numbers = n.Numbers
	}
	if n.Annotations != nil {
		run.Annotations = n.Annotations
	}
	if run.StartedAt == nil && n.State != change.Waiting {
		run.StartedAt = &now
	}
	if n.State.Final() && run.FinishedAt == nil {
		run.FinishedAt = &now
	}
	switch {
	case n.Seconds > 0:
		run.Milliseconds = int64(n.Seconds * 1000)
	case n.State.Final() && run.Milliseconds == 0:
		run.Milliseconds = run.FinishedAt.Sub(*run.StartedAt).Milliseconds()
	}
	if err := tx.Save(run).Error; err != nil {
		return wire.Check{}, err
	}
	return checkView(*run), tx.Record(run.ReportedBy, repo, event.CheckReported{OfCheck: ofCheck(*run), State: run.State,
		Summary: run.Summary, Link: run.Link, Part: n.Part, Seconds: float64(run.Milliseconds) / 1000, Numbers: run.Numbers})
}

func parts(r records.CheckRun) []wire.CheckPart {
	var out []wire.CheckPart
	for _, p := range r.Parts {
		out = append(out, wire.CheckPart{Name: p.Name, State: string(p.State), Link: p.Link, Summary: p.Summary})
	}
	return out
}

// ForgetLogs forgets what checks wrote that were asked for long ago. How they ended, and what they say in a line, stays.
func (s *Checks) ForgetLogs(ctx context.Context) error {
	return s.records.Forget(ctx, "check logs", "check_runs", s.records.Now().AddDate(0, 0, -int(s.bounds.KeepLogs)), func(tx *records.Tx, ids []int64) error {
		return tx.Exec("UPDATE check_runs SET log = '' WHERE id IN ? AND log <> ''", ids).Error
	})
}

// ForgetKeys forgets the keys of reports of long ago.
func (s *Checks) ForgetKeys(ctx context.Context) error {
	return s.records.Note(ctx, func(tx *records.Tx) error {
		return tx.Where("created_at < ?", tx.Now().Add(-keysKept)).Delete(&records.ReportKey{}).Error
	})
}
