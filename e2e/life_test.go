package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// Roles are listed where they are given, and taken back; they are told to nobody who has none.
func TestRolesAreListedAndTakenBack(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.person("marla")
	w.says("admin", 0, "wren now has the role reader in growers", "house", "grant", "growers", "wren", "reader")
	out := w.says("tamsin", 0, "WHO", "repo", "roles", repo)
	for _, want := range []string{"tamsin", "ines", "maintainer  " + repo, "wren", "reader      growers"} {
		has(t, out, want)
	}
	w.says("wren", 0, "reader", "house", "roles", "growers")
	w.says("ines", 0, "wren has no role of their own in "+repo+" any more", "repo", "revoke", repo, "wren")
	w.says("ines", 1, "wren has no role of their own in "+repo, "repo", "revoke", repo, "wren")
	if out := w.says("ines", 0, "WHO", "repo", "roles", "--repo", repo); strings.Contains(out, "wren    writer") {
		t.Errorf("it was not taken back:\n%s", out)
	}
	w.says("wren", 1, "this needs the role writer", "change", "open", "--source", "x", "--title", "x y z", "--repo", repo)
	w.says("wren", 1, "giving roles", "house", "revoke", "growers", "wren")
	w.says("admin", 0, "any more", "house", "revoke", "growers", "wren")
	for _, args := range [][]string{{"house", "roles", "growers"}, {"repo", "roles", repo}} {
		for _, login := range []string{"marla", "wren"} {
			w.says(login, 1, "there is no", args...)
		}
	}
}

// Somebody leaves: what names them is told, and one command puts another in their place, each document's edit shown first.
func TestAPersonLeavesAndIsReplaced(t *testing.T) {
	w := newTown(t)
	w.begin(strings.Replace(simple, "owners: team:hydraulics", "owners: [team:hydraulics, person:odo]", 1) + "labels: {urgent: {set_by: person:odo}}\n")
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", []string{"odo"}, []string{"odo"}))
	w.says("admin", 0, "still named by team hydraulics", "person", "disable", "odo")
	before, err := w.as("ines").Rules(t.Context(), repo, 0)
	w.ok(err)
	out := w.says("admin", 0, "Nothing was done yet", "person", "replace", "odo", "--by", "tamsin")
	has(t, out, "team hydraulics:", "members: odo -> tamsin", "managers: odo -> tamsin", "roles in "+repo, "odo: writer -> none",
		"the rules of "+repo, "line 3: valves: {paths: \"valves/**\", owners: [team:hydraulics, person:odo]} -> valves: {paths: \"valves/**\", owners: [team:hydraulics, person:tamsin]}",
		"urgent: {set_by: person:tamsin}")
	if now, err := w.as("ines").Rules(t.Context(), repo, 0); err != nil || now.Version != before.Version {
		t.Errorf("to show it has done it: version %d, %v", now.Version, err)
	}
	out = w.says("admin", 0, "done", "person", "replace", "odo", "--by", "tamsin", "--reason", "odo moved to the coast")
	has(t, out, "rules version 2 is in force")
	now, err := w.as("ines").Rules(t.Context(), repo, 0)
	w.ok(err)
	if strings.Contains(now.Text, "person:odo") || now.Reason != "odo moved to the coast" || strings.Count(now.Text, "\n") != strings.Count(before.Text, "\n") {
		t.Errorf("the rules are %+v", now)
	}
	teams, err := w.admin.Teams(t.Context())
	w.ok(err)
	for _, team := range teams {
		if team.Name == "hydraulics" && strings.Join(append(team.Members, team.Managers...), " ") != "tamsin tamsin" {
			t.Errorf("the team is %+v", team)
		}
	}
	if left, err := w.admin.SetDisabled(t.Context(), "odo", true); err != nil || len(left.NamedBy) != 0 {
		t.Errorf("odo is still named by %v: %v", left.NamedBy, err)
	}
	w.says("admin", 0, "nothing that you may see names them", "person", "replace", "odo", "--by", "tamsin")
	w.says("admin", 1, "there is no person", "person", "replace", "odo", "--by", "builder")
	w.says("admin", 2, "somebody else", "person", "replace", "odo", "--by", "odo")
	// Who may not edit all of it is told what was refused, and the rest is done.
	_, err = w.as("ines").ApplyRules(t.Context(), repo, wire.NewRules{Text: before.Text, Reason: "back"}, -1)
	w.ok(err)
	w.ok(w.admin.SetTeam(t.Context(), "hydraulics", []string{"odo", "wren"}, nil))
	out, _, status := w.run("ines", w.dir, "person", "replace", "odo", "--by", "wren", "--reason", "as I may")
	has(t, out, "members: odo, wren -> wren", "refused: ", "rules version 4 is in force")
	if status != 1 {
		t.Errorf("some was refused, and it ends with %d", status)
	}
}

