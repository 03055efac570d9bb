package freezes

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // for machines that have no time zones

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"

	"tavrin/internal/records"
)

// Calendars are read as RFC 5545 has them, as far as planned times need it: events with a begin and an end or a duration,
// recurrence rules, further and excepted dates, and the time zones of the IANA database. What is not understood is
// refused: a freeze that comes at another time than was meant is worse than none.

const (
	maxCalendar = 64 << 10 // bytes
	maxEvents   = 50
	// ahead is how far a recurring freeze is worked out; most is how often it may come in that time.
	ahead = 400 * 24 * time.Hour
	most  = 1000
	// steps bounds what is worked out to get there from the first time on; oldest is how far back that may lie.
	steps   = 20000
	oldest  = 20 * 366 * 24 * time.Hour
	longest = 366 * 24 * time.Hour
)

// span is one time at which something is frozen.
type span struct{ begins, ends time.Time }

// planned is one event of a calendar.
type planned struct {
	name, words string
	event       *ics.VEvent
}

// read reads the events of a calendar; zone is where times are meant that name no zone.
func read(text string, zone *time.Location, now time.Time) ([]planned, error) {
	if len(text) > maxCalendar {
		return nil, fmt.Errorf("a calendar has at most %d bytes", maxCalendar)
	}
	c, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("it is no iCalendar file (RFC 5545): %w", err)
	}
	var out []planned
	for _, e := range c.Events() {
		if p := e.GetProperty(ics.ComponentPropertyStatus); p != nil && strings.EqualFold(p.Value, "CANCELLED") {
			continue
		}
		p := planned{name: "freeze", event: e}
		if s := e.GetProperty(ics.ComponentPropertySummary); s != nil && strings.TrimSpace(s.Value) != "" {
			p.name = strings.Join(strings.Fields(s.Value), " ")
		}
		if s := e.GetProperty(ics.ComponentPropertyDescription); s != nil {
			p.words = strings.Join(strings.Fields(s.Value), " ")
		}
		if _, err := expand(e, zone, now, now.Add(ahead)); err != nil {
			return nil, fmt.Errorf("the event %q: %w", p.name, err)
		}
		out = append(out, p)
	}
	switch {
	case len(out) == 0:
		return nil, errors.New("it has no event (VEVENT) that is not cancelled")
	case len(out) > maxEvents:
		return nil, fmt.Errorf("it has %d events, and %d are the most", len(out), maxEvents)
	}
	return out, nil
}

// written writes an event for the record, as a calendar by itself.
func written(e *ics.VEvent) string {
	c := ics.NewCalendarFor("Tavrin")
	c.Components = []ics.Component{e}
	return c.Serialize(ics.WithNewLineWindows)
}

// times is when a freeze on record comes between two times.
func times(f records.Freeze, from, to time.Time) ([]span, error) {
	zone, err := time.LoadLocation(f.Zone)
	if err != nil {
		return nil, err
	}
	c, err := ics.ParseCalendar(strings.NewReader(f.Calendar))
	if err != nil || len(c.Events()) != 1 {
		return nil, fmt.Errorf("the calendar of freeze %d cannot be read: %w", f.ID, err)
	}
	return expand(c.Events()[0], zone, from, to)
}

