package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// ruleShelf finds the repository or house that rules belong to, for an actor who reads them or, with change, who may
// change them. House rules have a right of their own: its keepers'.
func (s *Service) ruleShelf(db *gorm.DB, a Actor, where string, change bool) (shelf, error) {
	if strings.Contains(where, "/") {
		need := gate.Reader
		if change {
			need = gate.Maintainer
		}
		repo, err := s.reach(db, a, where, need)
		return shelf{repo: repo}, err
	}
	missing := problem(Unknown, "there is no house %s, or you may not see it", where)
	if !a.Known() {
		return shelf{}, problem(SignInNeeded, "sign in to see the rules of house %s", where)
	}
	var house store.House
	if err := db.Where("name = ?", where).First(&house).Error; err != nil {
		return shelf{}, orUnknownIs(err, missing)
	}
	inside, err := s.belongs(db, a, house)
	if err != nil {
		return shelf{}, err
	}
	if !inside {
		return shelf{}, missing
	}
	if change {
		err = s.mustKeep(db, a, house, "changing house rules")
	}
	return shelf{house: &house}, err
}

// belongs says whether an actor has a role in a house or in one of its repositories. That a repository is readable by
// all is not enough to read what its house says of others (P11).
func (s *Service) belongs(db *gorm.DB, a Actor, house store.House) (bool, error) {
	if a.account.Admin {
		return true, nil
	}
	if role, err := houseRole(db, a.account, house.ID); err != nil || role != "" {
		return role != "", err
	}
	repos, err := repositoriesOf(db, house)
	if err != nil {
		return false, err
	}
	for i := range repos {
		repos[i].Public = false
		role, err := roleIn(db, a.account, &repos[i])
		if err != nil || role != gate.NoRole {
			return err == nil, err
		}
	}
	return false, nil
}

// mayChangeRules refuses a console session that has not shown its token again lately.
func (a Actor) mayChangeRules(now time.Time) error { return a.confirmed(now, "rules") }

func (a Actor) confirmed(now time.Time, what string) error {
	if a.session && (a.confirmedUntil == nil || now.After(*a.confirmedUntil)) {
		return problem(Forbidden, "confirm who you are: %s may be changed from the console only within %s of showing the token again that you signed in with", what, confirmedFor)
	}
	return nil
}

// rulesReason checks the reason that every change of rules needs.
func rulesReason(because string) error {
	if err := line("because", because, 3, 500); err != nil {
		return invalid("because", "say why the rules change, in one line of 3 to 500 characters: --because TEXT")
	}
	return nil
}

// ApplyRules makes a document the next version of a repository's or house's rules. ifVersion is the version last read,
// so that nobody's work is overwritten unseen; below 0: whatever it is now. Where the document in force asks for a
// second person and the new one loosens, a proposal is made instead.
func (s *Service) ApplyRules(ctx context.Context, a Actor, where, text, because string, ifVersion int) (wire.RulesApplied, error) {
	if err := errors.Join(rulesReason(because), a.mayChangeRules(s.now())); err != nil {
		return wire.RulesApplied{}, firstProblem(err)
	}
	out := wire.RulesApplied{Advice: []wire.Advice{}}
	err := s.write(ctx, func(tx *tx) error {
		h, err := s.ruleShelf(tx.DB, a, where, true)
		if err != nil {
			return err
		}
		last, err := h.newest(tx.DB)
		if err != nil {
			return err
		}
		if ifVersion >= 0 && ifVersion != last.Version {
			return problem(Precondition, "the rules of %s are at version %d, not %d: read them again (tavrin rules show), carry your edit over, and apply with --if-version %d",
				where, last.Version, ifVersion, last.Version)
		}
		repos, err := repositoriesUnder(tx.DB, h)
		if err != nil {
			return err
		}
		was, now, err := s.readNew(tx.DB, h, last, text, repos)
		if err != nil {
			return err
		}
		differences, err := s.differences(tx.DB, h, was, now)
		if err != nil {
			return err
		}
		if was != nil && len(was.AgreedBy) > 0 && rules.Loosens(differences) {
			row := store.RulesProposal{BasedOn: last.Version, Text: text, Because: because, ProposedBy: a.Login(), ProposedAt: s.now(), State: "open"}
			proposal, err := s.propose(tx, h, &row, was)
			out.Rules, out.Proposal = rulesView(last), &proposal
			return err
		}
		row := store.RulesVersion{Version: last.Version + 1, Text: text, Because: because, AppliedBy: a.Login(), AppliedAt: s.now()}
		out.Rules = rulesView(row)
		return s.putInForce(tx, h, row)
	})
	if err != nil {
		return wire.RulesApplied{}, err
	}
	// It is in force, or proposed: that it cannot be looked at now takes nothing of that back.
	d, err := s.draftOf(s.store.Read(ctx), a, where, text)
	if err == nil {
		out.Advice, err = s.advice(ctx, d)
	}
	if err != nil {
		s.log.Warn("rules could not be linted", "rules_of", where, "error", err)
	}
	return out, nil
}

