package rulebook

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/event"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/grammar"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/internal/typed"
	"tavrin/wire"
)

// RuleShelf finds the repository or house that rules belong to, for an actor who reads them or, with change, who may
// change them. House rules have a right of their own: that of its maintainers.
func RuleShelf(db *gorm.DB, a accounts.Actor, where string, change bool) (shelf, error) {
	if strings.Contains(where, "/") {
		need := people.Reader
		if change {
			need = people.Maintainer
		}
		repo, err := accounts.Reach(db, a, where, need)
		return shelf{repo: repo}, err
	}
	missing := &problem.Problem{Kind: problem.Unknown, Text: fmt.Sprintf("there is no house %s, or you may not see it", where)}
	if !a.Known() {
		return shelf{}, problem.New(problem.SignInNeeded, "sign in to see the rules of house %s", where)
	}
	var house records.House
	refused := func() error {
		missing.Text += accounts.MeantHouse(db, a, where)
		return missing
	}
	if err := db.Where("name = ?", where).First(&house).Error; err != nil {
		return shelf{}, records.OrElse(err, refused())
	}
	inside, err := accounts.Belongs(db, a, house)
	if err != nil {
		return shelf{}, err
	}
	if !inside {
		return shelf{}, refused()
	}
	if change {
		err = accounts.MustMaintainHouse(db, a, house, "changing house rules")
	}
	return shelf{house: &house}, err
}

// rulesReason checks the reason that every change of rules needs.
func rulesReason(reason string) error {
	if err := typed.Line("reason", reason, 3, 500); err != nil {
		return problem.Wrong("reason", "say why the rules change, in one line of 3 to 500 characters")
	}
	return nil
}

// ApplyRules makes a document the next version of a repository's or house's rules. ifVersion is the version last read,
// so that nobody's work is overwritten unseen; below 0: whatever it is now. Where the document in force asks for a
// second person and the new one loosens, a proposal is made instead.
func (s *Rulebook) ApplyRules(ctx context.Context, a accounts.Actor, where, text, reason string,
	ifVersion int) (wire.RulesApplied, error) {
	if err := errors.Join(rulesReason(reason), a.MayChangeRules(s.records.Now())); err != nil {
		return wire.RulesApplied{}, problem.First(err)
	}
	for try := 1; ; try++ {
		out, done, err := s.apply(ctx, a, where, text, reason, ifVersion, try == mostTries)
		if errors.Is(err, errRulesMoved) {
			continue // other rules came in between: it is read again what it means
		}
		if err != nil || !done {
			return out, err
		}
		s.judgeNow(ctx)
		return s.advised(ctx, a, where, text, out), nil
	}
}

// mostTries is how often it is read outside of the write what a document means, if others apply rules meanwhile. The last time it is
// read within.
const mostTries = 4

// errRulesMoved says that rules are others than when a document was read.
var errRulesMoved = errors.New("other rules came in between")

// draft is what a document to be applied means, by what it was read with.
type prepared struct {
	last        records.RulesVersion
	was         *rules.Document
	differences []wire.Difference
	basis       []string
}

// prepare reads a document that is to be applied, with everything that it has to fit.
func (s *Rulebook) prepare(db *gorm.DB, a accounts.Actor, where, text string, ifVersion int) (p prepared, h shelf, err error) {
	if h, err = RuleShelf(db, a, where, true); err != nil {
		return p, h, err
	}
	if p.last, err = h.Newest(db); err != nil {
		return p, h, err
	}
	if ifVersion >= 0 && ifVersion != p.last.Version {
		return p, h, problem.New(problem.Precondition, "the rules of %s are at version %d, not %d: read them again "+
			"(tavrin rules show), carry your edit over, and apply with --if-version %d",
			where, p.last.Version, ifVersion, p.last.Version)
	}
	repos, err := repositoriesUnder(db, h)
	if err != nil {
		return p, h, err
	}
	was, now, err := readNew(db, h, p.last, text, repos)
	if err != nil {
		return p, h, err
	}
	if p.was = was; p.last.Version > 0 && text == p.last.Text {
		return p, h, nil
	}
	if p.differences, err = Differences(db, h, was, now); err != nil {
		return p, h, err
	}
	p.basis, err = s.basisOf(db, h)
	return p, h, err
}