// expand lists the times of an event that end after one time and begin before another, in order.
func expand(e *ics.VEvent, zone *time.Location, from, to time.Time) ([]span, error) {
	for _, p := range e.Properties {
		switch p.IANAToken {
		case "RECURRENCE-ID", "EXRULE":
			return nil, fmt.Errorf("%s is not understood here: write what is another as an event of its own, and take it out by EXDATE", p.IANAToken)
		}
	}
	at := e.GetProperty(ics.ComponentPropertyDtStart)
	if at == nil {
		return nil, errors.New("it does not say when it begins (DTSTART)")
	}
	begins, dated, err := moment(at.BaseProperty, zone)
	if err != nil {
		return nil, err
	}
	if begins.Before(from.Add(-oldest)) {
		return nil, fmt.Errorf("it begins on %s, which is too long ago: let it begin in the last 20 years", begins.Format(time.DateOnly))
	}
	until, err := lasts(e, begins, dated, zone)
	if err != nil {
		return nil, err
	}
	if d := until(begins).Sub(begins); d <= 0 || d > longest {
		return nil, errors.New("it has to last longer than nothing and at most 366 days (DTEND or DURATION)")
	}
	starts, err := recurring(e, begins, to)
	if err != nil {
		return nil, err
	}
	more, err := dates(e, ics.ComponentPropertyRdate, zone)
	if err != nil {
		return nil, err
	}
	for _, m := range more {
		starts = append(starts, m.at)
	}
	except, err := dates(e, ics.ComponentPropertyExdate, zone)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(starts, time.Time.Compare)
	starts = slices.CompactFunc(starts, time.Time.Equal)
	var out []span
	for _, s := range starts {
		gone := slices.ContainsFunc(except, func(x occasion) bool {
			return x.at.Equal(s) || x.dated && x.at.Format(time.DateOnly) == s.In(x.at.Location()).Format(time.DateOnly)
		})
		if ends := until(s); !gone && ends.After(from) && s.Before(to) {
			out = append(out, span{s.UTC(), ends.UTC()})
		}
	}
	if len(out) > most {
		return nil, fmt.Errorf("it comes %d times in %d days, and %d are the most", len(out), int(to.Sub(from)/(24*time.Hour)), most)
	}
	return out, nil
}

// recurring lists when an event begins: once, or as its rule says.
func recurring(e *ics.VEvent, begins, to time.Time) ([]time.Time, error) {
	out := []time.Time{begins}
	p := e.GetProperty(ics.ComponentPropertyRrule)
	if p == nil {
		return out, nil
	}
	o, err := rrule.StrToROptionInLocation(p.Value, begins.Location())
	if err != nil {
		return nil, fmt.Errorf("its rule %q: %w", p.Value, err)
	}
	switch {
	case o.Freq > rrule.DAILY:
		return nil, fmt.Errorf("its rule %q comes more often than daily", p.Value)
	case len(o.Byminute) > 1 || len(o.Bysecond) > 1 || len(o.Byhour) > 24:
		return nil, fmt.Errorf("its rule %q comes more than once an hour", p.Value)
	}
	o.Dtstart = begins
	if o.Until.IsZero() || o.Until.After(to) {
		o.Until = to // so that one which never comes ends too
	}
	r, err := rrule.NewRRule(*o)
	if err != nil {
		return nil, fmt.Errorf("its rule %q: %w", p.Value, err)
	}
	next := r.Iterator()
	for n := range steps {
		at, more := next()
		if !more {
			return out, nil
		}
		if n == steps-1 {
			return nil, fmt.Errorf("its rule %q comes too often: %d times before %s", p.Value, steps, at.Format(time.DateOnly))
		}
		out = append(out, at)
	}
	return out, nil
}

// lasts gives when a time ends that begins then. As the standard has it, an end stands for the exact length of time, and a
// duration's days for days of the calendar, of 23 or 25 hours where clocks are changed.
func lasts(e *ics.VEvent, begins time.Time, dated bool, zone *time.Location) (func(time.Time) time.Time, error) {
	if p := e.GetProperty(ics.ComponentPropertyDtEnd); p != nil {
		ends, endDated, err := moment(p.BaseProperty, zone)
		switch {
		case err != nil:
			return nil, err
		case endDated != dated:
			return nil, errors.New("DTSTART and DTEND are of two kinds: a date, and a time")
		case dated: // whole days
			days := int(ends.Sub(begins).Hours()+12) / 24
			return func(s time.Time) time.Time { return s.AddDate(0, 0, days) }, nil
		}
		return func(s time.Time) time.Time { return s.Add(ends.Sub(begins)) }, nil
	}
	p := e.GetProperty(ics.ComponentPropertyDuration)
	if p == nil {
		if dated {
			return func(s time.Time) time.Time { return s.AddDate(0, 0, 1) }, nil
		}
		return nil, errors.New("it does not say when it ends (DTEND or DURATION)")
	}
	m := durationForm.FindStringSubmatch(p.Value)
	if m == nil {
		return nil, fmt.Errorf("%q is no DURATION, such as P2DT16H", p.Value)
	}
	var n [6]int
	for i, digits := range m[1:] {
		if digits != "" {
			n[i+1], _ = strconv.Atoi(digits) // at most five digits, by the form
		}
	}
	return func(s time.Time) time.Time {
		return s.AddDate(0, 0, 7*n[1]+n[2]).Add(time.Duration(n[3])*time.Hour + time.Duration(n[4])*time.Minute + time.Duration(n[5])*time.Second)
	}, nil
}

