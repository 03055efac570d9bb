package reading_test

import (
	"slices"
	"testing"

	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/reading"
	"tavrin/internal/records"
)

// What is shown since a revision is what came after it, and a file that was read stays read while it is the same.
func TestSinceAndTicks(t *testing.T) {
	l := lab.New(t)
	ctx := t.Context()
	l.Commit("main", "", "a=1\n", "b=1\n")
	l.Commit("topic", "main", "a=2\n", "b=2\n")
	l.Open(l.Admin, "topic")
	files := func(q reading.Reading) (out []string) {
		t.Helper()
		d, err := l.Reading.Diff(ctx, l.Admin, lab.Name, 1, q)
		l.Ok(err)
		for _, f := range d.Files {
			mark := ""
			if f.Read {
				mark = "*"
			}
			out = append(out, f.Path+mark)
		}
		return out
	}
	d, err := l.Reading.Diff(ctx, l.Admin, lab.Name, 1, reading.Reading{})
	l.Ok(err)
	l.Ok(l.Reading.Tick(ctx, l.Admin, lab.Name, 1, 1, d.Files[0].File, true))
	l.Ok(l.Reading.Tick(ctx, l.Admin, lab.Name, 1, 1, d.Files[1].File, true))
	if got := files(reading.Reading{}); !slices.Equal(got, []string{"a*", "b*"}) {
		t.Errorf("the files are %v", got)
	}
	l.Commit("topic", "topic", "b=3\n")
	i := &records.Intent{RepositoryID: l.Repo.ID, Ref: "refs/heads/topic", New: l.Tip("topic"), Actor: "admin"}
	revisions, _, err := l.Changes.Followed(ctx, l.Repo, i)
	l.Ok(err)
	l.Ok(l.Records.Write(ctx, func(tx *records.Tx) error { return l.Changes.SaveRevision(tx, l.Repo, revisions[0]) }))
	if got := files(reading.Reading{}); !slices.Equal(got, []string{"a*", "b"}) {
		t.Errorf("at revision 2 the files are %v", got)
	}
	if got := files(reading.Reading{Since: 1}); !slices.Equal(got, []string{"b"}) {
		t.Errorf("since revision 1 the files are %v", got)
	}
	_, err = l.Reading.Diff(ctx, l.Admin, lab.Name, 1, reading.Reading{Revision: 9})
	l.Is(err, problem.Unknown, "has no revision 9")
	l.Is(l.Reading.Tick(ctx, l.Admin, lab.Name, 1, 1, "nothing", true), problem.Unknown, "has no file")
	all, err := l.Reading.Revisions(ctx, l.Admin, lab.Name, 1)
	l.Ok(err)
	if len(all) != 2 || all[0].Number != 2 || len(all[0].Commits) != 2 || len(all[1].Commits) != 1 {
		t.Errorf("the revisions are %+v", all)
	}
}