// basisOf names everything that a document of a shelf is read with.
func (s *Rulebook) basisOf(db *gorm.DB, h shelf) ([]string, error) {
	repos := []records.Repository{}
	if h.repo != nil {
		repos = append(repos, *h.repo)
	} else {
		var err error
		if repos, err = repositoriesUnder(db, h); err != nil {
			return nil, err
		}
	}
	var out []string
	for i := range repos {
		f, err := s.Versions(db, &repos[i])
		if err != nil {
			return nil, err
		}
		out = append(out, fmt.Sprintf("%s %d %d", repos[i].Name, f.Own.ID, f.House.ID))
	}
	return out, nil
}

// apply puts a document in force, or proposes it. What takes long is read before, from a snapshot, and compared with what there is in
// the write; inside, that is done within it.
func (s *Rulebook) apply(ctx context.Context, a accounts.Actor, where, text, reason string, ifVersion int,
	inside bool) (out wire.RulesApplied, done bool, err error) {
	out = wire.RulesApplied{Advice: []wire.Advice{}, Differences: []wire.Difference{}}
	var p prepared
	if !inside {
		snap := s.records.View(ctx)
		p, _, err = s.prepare(snap.DB, a, where, text, ifVersion)
		snap.Close()
		if err != nil {
			return wire.RulesApplied{}, false, err
		}
	}
	err = s.records.Write(ctx, func(tx *records.Tx) error {
		h, err := RuleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		if inside {
			p, h, err = s.prepare(tx.DB, a, where, text, ifVersion)
		} else {
			err = s.stillSo(tx.DB, h, p)
		}
		if err != nil {
			return err
		}
		if p.last.Version > 0 && text == p.last.Text {
			tx.TouchesNothing()
			out.Rules, out.Unchanged = rulesView(p.last), true
			return nil
		}
		out.Differences = append(out.Differences, p.differences...)
		if p.was != nil && len(p.was.AgreedBy) > 0 && rules.Loosens(p.differences) {
			row := records.RulesProposal{BasedOn: p.last.Version, Text: text, Reason: reason, ProposedBy: a.Login(),
				ProposedAt: s.records.Now(), State: "open"}
			proposal, err := propose(tx, h, &row, p.was)
			out.Rules, out.Proposal = rulesView(p.last), &proposal
			return err
		}
		row := records.RulesVersion{Version: p.last.Version + 1, Text: text, Reason: reason, AppliedBy: a.Login(),
			AppliedAt: s.records.Now()}
		out.Rules = rulesView(row)
		return s.putInForce(tx, h, row)
	})
	return out, err == nil, err
}

// stillSo says whether everything that a document was read with is as it was.
func (s *Rulebook) stillSo(db *gorm.DB, h shelf, p prepared) error {
	last, err := h.Newest(db)
	if err != nil {
		return err
	}
	if p.basis == nil { // it is the one in force, to the letter
		if last.ID != p.last.ID {
			return errRulesMoved
		}
		return nil
	}
	basis, err := s.basisOf(db, h)
	if err == nil && (last.ID != p.last.ID || !slices.Equal(basis, p.basis)) {
		err = errRulesMoved
	}
	return err
}

// adviceTime is how long whoever applies rules waits for lint to look at what they hold for. A house may have hundreds of repositories.
const adviceTime = 150 * time.Millisecond

// advised adds what lint says of rules that were applied, or proposed, and what is still to be judged by them. That it cannot be looked
// at now takes nothing of that back.
func (s *Rulebook) advised(ctx context.Context, a accounts.Actor, where, text string, out wire.RulesApplied) wire.RulesApplied {
	snap := s.records.View(ctx)
	defer snap.Close()
	d, err := DraftOf(snap.DB, a, where, text)
	if out.Proposal == nil {
		d.version = out.Version // what is said of it names the version that it is
	}
	if err == nil {
		out.Advice, err = s.adviceWithin(ctx, snap.DB, d, adviceTime)
	}
	if err == nil {
		out.ToJudge, err = toJudge(snap.DB, d.Shelf)
	}
	if err != nil {
		s.log.Warn("rules could not be linted", "rules_of", where, "error", err)
	}
	return out
}

// readNew reads a document that is to be applied, and the one in force; nil for none. A house's has to fit the rules of
// the repositories given.
func readNew(db *gorm.DB, h shelf, last records.RulesVersion, text string,
	repos []records.Repository) (was, now *rules.Document, err error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, nil, err
	}
	now, findings := as.Parse(text)
	if len(findings) > 0 {
		return nil, nil, unreadable(findings)
	}
	if h.repo == nil {
		if err := fitsRepositories(db, *h.house, now, repos); err != nil {
			return nil, nil, err
		}
	}
	as.Accepted = true
	was, err = documentOf(last, as)
	return was, now, err
}

