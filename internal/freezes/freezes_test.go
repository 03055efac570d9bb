package freezes_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	independent "github.com/emersion/go-ical"

	"tavrin/internal/accounts"
	"tavrin/internal/core/require"
	"tavrin/internal/freezes"
	"tavrin/internal/lab"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

// calendar wraps the lines of one event.
func calendar(lines string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//growers//plan//EN\r\nBEGIN:VEVENT\r\nUID:1@growers\r\nDTSTAMP:20261101T000000Z\r\nSUMMARY:harvest\r\n" +
		strings.ReplaceAll(strings.TrimSpace(lines), "\n", "\r\n") + "\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
}

func planned(l *lab.Lab, n wire.NewFreeze) []wire.Freeze {
	l.T.Helper()
	if n.Of == "" {
		n.Of = lab.Name
	}
	if n.Reason == "" {
		n.Reason = "everybody is in the fields"
	}
	all, err := l.Freezes.Plan(l.T.Context(), l.Admin, n)
	l.Ok(err)
	return all
}

// Calendars mean what RFC 5545 has them mean; the lab's clock stands at 2026-11-02 08:00 UTC.
func TestCalendars(t *testing.T) {
	l := lab.New(t)
	for _, c := range []struct {
		name, lines, zone string
		times             []string // the first five
		further           int
	}{
		{"once, in UTC", "DTSTART:20261224T160000Z\nDTEND:20261227T080000Z", "", []string{"2026-12-24 16:00 2026-12-27 08:00"}, 0},
		{"in a named zone", "DTSTART;TZID=Europe/Berlin:20261224T160000\nDTEND;TZID=Europe/Berlin:20261224T180000", "", []string{"2026-12-24 15:00 2026-12-24 17:00"}, 0},
		{"in the zone that is meant", "DTSTART:20261224T160000\nDURATION:PT2H", "America/New_York", []string{"2026-12-24 21:00 2026-12-24 23:00"}, 0},
		{"a day", "DTSTART;VALUE=DATE:20261224", "Europe/Berlin", []string{"2026-12-23 23:00 2026-12-24 23:00"}, 0},
		{"days", "DTSTART;VALUE=DATE:20261224\nDTEND;VALUE=DATE:20261227", "", []string{"2026-12-24 00:00 2026-12-27 00:00"}, 0},
		{"each weekend", "DTSTART:20261106T160000Z\nDTEND:20261109T080000Z\nRRULE:FREQ=WEEKLY;COUNT=3", "",
			[]string{"2026-11-06 16:00 2026-11-09 08:00", "2026-11-13 16:00 2026-11-16 08:00", "2026-11-20 16:00 2026-11-23 08:00"}, 0},
		{"for ever, as far as is worked out", "DTSTART:20261106T160000Z\nDTEND:20261109T080000Z\nRRULE:FREQ=WEEKLY", "",
			[]string{"2026-11-06 16:00 2026-11-09 08:00", "2026-11-13 16:00 2026-11-16 08:00", "2026-11-20 16:00 2026-11-23 08:00", "2026-11-27 16:00 2026-11-30 08:00",
				"2026-12-04 16:00 2026-12-07 08:00"}, 52},
		{"by the clock on the wall, through the change of clocks", "DTSTART;TZID=Europe/Berlin:20270326T160000\nDURATION:P3D\nRRULE:FREQ=WEEKLY;COUNT=2", "",
			[]string{"2027-03-26 15:00 2027-03-29 14:00", "2027-04-02 14:00 2027-04-05 14:00"}, 0},
		{"an end is an exact length", "DTSTART;TZID=Europe/Berlin:20270319T160000\nDTEND;TZID=Europe/Berlin:20270322T160000\nRRULE:FREQ=WEEKLY;COUNT=2", "",
			[]string{"2027-03-19 15:00 2027-03-22 15:00", "2027-03-26 15:00 2027-03-29 15:00"}, 0},
		{"the last Friday of a month", "DTSTART:20261127T160000Z\nDURATION:PT8H\nRRULE:FREQ=MONTHLY;BYDAY=-1FR;COUNT=2", "", []string{"2026-11-27 16:00 2026-11-28 00:00", "2026-12-25 16:00 2026-12-26 00:00"}, 0},
		{"but not then", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=WEEKLY;COUNT=4\nEXDATE:20261113T160000Z,20261120T160000Z", "",
			[]string{"2026-11-06 16:00 2026-11-06 17:00", "2026-11-27 16:00 2026-11-27 17:00"}, 0},
		{"but not on that day", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=WEEKLY;COUNT=2\nEXDATE;VALUE=DATE:20261113", "", []string{"2026-11-06 16:00 2026-11-06 17:00"}, 0},
		{"and then too", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRDATE:20261108T160000Z,20261106T160000Z", "", []string{"2026-11-06 16:00 2026-11-06 17:00", "2026-11-08 16:00 2026-11-08 17:00"}, 0},
		{"under way", "DTSTART:20261101T160000Z\nDURATION:P3D", "", []string{"2026-11-01 16:00 2026-11-04 16:00"}, 0},
		{"what is over is left out", "DTSTART:20251106T160000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY", "", []string{"2026-11-06 16:00 2026-11-06 17:00", "2027-11-06 16:00 2027-11-06 17:00"}, 0},
	} {
		all := planned(l, wire.NewFreeze{Calendar: calendar(c.lines), Zone: c.zone})
		var got []string
		for _, t := range all[0].Times {
			got = append(got, t.Begins.Format("2006-01-02 15:04 ")+t.Ends.Format("2006-01-02 15:04"))
		}
		if !slices.Equal(got, c.times) || all[0].Further != c.further || all[0].Name != "harvest" {
			t.Errorf("%s: %q and %d more, want %q and %d", c.name, got, all[0].Further, c.times, c.further)
		}
		l.Ok(l.Freezes.Delete(t.Context(), l.Admin, all[0].ID, "next"))
	}
}

// What is not understood is refused, with what is wrong; what would take for ever ends.
func TestCalendarsThatAreRefused(t *testing.T) {
	l := lab.New(t)
	for lines, words := range map[string]string{
		"DTSTART:20261106T160000Z": "does not say when it ends", "DTEND:20261106T160000Z": "does not say when it begins", "DTSTART:tea\nDURATION:PT1H": `DTSTART "tea" is no time`,
		"DTSTART;TZID=Middle Earth:20261106T160000\nDURATION:PT1H": `no time zone "Middle Earth"`, "DTSTART;TZID=../../etc/passwd:20261106T160000\nDURATION:PT1H": "no time zone",
		"DTSTART;TZID=Local:20261106T160000\nDURATION:PT1H": "no time zone", "DTSTART:20261106T160000Z\nDTEND:20261106T150000Z": "longer than nothing",
		"DTSTART:20261106T160000Z\nDTEND:20361106T150000Z": "at most 366 days", "DTSTART:20261106T160000Z\nDURATION:P1Y": "is no DURATION", "DTSTART:20261106T160000Z\nDURATION:-PT1H": "is no DURATION",
		"DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=SECONDLY": "more often than daily", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=HOURLY": "more often than daily",
		"DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=SOMETIMES": "its rule", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;BYSECOND=1,2,3": "more than once an hour",
		"DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;BYHOUR=0,1,2,3": "are the most", "DTSTART:20070106T160000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;BYHOUR=0,1,2,3,4,5": "comes too often",
		"DTSTART:19700106T160000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY": "too long ago", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRECURRENCE-ID:20261106T160000Z": "RECURRENCE-ID is not understood",
		"DTSTART:20261106T160000Z\nDURATION:PT1H\nEXRULE:FREQ=DAILY": "EXRULE is not understood", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRDATE:20261106T160000Z/PT2H": "is no time",
		"DTSTART:20251106T160000Z\nDURATION:PT1H": "every event of it is over", "DTSTART:20261106T160000Z\nDTEND;VALUE=DATE:20261107": "two kinds",
		"STATUS:CANCELLED\nDTSTART:20261106T160000Z\nDURATION:PT1H": "no event", "DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;INTERVAL=-1": "its rule",
	} {
		_, err := l.Freezes.Plan(t.Context(), l.Admin, wire.NewFreeze{Of: lab.Name, Reason: "x", Calendar: calendar(lines)})
		l.Is(err, problem.Invalid, words)
	}
	for _, text := range []string{"", "hello", "BEGIN:VCALENDAR\r\n", strings.Repeat("x", 70<<10), "BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n", "\xff\xfe"} {
		if _, err := l.Freezes.Plan(t.Context(), l.Admin, wire.NewFreeze{Of: lab.Name, Reason: "x", Calendar: text}); err == nil {
			t.Errorf("%.20q is taken for a calendar", text)
		}
	}
	// one that never comes again is no trouble
	planned(l, wire.NewFreeze{Calendar: calendar("DTSTART:20261106T160000Z\nDURATION:PT1H\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30")})
	l.Wait(24 * time.Hour)
	for _, n := range []wire.NewFreeze{{}, {Begins: at(1), Ends: at(0)}, {Begins: at(-48), Ends: at(-24)}, {Begins: at(1), Ends: at(9000)}, {Begins: at(1), Ends: at(2), Calendar: "x"},
		{Begins: at(1), Ends: at(2), Branches: []string{"[a"}}, {Begins: at(1), Ends: at(2), Name: "\x1b[31m"}, {Begins: at(1), Ends: at(2), Name: "a", Zone: "Mars"}} {
		n.Of, n.Reason = lab.Name, "x"
		_, err := l.Freezes.Plan(t.Context(), l.Admin, n)
		l.Is(err, problem.Invalid, "")
	}
}

// at is so many hours after the lab's begin.
func at(hours int) *time.Time {
	t := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC).Add(time.Duration(hours) * time.Hour)
	return &t
}

// While a branch is frozen nothing lands on it, whatever else holds, and then it does; that is so by the clock alone, and is
// told afterwards. Holds are the same without an end.
func TestP1NothingLandsWhileFrozen(t *testing.T) {
	l := lab.New(t)
	l.Commit("main", "", "README=a")
	l.Commit("topic", "main", "a=1")
	l.Rules("tavrin: rules/1\nprotect:\n  - name: kept\n    branches: main\n    push: role:writer\n    require: [{objections: none}]\n")
	c := l.Open(l.Person("tamsin", "writer"), "topic")
	stopped := func() string {
		t.Helper()
		v := l.Records.View(t.Context())
		defer v.Close()
		g, err := l.Facts.Remembered(v, l.Repo, l.Row(c.Number)) // which the lab compares with what is judged anew
		l.Ok(err)
		report := g.Judge()
		if !report.Ready {
			t.Errorf("what is frozen is not rehearsed either: %s", report.Summary)
		}
		var out []string
		for _, q := range report.Requirements {
			if q.Kind == "freeze" || q.Kind == "hold" {
				if q.State != require.Pending || q.At != "rehearsal" || report.Clear {
					t.Errorf("%+v", q)
				}
				out = append(out, q.Told())
			}
		}
		return strings.Join(out, "; ")
	}
	f := planned(l, wire.NewFreeze{Name: "harvest", Begins: at(1), Ends: at(3)})[0]
	planned(l, wire.NewFreeze{Name: "elsewhere", Begins: at(0), Ends: at(9), Branches: []string{"release/**"}})
	house := planned(l, wire.NewFreeze{Of: lab.House, Name: "feast", Begins: at(2), Ends: at(4), Branches: []string{"main"}})[0]
	mine := fmt.Sprintf("main is frozen: harvest: everybody is in the fields, until 2026-11-02 11:00 UTC. A maintainer may end it: tavrin freeze end %d", f.ID)
	theirs := fmt.Sprintf("main is frozen: feast: everybody is in the fields, until 2026-11-02 12:00 UTC. A maintainer of house growers may end it: tavrin freeze end %d", house.ID)
	for hour, want := range []string{"", mine, mine + "; " + theirs, theirs, ""} {
		if got := stopped(); got != want {
			t.Errorf("after %d hours: %q, want %q", hour, got, want)
		}
		l.Ok(l.Freezes.TellDue(t.Context()))
		l.Wait(time.Hour)
	}
	if kinds := l.Kinds(6); kinds != "freeze.begun freeze.begun freeze.begun freeze.ended freeze.ended" && !strings.HasSuffix(kinds, "freeze.begun freeze.ended freeze.ended") {
		t.Errorf("the journal says %s", kinds)
	}
	ctx := t.Context()
	l.Ok(l.Freezes.Hold(ctx, l.Admin, lab.Name, "", "the pumps are moved"))
	if got := stopped(); got != "main is held by admin: the pumps are moved, since 2026-11-02 13:00 UTC. A maintainer frees it: tavrin queue free --branch main" {
		t.Errorf("held: %q", got)
	}
	l.Is(l.Freezes.Hold(ctx, l.Admin, lab.Name, "main", "again"), problem.Conflict, "held already, by admin: the pumps are moved")
	l.Is(l.Freezes.Free(ctx, l.Admin, lab.Name, "other", "x"), problem.Conflict, "nobody holds the queue of other")
	l.Ok(l.Freezes.Free(ctx, l.Admin, lab.Name, "main", "they stand"))
	if got := stopped(); got != "" {
		t.Errorf("freed: %q", got)
	}
	l.Ok(l.Freezes.Hold(ctx, l.Admin, lab.Name, "release/{a,b}", "a branch, and no glob"))
	standing, err := freezes.InForce(l.Records.Read(ctx), l.Repo, l.Now())
	if l.Ok(err); len(standing.Of("release/{a,b}")) != 1+1 || len(standing.Of("main")) != 0 { // elsewhere is frozen as well
		t.Errorf("%+v", standing.Of("release/{a,b}"))
	}
	// ended early, and for good
	again := planned(l, wire.NewFreeze{Calendar: calendar("DTSTART:20261102T120000Z\nDURATION:PT4H\nRRULE:FREQ=DAILY;COUNT=3"), Branches: []string{"main"}})[0]
	if stopped() == "" {
		t.Error("it is not frozen")
	}
	l.Ok(l.Freezes.End(ctx, l.Admin, again.ID, "it rains"))
	l.Is(l.Freezes.End(ctx, l.Admin, again.ID, "again"), problem.Conflict, "is not in force")
	if got := stopped(); got != "" {
		t.Errorf("ended: %q", got)
	}
	l.Wait(24 * time.Hour)
	if stopped() == "" {
		t.Error("it does not come again")
	}
	l.Ok(l.Freezes.Delete(ctx, l.Admin, again.ID, "no more"))
	if got := stopped(); got != "" {
		t.Errorf("deleted: %q", got)
	}
}

// Who may plan, end and see freezes.
func TestP11FreezesAreTheirMaintainers(t *testing.T) {
	l := lab.New(t)
	ines, odo := l.Person("ines", "maintainer"), l.Person("odo", "writer")
	ctx := t.Context()
	n := wire.NewFreeze{Of: lab.Name, Name: "a", Reason: "x", Begins: at(1), Ends: at(2)}
	_, err := l.Freezes.Plan(ctx, odo, n)
	l.Is(err, problem.Forbidden, "maintainer")
	all, err := l.Freezes.Plan(ctx, ines, n)
	l.Ok(err)
	l.Is(l.Freezes.End(ctx, odo, all[0].ID, "x"), problem.Forbidden, "maintainer")
	l.Is(l.Freezes.Delete(ctx, odo, all[0].ID, "x"), problem.Forbidden, "maintainer")
	l.Is(l.Freezes.Delete(ctx, accounts.Actor{}, all[0].ID, "x"), problem.SignInNeeded, "")
	l.Is(l.Freezes.Hold(ctx, odo, lab.Name, "", "x"), problem.Forbidden, "maintainer")
	l.Is(l.Freezes.Hold(ctx, ines, lab.Name, "a b", "x"), problem.Invalid, "")
	l.Is(l.Freezes.Hold(ctx, ines, lab.Name, "", ""), problem.Invalid, "reason")
	n.Of, n.Branches = lab.House, []string{"main"}
	_, err = l.Freezes.Plan(ctx, ines, n)
	l.Is(err, problem.Forbidden, "for maintainers of house growers")
	if all, err := l.Freezes.List(ctx, odo, lab.Name, false); err != nil || len(all) != 1 {
		t.Errorf("%+v, %v", all, err)
	}
	_, err = l.Freezes.List(ctx, odo, lab.House, false)
	l.Is(err, problem.Forbidden, "with a role in it")
	_, err = l.Freezes.Feed(ctx, accounts.Actor{}, lab.Name)
	l.Is(err, problem.SignInNeeded, "")
	_, err = l.Freezes.Feed(ctx, accounts.Actor{}, lab.House)
	l.Is(err, problem.SignInNeeded, "")
	robot := l.Robot(accounts.NewToken{Login: "bench", Checks: []string{lab.Name + ":unit"}})
	_, err = l.Freezes.List(ctx, robot, lab.House, false)
	l.Is(err, problem.Forbidden, "")
}

// The feed says the same as the list, read by a parser that is not the one it is written with.
func TestTheFeedIsACalendar(t *testing.T) {
	l := lab.New(t)
	planned(l, wire.NewFreeze{Name: "harvest, late; \\ and long " + strings.Repeat("ü", 20), Reason: "Ümlaut; comma, and \\n", Begins: at(1), Ends: at(3)})
	planned(l, wire.NewFreeze{Calendar: calendar("DTSTART;TZID=Europe/Berlin:20261106T160000\nDURATION:P2DT16H\nRRULE:FREQ=WEEKLY;COUNT=4"), Branches: []string{"main", "release/**"}})
	text, err := l.Freezes.Feed(t.Context(), l.Admin, lab.Name)
	l.Ok(err)
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\r\n"), "\r\n") {
		if len(line) > 75 || strings.ContainsAny(line, "\r\n") {
			t.Errorf("a line of %d bytes: %q", len(line), line)
		}
	}
	c, err := independent.NewDecoder(strings.NewReader(text)).Decode()
	l.Ok(err)
	var got, want []string
	ids := map[string]bool{}
	for _, e := range c.Events() {
		begins, err := e.DateTimeStart(time.UTC)
		l.Ok(err)
		ends, err := e.DateTimeEnd(time.UTC)
		l.Ok(err)
		summary, err := e.Props.Text(independent.PropSummary)
		l.Ok(err)
		id, err := e.Props.Text(independent.PropUID)
		l.Ok(err)
		ids[id] = true
		got = append(got, fmt.Sprint(summary, begins.UTC(), ends.UTC()))
	}
	all, err := l.Freezes.List(t.Context(), l.Admin, lab.Name, true)
	l.Ok(err)
	for _, f := range all {
		for _, x := range f.Times {
			want = append(want, fmt.Sprint(f.Of+": "+f.Name, x.Begins, x.Ends))
		}
	}
	if !slices.Equal(got, want) || len(ids) != 5 {
		t.Errorf("the feed says\n%s\nthe list\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// What recurs for ever is worked out further as time goes by, each time once.
func TestRecurringFreezesAreWorkedOutFurther(t *testing.T) {
	l := lab.New(t)
	f := planned(l, wire.NewFreeze{Calendar: calendar("DTSTART:20261106T160000Z\nDURATION:P2D\nRRULE:FREQ=WEEKLY")})[0]
	for range 30 {
		l.Wait(20 * 24 * time.Hour)
		l.Ok(l.Freezes.Extend(t.Context()))
		for range 20 {
			l.Ok(l.Freezes.TellDue(t.Context()))
		}
	}
	var begins []time.Time
	l.Ok(l.Records.Read(t.Context()).Model(&records.FreezeTime{}).Where("freeze_id = ?", f.ID).Order("begins").Pluck("begins", &begins).Error)
	for i := 1; i < len(begins); i++ {
		if begins[i].Sub(begins[i-1]) != 7*24*time.Hour {
			t.Errorf("%s follows %s", begins[i], begins[i-1])
		}
	}
	if last := begins[len(begins)-1]; last.Before(l.Now().Add(360 * 24 * time.Hour)) {
		t.Errorf("it is worked out up to %s only", last)
	}
	if kinds := l.Kinds(1); !strings.HasPrefix(kinds, "freeze.") {
		t.Errorf("the journal ends with %s", kinds)
	}
}
