package gate

import (
	"slices"

	"tavrin/internal/core/change"
	"tavrin/internal/core/condition"
	"tavrin/internal/core/people"
	"tavrin/internal/core/rules"
)

// Comes lists the paths that a change's landing brings to the target, by the strategy it lands by as far as that is
// known.
func Comes(set *rules.Set, f change.Facts) []string {
	return f.Comes(landsBy(set.Without(f.Suspended).For(f.Target), f))
}

// brought is what conditions are judged by: the difference, and, by a strategy that keeps the commits, the largest of
// them where that is larger.
func brought(f change.Facts, set *rules.Set, strategy change.Strategy, touched []rules.Touched) condition.Brought {
	b := condition.Brought{Title: f.Title, Source: f.Source, Target: f.Target, Paths: f.Comes(strategy), Added: f.Added,
		Removed: f.Removed, Files: f.Files, Authors: f.Authors, Labels: f.Labels, Ways: byWay(f.Ways), Undoes: f.Undoes != 0}
	if strategy.Keeps() {
		b.Added, b.Removed, b.Files = max(b.Added, f.History.Added), max(b.Removed, f.History.Removed), max(b.Files,
			f.History.Files)
		b.OnTheWay = byWay(f.History.Ways)
	}
	for _, t := range touched {
		b.Areas = append(b.Areas, condition.Touched{Name: t.Name, OfHouse: t.From.Document != "", Paths: t.Paths})
	}
	for _, label := range f.Labels {
		if set.LabelOfHouse(label) {
			b.HouseLabels = append(b.HouseLabels, label)
		}
	}
	for _, login := range f.Authors {
		person, _ := f.People.Of(login)
		kind := people.ByLogin
		if person.Robot {
			kind = people.ByRobot
		}
		is := []string{people.Principal{Kind: kind, Name: login}.String()}
		for _, team := range slices.Concat(person.Teams, f.AuthorTeams[login]) {
			is = append(is, "team:"+team)
		}
		for _, role := range people.Roles {
			if person.Role.AtLeast(role) {
				is = append(is, "role:"+string(role))
			}
		}
		b.AuthorIs = append(b.AuthorIs, is)
	}
	return b
}

func byWay(w change.Ways) map[condition.How][]string {
	return map[condition.How][]string{condition.Added: w.Added, condition.Removed: w.Removed, condition.Renamed: w.Renamed}
}