// fitsRepositories refuses house rules under which a repository's own would mean something else: a branch kind gone or
// changed that they name, a name of theirs that would become a kind, an area or label gone that a condition needs.
func fitsRepositories(db *gorm.DB, house records.House, doc *rules.Document, repos []records.Repository) error {
	before, err := (shelf{house: &house}).Newest(db)
	if err != nil {
		return err
	}
	was, err := documentOf(before, ofHouse)
	if err != nil {
		return err
	}
	for i := range repos {
		row, err := (shelf{repo: &repos[i]}).Newest(db)
		if err != nil || row.ID == 0 {
			if err != nil {
				return err
			}
			continue
		}
		then, findings := rules.Under{House: doc, Redefined: true}.Parse(row.Text)
		if len(findings) > 0 {
			return problem.Wrong("text", "the rules of %s (version %d) would not hold with it: line %d: %s; %s",
				repos[i].Name, row.Version, findings[0].Line, findings[0].Message, findings[0].Right)
		}
		now, err := documentOf(row, rules.Under{House: was, Accepted: true})
		if err != nil {
			return err
		}
		for word, patterns := range now.Used {
			if !slices.Equal(patterns, then.Used[word]) {
				return problem.Wrong("text", "%q in the rules of %s (version %d) stands for %s and would stand for "+
					"%s: change those rules first, or use another name",
					word, repos[i].Name, row.Version, strings.Join(patterns, ", "), strings.Join(then.Used[word], ", "))
			}
		}
	}
	return nil
}

// repositoriesUnder lists the repositories whose rules a house's document has to fit; none for a repository's own.
func repositoriesUnder(db *gorm.DB, h shelf) ([]records.Repository, error) {
	if h.repo != nil {
		return nil, nil
	}
	return accounts.RepositoriesOf(db, *h.house)
}

// putInForce records a version and what follows from it: open proposals are overtaken, and what is open is judged and
// asked for again at once.
func (s *Rulebook) putInForce(tx *records.Tx, h shelf, row records.RulesVersion) error {
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(&row).Error; err != nil {
		return err
	}
	err := h.rows(tx.Model(&records.RulesProposal{})).Where("state = 'open'").Updates(map[string]any{"state": "overtaken", "decided_at": s.records.Now()}).Error
	if err != nil {
		return err
	}
	err = tx.Record(row.AppliedBy, h.repo, event.RulesApplied{
		RulesOf: h.Name(), Version: row.Version, Reason: row.Reason, AgreedBy: row.AgreedBy, TextSHA256: accounts.Digest(row.Text),
	})
	if err != nil {
		return err
	}
	return s.judgeAgain(tx, h)
}

// unreadable makes one problem of the findings of a document.
func unreadable(findings []grammar.Finding) error {
	var b strings.Builder
	fmt.Fprintf(&b, "the rules document has %d finding", len(findings))
	if len(findings) != 1 {
		b.WriteByte('s')
	}
	b.WriteString("; nothing was applied")
	return &problem.Problem{Kind: problem.Invalid, Field: "text", Text: b.String(), Findings: findings}
}

func rulesView(r records.RulesVersion) wire.Rules {
	return wire.Rules{Version: r.Version, Text: r.Text, Reason: r.Reason, AppliedBy: r.AppliedBy,
		AgreedBy: r.AgreedBy, AppliedAt: r.AppliedAt}
}

// Rules returns a version of a repository's or house's rules; 0 asks for the newest.
func (s *Rulebook) Rules(ctx context.Context, a accounts.Actor, where string, version int) (wire.Rules, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return wire.Rules{}, err
	}
	var row records.RulesVersion
	if version == 0 {
		row, err = h.Newest(db)
	} else {
		row, err = h.at(db, version)
	}
	if err != nil {
		return wire.Rules{}, err
	}
	v := rulesView(row)
	v.ToJudge, err = toJudge(db, h)
	return v, err
}

// RulesHistory lists the versions of rules, newest first, without their texts.
func (s *Rulebook) RulesHistory(ctx context.Context, a accounts.Actor, where string) ([]wire.Rules, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	var rows []records.RulesVersion
	err = h.rows(db).Omit("text").Order("version DESC").Find(&rows).Error
	out := []wire.Rules{}
	for _, r := range rows {
		out = append(out, rulesView(r))
	}
	return out, err
}

