package main

import (
	"fmt"
	"strings"
	"time"
)

// size is how much there is of everything.
type size struct {
	name         string
	repositories int
	changes      int // of all repositories
	open         int // of them, still open
	big          int // of those, in one repository
	lines        int // of the journal
	people       int
	teams        int
	files        int           // of the big repository
	live         int           // entries that are in line while it is measured
	branches     int           // of the big repository at least
	calls        int           // of which the median and P99 are told
	second       time.Duration // for which it is waited where a second is
}

var sizes = []size{
	{name: "tiny", repositories: 3, changes: 60, open: 20, big: 12, lines: 2_000, people: 30, teams: 6, files: 40, live: 6, branches: 20, calls: 3, second: 50 * time.Millisecond},
	{name: "small", repositories: 5, changes: 500, open: 100, big: 60, lines: 20_000, people: 60, teams: 12, files: 200, live: 50, branches: 100, calls: 30, second: time.Second},
	{name: "middle", repositories: 50, changes: 5_000, open: 800, big: 400, lines: 200_000, people: 500, teams: 60, files: 1_000, live: 200, branches: 400, calls: 30, second: time.Second},
	{name: "large", repositories: 300, changes: 30_000, open: 5_000, big: 2_000, lines: 1_000_000, people: 3_000, teams: 150, files: 5_000, live: 200, branches: 2_000, calls: 30, second: time.Second},
}

// sizeNamed finds a size.
func sizeNamed(name string) (size, error) {
	var names []string
	for _, s := range sizes {
		if s.name == name {
			return s, nil
		}
		names = append(names, s.name)
	}
	return size{}, fmt.Errorf("there is no size %q: one of %s", name, strings.Join(names, ", "))
}

// house is the house of all repositories; the first of them is the big one.
const house = "growers"

var subjects = []string{"irrigation", "handbook", "forecast", "ledger", "field-app", "pumps", "seed-store", "weather", "tariffs", "boxes"}

func repositoryName(n int) string {
	if n < len(subjects) {
		return house + "/" + subjects[n]
	}
	return fmt.Sprintf("%s/%s-%d", house, subjects[n%len(subjects)], n/len(subjects))
}

var givenNames = []string{"wren", "odo", "tamsin", "bela", "pavo", "marla", "ines", "joss", "nerys", "timo", "hanne", "orla", "emrys", "sanne", "ludo"}

func login(n int) string {
	if n < len(givenNames) {
		return givenNames[n]
	}
	return fmt.Sprintf("%s-%d", givenNames[n%len(givenNames)], n/len(givenNames))
}

// ines maintains the house; odo is a grower like all others.
const (
	maintainer = "ines"
	grower     = "odo"
	robot      = "bench"
)

func teamName(n int) string { return fmt.Sprintf("crew-%d", n) }

var areaNames = []string{"valves", "forecast", "ledger", "field-app", "docs"}

// houseRules has twenty protections.
func houseRules(loose bool) string {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\nbranches: {trunk: main, release: release/**}\nprotect:\n" +
		"  - name: common ground\n    branches: [trunk, release]\n    push: nobody\n    rewrite: never\n    delete: never\n" +
		"    require:\n      - {approvals: 1, not_from: [author, last_pusher]}\n      - objections: none\n      - threads: resolved\n")
	for n := 2; n <= 20; n++ {
		area := areaNames[n%len(areaNames)]
		fmt.Fprintf(&b, "  - name: what %s need, %d\n    branches: trunk\n    require:\n", area, n)
		lines := 100 * n
		if loose && n == 20 {
			lines = 5000
		}
		fmt.Fprintf(&b, "      - {approvals: 2, called: many eyes on %s %d, when: {lines: over %d, paths: \"%s/**\"}}\n", area, n, lines, area)
		fmt.Fprintf(&b, "      - {tasks: done, when: {paths: \"%s/part-%d/**\"}}\n", area, n)
	}
	return b.String()
}

// ownRules are those of a repository whose areas belong to a team.
func ownRules(team string, parallel bool) string {
	var b strings.Builder
	b.WriteString("tavrin: rules/1\nareas:\n")
	for _, area := range areaNames {
		fmt.Fprintf(&b, "  %s: {paths: \"%s/**\", owners: team:%s}\n", area, area, team)
	}
	b.WriteString("checks:\n  lint: {reported_by: robot:bench}\n  unit: {reported_by: robot:bench}\n  build: {reported_by: robot:bench}\n" +
		"protect:\n  - name: trunk\n    branches: trunk\n    require:\n      - owners: every touched area\n      - {checks: lint, at: head}\n" +
		"      - {checks: [unit, build], at: rehearsal}\n    land: {strategies: [squash, rebase], default: squash}\n")
	if parallel {
		b.WriteString("    queue: {slots: 4}\n")
	}
	return b.String()
}