// readNew reads a document that is to be applied, and the one in force; nil for none. A house's has to fit the rules of
// the repositories given.
func (s *Service) readNew(db *gorm.DB, h shelf, last store.RulesVersion, text string, repos []store.Repository) (was, now *rules.Document, err error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, nil, err
	}
	now, findings := as.Parse(text)
	if len(findings) > 0 {
		return nil, nil, unreadable(findings)
	}
	if h.repo == nil {
		if err := s.fitsRepositories(db, *h.house, now, repos); err != nil {
			return nil, nil, err
		}
	}
	as.Accepted = true
	was, err = documentOf(last, as)
	return was, now, err
}

// fitsRepositories refuses house rules under which a repository's own would mean something else: a branch kind gone or
// changed that they name, a name of theirs that would become a kind, an area or label gone that a condition needs.
func (s *Service) fitsRepositories(db *gorm.DB, house store.House, doc *rules.Document, repos []store.Repository) error {
	before, err := (shelf{house: &house}).newest(db)
	if err != nil {
		return err
	}
	was, err := documentOf(before, ofHouse)
	if err != nil {
		return err
	}
	for i := range repos {
		row, err := (shelf{repo: &repos[i]}).newest(db)
		if err != nil || row.ID == 0 {
			if err != nil {
				return err
			}
			continue
		}
		then, findings := rules.Under{House: doc, Redefined: true}.Parse(row.Text)
		if len(findings) > 0 {
			return invalid("text", "the rules of %s (version %d) would not hold with it: line %d: %s; %s", repos[i].Name, row.Version, findings[0].Line, findings[0].Message, findings[0].Right)
		}
		now, err := documentOf(row, rules.Under{House: was, Accepted: true})
		if err != nil {
			return err
		}
		for word, patterns := range now.Used {
			if !slices.Equal(patterns, then.Used[word]) {
				return invalid("text", "%q in the rules of %s (version %d) stands for %s and would stand for %s: change those rules first, or use another name",
					word, repos[i].Name, row.Version, strings.Join(patterns, ", "), strings.Join(then.Used[word], ", "))
			}
		}
	}
	return nil
}

// repositoriesUnder lists the repositories whose rules a house's document has to fit; none for a repository's own.
func repositoriesUnder(db *gorm.DB, h shelf) ([]store.Repository, error) {
	if h.repo != nil {
		return nil, nil
	}
	return repositoriesOf(db, *h.house)
}

func repositoriesOf(db *gorm.DB, house store.House) ([]store.Repository, error) {
	var repos []store.Repository
	err := db.Where("house_id = ?", house.ID).Order("name").Find(&repos).Error
	return repos, err
}

// putInForce records a version and what follows from it: open proposals are overtaken, and what is open is judged and
// asked for again at once.
func (s *Service) putInForce(tx *tx, h shelf, row store.RulesVersion) error {
	row.RepositoryID, row.HouseID = h.ids()
	if err := tx.Create(&row).Error; err != nil {
		return err
	}
	err := h.rows(tx.Model(&store.RulesProposal{})).Where("state = 'open'").Updates(map[string]any{"state": "overtaken", "decided_at": s.now()}).Error
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%s applied rules version %d to %s: %s", row.AppliedBy, row.Version, h.name(), row.Because)
	if row.AgreedBy != "" {
		text = fmt.Sprintf("%s applied rules version %d to %s, to which %s agreed: %s", row.AppliedBy, row.Version, h.name(), row.AgreedBy, row.Because)
	}
	err = tx.record(event{actor: row.AppliedBy, kind: "rules.applied", repo: h.repo, subject: fmt.Sprintf("rules/%d", row.Version), text: text,
		data: map[string]any{"rules_of": h.name(), "version": row.Version, "because": row.Because, "agreed_by": row.AgreedBy, "text_sha256": digest(row.Text)}})
	if err != nil {
		return err
	}
	return s.judgeAgain(tx, h)
}

// judgeAgain asks for what the rules of a repository, or of every repository of a house, have come to want.
func (s *Service) judgeAgain(tx *tx, h shelf) error {
	if h.repo != nil {
		return s.askUnderNewRules(tx, h.repo)
	}
	repos, err := repositoriesOf(tx.DB, *h.house)
	for i := range repos {
		if err == nil {
			err = s.askUnderNewRules(tx, &repos[i])
		}
	}
	return err
}

// unreadable makes one problem of the findings of a document.
func unreadable(findings []rules.Finding) error {
	var b strings.Builder
	fmt.Fprintf(&b, "the rules document has %d finding", len(findings))
	if len(findings) != 1 {
		b.WriteByte('s')
	}
	b.WriteString("; nothing was applied")
	return &Problem{Kind: Invalid, Field: "text", Text: b.String(), Findings: findings}
}

func rulesView(r store.RulesVersion) wire.Rules {
	return wire.Rules{Version: r.Version, Text: r.Text, Because: r.Because, AppliedBy: r.AppliedBy, AgreedBy: r.AgreedBy, AppliedAt: r.AppliedAt}
}

