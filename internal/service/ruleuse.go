package service

import (
	"context"
	"fmt"
	"strings"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/glob"
	"tavrin/internal/core/rules"
	"tavrin/internal/git"
	"tavrin/internal/store"
	"tavrin/wire"
)

// ApplyRules makes a document the repository's next version of rules. ifVersion is the version last read, so that
// nobody's work is overwritten unseen; below 0: whatever it is now.
func (s *Service) ApplyRules(ctx context.Context, a Actor, name, text, because string, ifVersion int) (wire.Rules, error) {
	if err := line("because", because, 3, 500); err != nil {
		return wire.Rules{}, invalid("because", "say why the rules change, in one line of 3 to 500 characters: --because TEXT")
	}
	doc, findings := rules.Parse(text)
	if len(findings) > 0 {
		return wire.Rules{}, unreadable(findings)
	}
	var row store.RulesVersion
	err := s.write(ctx, func(tx *tx) error {
		repo, err := s.reach(tx.DB, a, name, gate.Maintainer)
		if err != nil {
			return err
		}
		last, _, err := s.rulesOf(tx.DB, repo.ID)
		if err != nil {
			return err
		}
		if ifVersion >= 0 && ifVersion != last.Version {
			return problem(Precondition, "the rules of %s are at version %d, not %d: read them again (tavrin rules show), carry your edit over, and apply with --if-version %d",
				name, last.Version, ifVersion, last.Version)
		}
		row = store.RulesVersion{RepositoryID: repo.ID, Version: last.Version + 1, Text: text, Because: because, AppliedBy: a.Login(), AppliedAt: s.now()}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		err = tx.record(event{actor: a.Login(), kind: "rules.applied", repo: repo, subject: fmt.Sprintf("rules/%d", row.Version),
			text: fmt.Sprintf("%s applied rules version %d to %s: %s", a.Login(), row.Version, name, because), data: map[string]any{"version": row.Version, "because": because}})
		if err != nil {
			return err
		}
		return s.askUnderNewRules(tx, repo, doc)
	})
	return rulesView(row), err
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
	return wire.Rules{Version: r.Version, Text: r.Text, Because: r.Because, AppliedBy: r.AppliedBy, AppliedAt: r.AppliedAt}
}

// Rules returns a version of a repository's rules; 0 asks for the newest.
func (s *Service) Rules(ctx context.Context, a Actor, name string, version int) (wire.Rules, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return wire.Rules{}, err
	}
	if version == 0 {
		row, _, err := s.rulesOf(db, repo.ID)
		return rulesView(row), err
	}
	var row store.RulesVersion
	err = db.Where("repository_id = ? AND version = ?", repo.ID, version).First(&row).Error
	return rulesView(row), orUnknown(err, "%s has no rules version %d", name, version)
}

// RulesHistory lists the versions of a repository's rules, newest first, without their texts.
func (s *Service) RulesHistory(ctx context.Context, a Actor, name string) ([]wire.Rules, error) {
	db := s.store.Read(ctx)
	repo, err := s.reach(db, a, name, gate.Reader)
	if err != nil {
		return nil, err
	}
	var rows []store.RulesVersion
	err = db.Where("repository_id = ?", repo.ID).Omit("text").Order("version DESC").Find(&rows).Error
	out := []wire.Rules{}
	for _, r := range rows {
		out = append(out, rulesView(r))
	}
	return out, err
}

// CheckRules reads a document without applying it.
func (s *Service) CheckRules(_ context.Context, text string) wire.RulesCheck {
	doc, findings := rules.Parse(text)
	out := wire.RulesCheck{Valid: len(findings) == 0, Findings: findings, Sentences: []string{}}
	if findings == nil {
		out.Findings = []rules.Finding{}
	}
	if doc == nil {
		return out
	}
	for _, p := range doc.Protections {
		one := rules.Document{Kinds: doc.Kinds, Areas: doc.Areas, Checks: doc.Checks, Protections: []rules.Protection{p}}
		one.Protections[0].Branches = everything
		for _, sentence := range one.For("any", 0).Sentences() {
			out.Sentences = append(out.Sentences, fmt.Sprintf("%s (%s): %s", p.Name, strings.Join(p.Text, ", "), sentence.Text))
		}
	}
	return out
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
	row, doc, err := s.rulesOf(db, repo.ID)
	if err != nil {
		return wire.BranchRules{}, err
	}
	e := doc.For(branch, row.Version)
	out := wire.BranchRules{Branch: branch, Protected: e.Protected, Protections: e.Protections, Version: row.Version, Sentences: []wire.RuleSentence{}}
	if out.Protections == nil {
		out.Protections = []string{}
	}
	for _, sentence := range e.Sentences() {
		from := sentence.Sources
		if from == nil {
			from = []rules.Source{}
		}
		out.Sentences = append(out.Sentences, wire.RuleSentence{Text: sentence.Text, Sources: from})
	}
	return out, nil
}

// everything matches every branch, to put a protection into words whatever it is for.
var everything = must(glob.CompileList([]string{"**"}))

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
