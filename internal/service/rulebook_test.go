package service

import (
	"errors"
	"testing"

	"tavrin/internal/core/gate"
	"tavrin/internal/store"
)

// TestP5RulesNeverInForceJudgeNothing: a version that was rolled back leaves nothing behind, though the record that
// comes after it takes its number.
func TestP5RulesNeverInForceJudgeNothing(t *testing.T) {
	l := newLab(t)
	repo, err := l.reach(l.store.Read(t.Context()), l.admin, name, gate.Reader)
	l.ok(err)
	const lost = "tavrin: rules/1\nprotect:\n  - name: lost\n    branches: main\n    delete: never\n"
	const kept = "tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    delete: never\n"
	full := errors.New("the disk is full")
	err = l.write(t.Context(), func(tx *tx) error {
		row := store.RulesVersion{Version: 1, Text: lost, Because: "a first try", AppliedBy: l.admin.Login(), AppliedAt: l.now()}
		l.ok(l.putInForce(tx, shelf{repo: repo}, row))
		within, err := l.rulesOf(tx.DB, repo)
		l.ok(err)
		if got := within.set.Layers(); got[len(got)-1].Document.Protections[0].Name != "lost" {
			t.Errorf("within the write: %+v; want the version being applied", got)
		}
		return full
	})
	if !errors.Is(err, full) {
		t.Fatalf("write: %v; want %v", err, full)
	}
	_, err = l.ApplyRules(t.Context(), l.admin, name, kept, "a second try", 0)
	l.ok(err)
	force, err := l.rulesOf(l.store.Read(t.Context()), repo)
	l.ok(err)
	layers := force.set.Layers()
	if got := layers[len(layers)-1].Document.Protections[0].Name; got != "kept" {
		t.Errorf("protection %q is in force; want %q, the one applied", got, "kept")
	}
}