// Rules returns a version of a repository's or house's rules; 0 asks for the newest.
func (s *Service) Rules(ctx context.Context, a Actor, where string, version int) (wire.Rules, error) {
	db := s.store.Read(ctx)
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return wire.Rules{}, err
	}
	var row store.RulesVersion
	if version == 0 {
		row, err = h.newest(db)
	} else {
		row, err = h.at(db, version)
	}
	return rulesView(row), err
}

// RulesHistory lists the versions of rules, newest first, without their texts.
func (s *Service) RulesHistory(ctx context.Context, a Actor, where string) ([]wire.Rules, error) {
	db := s.store.Read(ctx)
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	var rows []store.RulesVersion
	err = h.rows(db).Omit("text").Order("version DESC").Find(&rows).Error
	out := []wire.Rules{}
	for _, r := range rows {
		out = append(out, rulesView(r))
	}
	return out, err
}

// RulesDifferences says in what one version of rules differs from another; version 0 is the empty document.
func (s *Service) RulesDifferences(ctx context.Context, a Actor, where string, from, to int) ([]wire.Difference, error) {
	db := s.store.Read(ctx)
	h, err := s.ruleShelf(db, a, where, false)
	if err != nil {
		return nil, err
	}
	var docs [2]*rules.Document
	for i, version := range []int{from, to} {
		row, err := h.at(db, version)
		if err != nil {
			return nil, err
		}
		if docs[i], err = s.readBack(db, h, row); err != nil {
			return nil, err
		}
	}
	differences, err := s.differences(db, h, docs[0], docs[1])
	return append([]wire.Difference{}, differences...), err
}

// readBack reads a version on record under the house's rules of today.
func (s *Service) readBack(db *gorm.DB, h shelf, row store.RulesVersion) (*rules.Document, error) {
	as, err := placeOf(db, h)
	if err != nil {
		return nil, err
	}
	as.Accepted = true
	return documentOf(row, as)
}

// RestoreRules makes an earlier version's text the next version.
func (s *Service) RestoreRules(ctx context.Context, a Actor, where string, version int, because string, ifVersion int) (wire.RulesApplied, error) {
	earlier, err := s.Rules(ctx, a, where, version)
	if err != nil {
		return wire.RulesApplied{}, err
	}
	if version < 1 {
		return wire.RulesApplied{}, invalid("version", "say to which version to return, counted from 1: tavrin rules history")
	}
	return s.ApplyRules(ctx, a, where, earlier.Text, because, ifVersion)
}

// ExplainBranch says what protects a branch, one that exists or one that may come.
func (s *Service) ExplainBranch(ctx context.Context, a Actor, name, branch string) (wire.BranchRules, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.BranchRules{}, err
	}
	if err := git.CheckBranch(branch); err != nil {
		return wire.BranchRules{}, invalid("branch", "%v", err)
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return wire.BranchRules{}, err
	}
	e := force.now().For(branch)
	out := wire.BranchRules{Branch: branch, Protected: e.Protected, Protections: e.Names(), Version: force.own.Version, HouseVersion: force.house.Version, Kinds: []string{},
		Sentences: []wire.RuleSentence{}}
	if _, err := s.bare(repo).Tip(ctx, "refs/heads/"+branch); err == nil {
		out.Exists = true
	}
	for _, l := range force.set.Layers() {
		for _, k := range l.Document.Kinds {
			if k.List.Match(branch) {
				out.Kinds = append(out.Kinds, k.Name)
			}
		}
	}
	for _, sentence := range slices.Concat(e.Sentences(), force.set.AreaSentences(), force.set.DefinitionSentences()) {
		out.Sentences = append(out.Sentences, wire.RuleSentence{Setting: sentence.Setting, Text: sentence.Text, Level: string(sentence.Level),
			Sources: append([]rules.Source{}, sentence.Sources...), FixedBy: sentence.FixedByHouse()})
	}
	return out, nil
}

// MatchBranches says which branches a glob, or a branch kind, matches now.
func (s *Service) MatchBranches(ctx context.Context, a Actor, name, pattern string) (wire.PatternMatches, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.PatternMatches{}, err
	}
	force, err := s.rulesOf(db, repo)
	if err != nil {
		return wire.PatternMatches{}, err
	}
	out := wire.PatternMatches{Pattern: pattern, Globs: []string{pattern}, Branches: []string{}}
	for _, l := range force.set.Layers() {
		if k := l.Document.Kind(pattern); k != nil && !out.Kind {
			out.Kind, out.Globs = true, k.Patterns
		}
	}
	list, err := glob.CompileList(out.Globs)
	if err != nil {
		return out, invalid("pattern", "%v; write %s", err, glob.Syntax)
	}
	heads, err := s.bare(repo).Refs(ctx, "refs/heads/")
	for _, h := range heads {
		if branch := strings.TrimPrefix(h.Name, "refs/heads/"); list.Match(branch) {
			out.Branches = append(out.Branches, branch)
		}
	}
	return out, err
}