// RulesDifferences says in what one version of rules differs from another; version 0 is the empty document.
func (s *Rulebook) RulesDifferences(ctx context.Context, a accounts.Actor, where string, from,
	to int) ([]wire.Difference, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	h, err := RuleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	var docs [2]*rules.Document
	for i, version := range []int{from, to} {
		row, err := h.at(db, version)
		if err != nil {
			return nil, err
		}
		if docs[i], err = ReadBack(db, h, row); err != nil {
			return nil, err
		}
	}
	differences, err := Differences(db, h, docs[0], docs[1])
	return append([]wire.Difference{}, differences...), err
}

// ReadBack reads a version on record under the house's rules of today.
func ReadBack(db *gorm.DB, h shelf, row records.RulesVersion) (*rules.Document, error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, err
	}
	as.Accepted = true
	return documentOf(row, as)
}

// RestoreRules makes an earlier version's text the next version.
func (s *Rulebook) RestoreRules(ctx context.Context, a accounts.Actor, where string, version int, reason string,
	ifVersion int) (wire.RulesApplied, error) {
	earlier, err := s.Rules(ctx, a, where, version)
	if err != nil {
		return wire.RulesApplied{}, err
	}
	if version < 1 {
		return wire.RulesApplied{}, problem.Wrong("version", "say to which version to return, counted from 1: "+
			"tavrin rules history")
	}
	return s.ApplyRules(ctx, a, where, earlier.Text, reason, ifVersion)
}

// ExplainBranch says what protects a branch, one that exists or one that may come.
func (s *Rulebook) ExplainBranch(ctx context.Context, a accounts.Actor, name, branch string) (wire.BranchRules, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.BranchRules{}, err
	}
	if err := git.CheckBranch(branch); err != nil {
		return wire.BranchRules{}, problem.Wrong("branch", "%v", err)
	}
	force, err := s.RulesOf(db, repo)
	if err != nil {
		return wire.BranchRules{}, err
	}
	e := force.Now().For(branch)
	out := wire.BranchRules{Branch: branch, Protected: e.Protected, Protections: e.Names(), Version: force.Own.Version,
		HouseVersion: force.House.Version, Kinds: []string{},
		Sentences: []wire.RuleSentence{}}
	if _, err := s.disk.Bare(repo).Tip(ctx, "refs/heads/"+branch); err == nil {
		out.Exists = true
	}
	for _, l := range force.Set.Layers() {
		for _, k := range l.Document.Kinds {
			if k.List.Match(branch) {
				out.Kinds = append(out.Kinds, k.Name)
			}
		}
	}
	for _, sentence := range slices.Concat(e.Sentences(), force.Set.AreaSentences(), force.Now().TagSentences(), force.Set.DefinitionSentences()) {
		out.Sentences = append(out.Sentences, wire.RuleSentence{Setting: sentence.Setting, Text: sentence.Text,
			Level:   string(sentence.Level),
			Sources: append([]require.Source{}, sentence.Sources...), FixedBy: sentence.FixedByHouse()})
	}
	return out, nil
}

// MatchBranches says which branches a glob, or a branch kind, matches now.
func (s *Rulebook) MatchBranches(ctx context.Context, a accounts.Actor, name,
	pattern string) (wire.PatternMatches, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	db := snap.DB
	repo, err := accounts.Reach(db, a, name, people.Reader)
	if err != nil {
		return wire.PatternMatches{}, err
	}
	force, err := s.RulesOf(db, repo)
	if err != nil {
		return wire.PatternMatches{}, err
	}
	out := wire.PatternMatches{Pattern: pattern, Globs: []string{pattern}, Branches: []string{}}
	for _, l := range force.Set.Layers() {
		if k := l.Document.Kind(pattern); k != nil && !out.Kind {
			out.Kind, out.Globs = true, k.Patterns
		}
	}
	list, err := glob.CompileList(out.Globs)
	if err != nil {
		return out, problem.Wrong("pattern", "%v; write %s", err, glob.Syntax)
	}
	heads, err := s.disk.Bare(repo).Refs(ctx, "refs/heads/")
	for _, h := range heads {
		if branch := strings.TrimPrefix(h.Name, "refs/heads/"); list.Match(branch) {
			out.Branches = append(out.Branches, branch)
		}
	}
	return out, err
}