var durationForm = regexp.MustCompile(`^\+?P(?:(\d{1,5})W|(?:(\d{1,5})D)?(?:T(?:(\d{1,5})H)?(?:(\d{1,5})M)?(?:(\d{1,5})S)?)?)$`)

// occasion is a moment, or a whole day.
type occasion struct {
	at    time.Time
	dated bool
}

// dates reads all values of a property that lists times.
func dates(e *ics.VEvent, of ics.ComponentProperty, zone *time.Location) ([]occasion, error) {
	var out []occasion
	for _, p := range e.Properties {
		if p.IANAToken != string(of) {
			continue
		}
		for text := range strings.SplitSeq(p.Value, ",") {
			if len(out) >= steps {
				return nil, fmt.Errorf("%s lists too many times", of)
			}
			one := p.BaseProperty
			one.Value = text
			at, dated, err := moment(one, zone)
			if err != nil {
				return nil, err
			}
			out = append(out, occasion{at, dated})
		}
	}
	return out, nil
}

// moment reads a time as the standard writes it: in UTC, in a named zone, or in the one that is meant; or a date.
func moment(p ics.BaseProperty, zone *time.Location) (at time.Time, dated bool, err error) {
	text := strings.TrimSpace(p.Value)
	if names := p.ICalParameters["TZID"]; len(names) > 0 {
		if zone, err = zoneOf(names[0]); err != nil {
			return at, false, err
		}
	}
	for form, in := range map[string]*time.Location{"20060102T150405Z": time.UTC, "20060102T150405": zone, "20060102": zone} {
		if at, err := time.ParseInLocation(form, text, in); err == nil {
			return at, len(text) == 8, nil
		}
	}
	return at, false, fmt.Errorf("%s %q is no time, such as 20261224T160000Z, or, with TZID, 20261224T160000", p.IANAToken, text)
}

// zoneOf finds a time zone by its name.
func zoneOf(name string) (*time.Location, error) {
	zone, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil, fmt.Errorf("there is no time zone %q: they are named as in the IANA database, such as Europe/Berlin", name)
	}
	return zone, nil
}

// feed writes times of freezes as a calendar. Each is an event by itself, in UTC.
func feed(address string, all []listed, now time.Time) string {
	c := ics.NewCalendarFor("Tavrin")
	c.SetProductId("-//Tavrin//Freezes//EN")
	c.SetMethod(ics.MethodPublish)
	c.SetName("Freezes")
	for _, l := range all {
		e := c.AddEvent(fmt.Sprintf("freeze-%d-%d@%s", l.FreezeID, l.Begins.Unix(), address))
		e.SetDtStampTime(now)
		e.SetStartAt(l.Begins)
		e.SetEndAt(*l.Ends)
		e.SetSummary(fmt.Sprintf("%s: %s", l.Of, l.Name))
		e.SetDescription(fmt.Sprintf("Nothing lands on %s: %s (%s)", strings.Join(l.Branches, ", "), l.Reason, l.MadeBy))
	}
	return c.Serialize(ics.WithNewLineWindows)
}
