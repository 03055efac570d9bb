package service_test

import (
	"fmt"
	"testing"

	"tavrin/internal/accounts"
	"tavrin/internal/lab"
	"tavrin/internal/records"
	"tavrin/wire"
)

const wanting = `tavrin: rules/1
checks:
  unit: {reported_by: robot:bench, timeout: 1h}
protect:
  - name: trunk
    branches: main
    require:
      - approvals: 1
      - checks: [unit]
        at: head
`

// A list asks the records as often for many rows as for few.
func TestListsAskOfAllRowsAtOnce(t *testing.T) {
	l := lab.Trusting(t)
	ctx := t.Context()
	l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}})
	l.Rules(wanting)
	l.Commit("main", "", "a=1")
	wren := l.Person("wren", "writer")
	rows := 0
	more := func(n int) {
		for range n {
			rows++
			name := fmt.Sprint("topic-", rows)
			l.Commit(name, "main", name+"=1")
			k := l.Open(wren, name)
			_, err := l.Threads.BeginThread(ctx, l.Admin, lab.Name, 1, wire.NewThread{Text: "why?"})
			l.Ok(err)
			_, err = l.Queues.Join(ctx, wren, lab.Name, k.Number, wire.NewEntry{})
			l.Ok(err)
			l.Robot(accounts.NewToken{Login: "robot-" + name, Checks: []string{lab.Name + ":" + name}})
			l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error {
				for attempt := range 2 { // the first was not answered
					run := records.CheckRun{RepositoryID: l.Repo.ID, CommitID: k.Head, Name: name, Attempt: attempt + 1,
						State: []string{"errored", "waiting"}[attempt], Silent: attempt == 0, TimeoutSeconds: 60,
						AskedFor: fmt.Sprint("change/", k.Number), CreatedAt: tx.Now()}
					if err := tx.Create(&run).Error; err != nil {
						return err
					}
				}
				return nil
			}))
		}
	}
	asked := 0
	l.Ok(l.Records.Observe(func(string) { asked++ }))
	lists := map[string]func() (int, error){
		"tokens":   func() (int, error) { v, err := l.Access.Tokens(ctx, l.Admin); return len(v), err },
		"people":   func() (int, error) { v, err := l.People.People(ctx, l.Admin); return len(v), err },
		"checks":   func() (int, error) { v, err := l.Checks.CheckNames(ctx, l.Admin, lab.Name); return len(v), err },
		"wanted":   func() (int, error) { v, err := l.Checks.Wanted(ctx, l.Admin, lab.Name, false); return len(v), err },
		"branches": func() (int, error) { v, err := l.Repositories.Branches(ctx, l.Admin, lab.Name); return len(v), err },
		"changes": func() (int, error) {
			v, err := l.Changes.Changes(ctx, l.Admin, lab.Name, wire.ChangeFilter{})
			return len(v), err
		},
		"threads": func() (int, error) { v, err := l.Threads.Threads(ctx, l.Admin, lab.Name, 1); return len(v), err },
		"queue": func() (int, error) {
			v, err := l.Queues.Queue(ctx, l.Admin, lab.Name, "main")
			return len(v.Entries) + len(v.Silent), err
		},
		"desk": func() (int, error) { v, err := l.Desk.Desk(ctx, wren); return len(v), err },
		"loads": func() (int, error) {
			_, err := l.Desk.ReviewLoads(ctx, l.Admin, lab.Name)
			return rows, err // a line for each person, from what is open
		},
	}
	cost := func() map[string][2]int {
		out := map[string][2]int{}
		for name, list := range lists {
			_, err := list() // what is remembered is worked out
			l.Ok(err)
			asked = 0
			n, err := list()
			l.Ok(err)
			out[name] = [2]int{n, asked}
		}
		return out
	}
	more(2)
	few := cost()
	more(6)
	for name, many := range cost() {
		if many[0] <= few[name][0] {
			t.Errorf("%s: %d rows of few, %d of many", name, few[name][0], many[0])
		}
		if many[1] > few[name][1] {
			t.Errorf("%s: %d statements for %d rows, %d for %d", name, few[name][1], few[name][0], many[1], many[0])
		}
	}
}