// A repository through its life: edited, renamed, read-only, deleted, restored, and gone for good; the journal tells of it
// all, and is verified at every stage.
func TestARepositoryThroughItsLife(t *testing.T) {
	w := newTown(t)
	dir := w.begin(simple)
	k := w.land(w.propose("tamsin", "topic", "docs/a", "a\n"), "rebase")
	verified := func() {
		t.Helper()
		w.says("admin", 0, "", "journal", "verify")
	}
	verified()

	// Edited.
	w.says("ines", 0, "Programs of the valves", "repo", "edit", repo, "--description", "Programs of the valves")
	w.says("tamsin", 1, "this needs the role maintainer", "repo", "edit", repo, "--description", "Mine")
	w.says("ines", 2, "say what to edit", "repo", "edit", repo)
	w.says("ines", 1, `has no branch trnk`, "repo", "edit", repo, "--default-branch", "trnk")
	w.must("ines", dir, "push", "-q", "origin", "HEAD:refs/heads/trunk")
	w.says("ines", 0, "trunk", "repo", "edit", repo, "--default-branch", "trunk")
	if on := w.must("tamsin", w.clone("tamsin"), "rev-parse", "--abbrev-ref", "HEAD"); on != "trunk" {
		t.Errorf("a clone is on %s", on)
	}
	w.says("ines", 0, "main", "repo", "edit", repo, "--default-branch", "main")
	w.says("ines", 1, "making repositories", "repo", "edit", repo, "--public") // for those who may make one
	w.says("admin", 0, "readable by all  yes", "repo", "edit", repo, "--public")
	w.must("nobody", w.dir, "ls-remote", w.gitURL())
	w.says("admin", 0, "readable by all  no", "repo", "edit", repo, "--public=false")
	if out, err := w.gitAs("nobody", w.dir, "ls-remote", w.gitURL()); err == nil {
		t.Errorf("it is not readable by all any more:\n%s", out)
	}

	// Read-only.
	w.says("ines", 0, "the dams are checked", "repo", "edit", repo, "--read-only", "the dams are checked")
	w.commit("tamsin", dir, "docs/b", "b\n", "b")
	out, err := w.gitAs("tamsin", dir, "push", "origin", "HEAD:refs/heads/later")
	if err == nil {
		t.Error("a push went through")
	}
	has(t, out, "is read-only: the dams are checked", "tavrin repo edit "+repo+" --writable")
	w.says("odo", 1, "is read-only", "change", "open", "--source", "trunk", "--title", "x y z", "--repo", repo)
	w.says("tamsin", 0, "landed", "change", "list", "--state", "all", "--repo", repo)
	w.says("ines", 0, "any more", "repo", "revoke", repo, "wren") // who may read it is another matter
	w.says("ines", 0, "now has the role writer", "repo", "grant", repo, "wren", "writer")
	w.says("ines", 0, "writable", "repo", "edit", "--help")
	w.says("ines", 0, "default branch", "repo", "edit", repo, "--writable")
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:refs/heads/later")
	verified()

	// Renamed: what was goes on under the new name, and the old one says where it went.
	const now = "growers/watering"
	w.says("ines", 1, "making repositories", "repo", "edit", repo, "--name", now)
	w.says("admin", 1, "stays in its house", "repo", "edit", repo, "--name", "orchard/watering")
	w.says("admin", 1, "is not a repository", "repo", "edit", repo, "--name", "growers/Watering")
	w.says("admin", 0, now, "repo", "edit", repo, "--name", now)
	w.says("tamsin", 1, repo+" is called "+now+" now", "change", "list", "--repo", repo)
	out, err = w.gitAs("tamsin", dir, "fetch")
	if err == nil {
		t.Error("the old address answers")
	}
	has(t, out, repo+" is called "+now+" now", "git remote set-url origin")
	w.says("tamsin", 0, fmt.Sprint(k.Number), "change", "landing", fmt.Sprint(k.Number), "--repo", now)
	has(t, w.says("tamsin", 0, "renamed", "journal", "list", "--repo", now, "--limit", "200"), "made repository", "landed")
	w.must("tamsin", dir, "remote", "set-url", "origin", w.url+"/git/"+now+".git")
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:refs/heads/under-the-new-name")
	verified()
	w.person("marla")
	w.says("marla", 1, "there is no repository "+repo, "change", "list", "--repo", repo) // who may not read it is not told (P11)
	w.says("admin", 0, "made "+repo, "repo", "create", repo)                             // the old name is another's now
	w.says("admin", 0, "no change matches", "change", "list", "--repo", repo)
	verified()

	// Deleted, and back.
	w.says("admin", 2, "--confirm "+now, "repo", "delete", now, "--reason", "nobody waters any more")
	w.says("ines", 1, "making repositories", "repo", "delete", now, "--confirm", now, "--reason", "nobody waters any more")
	w.says("admin", 0, now+" is deleted", "repo", "delete", now, "--confirm", now, "--reason", "nobody waters any more")
	w.says("tamsin", 1, "was deleted by admin", "change", "list", "--repo", now)
	w.says("marla", 1, "there is no repository "+now, "change", "list", "--repo", now)
	if out, err := w.gitAs("tamsin", dir, "fetch"); err == nil || !strings.Contains(out, "tavrin repo restore "+now) {
		t.Errorf("git says of it: %v\n%s", err, out)
	}
	if list := w.says("tamsin", 0, "", "repo", "list"); strings.Contains(list, now) {
		t.Errorf("it is listed:\n%s", list)
	}
	w.says("admin", 0, now, "repo", "deleted")
	w.says("tamsin", 0, "nothing is deleted that you may restore", "repo", "deleted")
	w.says("tamsin", 1, "that you may restore", "repo", "restore", now)
	w.says("admin", 1, "already, or one that is deleted", "repo", "create", now)
	verified()
	w.says("admin", 0, now, "repo", "restore", now)
	w.must("tamsin", dir, "push", "-q", "origin", "HEAD:refs/heads/after-all")
	w.says("admin", 1, "that you may restore", "repo", "restore", now)

	// Gone for good, when its time is over; its name is free, and the journal still holds.
	w.says("admin", 0, now+" is deleted", "repo", "delete", now, "--confirm", now, "--reason", "nobody waters any more")
	later := time.Now().Add(31 * 24 * time.Hour)
	w.close()
	w.open(service.Options{Now: func() time.Time { return later }})
	w.ok(w.service.Repositories.Tidy(t.Context()))
	w.ok(w.service.Repositories.Tidy(t.Context()))
	w.close()
	w.reopen()
	if _, err := os.Stat(filepath.Join(w.dir, "data", "repositories", "1.git")); !os.IsNotExist(err) {
		t.Errorf("what Git had of it is there: %v", err)
	}
	w.says("admin", 1, "that you may restore", "repo", "restore", now)
	w.says("admin", 0, "made "+now, "repo", "create", now)
	verified()
}
