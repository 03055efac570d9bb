package statement_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"tavrin/internal/core/change"
	"tavrin/internal/core/gate"
	"tavrin/internal/core/people"
	"tavrin/internal/core/require"
	"tavrin/internal/core/statement"
)

// A form that is altered by intention gets a new version, and a new file beside the old one.
var update = flag.Bool("update", false, "write the files of testdata anew")

// fill gives every field of a value something of its own, so that none can be forgotten or change places with another.
func fill(v reflect.Value, name string, n *int) {
	*n++
	switch x := v.Addr().Interface().(type) {
	case *time.Time:
		*x = time.Date(2026, 3, 1, 0, 0, *n, 0, time.UTC)
		return
	case *people.Everyone:
		var p people.Person
		fill(reflect.ValueOf(&p).Elem(), name, n)
		*x = people.Known(map[string]people.Person{p.Login: p})
		return
	case *json.RawMessage:
		*x = fmt.Appendf(nil, `{"n":%d}`, *n)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), v.Type().Field(i).Name, n)
		}
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), name, n)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0), name, n)
	case reflect.Map:
		value := reflect.New(v.Type().Elem()).Elem()
		fill(value, name, n)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(reflect.ValueOf(strings.ToLower(name)).Convert(v.Type().Key()), value)
	case reflect.String:
		v.SetString(fmt.Sprintf("%s %d", strings.ToLower(name), *n))
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(*n))
	case reflect.Bool:
		v.SetBool(true)
	default:
		panic("a field of kind " + v.Kind().String() + ": " + name)
	}
}

func filled[T any]() T {
	var v T
	fill(reflect.ValueOf(&v).Elem(), "", new(int))
	return v
}

// golden compares what is kept with the form that its version has had from the beginning.
func golden(t *testing.T, file string, got []byte) []byte {
	t.Helper()
	var pretty bytes.Buffer
	if err := json.Indent(&pretty, got, "", "  "); err != nil {
		t.Fatal(err)
	}
	pretty.WriteByte('\n')
	if *update {
		if err := os.WriteFile(file, pretty.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(want, pretty.Bytes()) {
		t.Errorf("%s is not what is written now: landings that are on record have the old form. A new form gets a new version. Now:\n%s",
			file, pretty.Bytes())
	}
	return want
}

func TestFactsKeepTheirForm(t *testing.T) {
	all := filled[change.Facts]()
	for p := range all.People.All() { // whoever has no part in a change is not kept with it
		all.People = people.Known(map[string]people.Person{all.Opener: p})
	}
	text, err := statement.KeepFacts(all)
	if err != nil {
		t.Fatal(err)
	}
	back, err := statement.ReadFacts(golden(t, "testdata/facts.v1.json", text))
	if err != nil || !reflect.DeepEqual(back, all) {
		t.Errorf("read again they are %+v, %v, not %+v", back, err, all)
	}
}

func TestStatementsKeepTheirForm(t *testing.T) {
	s := statement.Of("refs/heads/main", filled[statement.Landing]())
	text, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	golden(t, "testdata/statement.v1.json", text)
	back, err := statement.Read(text)
	if err != nil || !reflect.DeepEqual(back, s) {
		t.Errorf("read again it is %+v, %v, not %+v", back, err, s)
	}
}

// What is kept of a report is everything but what somebody could still do.
func TestReportsAreKeptWhole(t *testing.T) {
	r := filled[gate.Report]()
	want := r
	want.Requirements = []require.Outcome{r.Requirements[0]}
	want.Requirements[0].Who, want.Requirements[0].Steps, want.Requirements[0].Rerun = []string{}, []require.Step{}, nil
	if got := statement.Judged(r).Gate(); !reflect.DeepEqual(got, want) {
		t.Errorf("kept as\n%+v, not\n%+v", got, want)
	}
}

func TestOtherVersionsAreRefused(t *testing.T) {
	for text, says := range map[string]string{
		`{"version":2,"facts":{}}`:      "version 2; this program reads version 1",
		`{"state":"open"}`:              "version 0; this program reads version 1",
		`{"version":1,"facts":"open"}`:  "read kept facts",
		`{`:                             "read kept facts",
		`{"version":1,"facts":{"a":1}}`: "",
	} {
		if _, err := statement.ReadFacts([]byte(text)); (err == nil) != (says == "") || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("facts %s: %v, not %q", text, err, says)
		}
	}
	for text, says := range map[string]string{
		`{"_type":"https://in-toto.io/Statement/v1","predicateType":"https://tavrin.invalid/landing/v2"}`: "landing/v2",
		`{}`: `of type ""`,
		`[]`: "read a statement",
	} {
		if _, err := statement.Read([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("statement %s: %v, not %q", text, err, says)
		}
	}
}
