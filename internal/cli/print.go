package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
)

// print shows a value in the form that was asked for; table is called for the form that people read.
func (p *program) print(value any, table func(w io.Writer)) error {
	if p.format == "table" {
		t := newTable(p.out)
		table(t)
		t.flush()
		return nil
	}
	data, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	if p.format == "yaml" {
		if data, err = yaml.JSONToYAML(data); err != nil {
			return err
		}
		_, err = p.out.Write(data)
		return err
	}
	_, err = fmt.Fprintln(p.out, string(data))
	return err
}

// row prints one row of a table, without control characters that a terminal would act on.
func row(w io.Writer, cells ...any) {
	if t, is := w.(*table); is {
		t.row(cells...)
		return
	}
	t := &table{out: w}
	t.row(cells...)
	t.flush()
}

func plain(s string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c < ' ' || c == 0x7f:
			return ' '
		case unicode.Is(unicode.Cf, c): // such as marks that turn the direction of writing
			return '\uFFFD'
		}
		return c
	}, s)
}

// block makes text of several lines safe for a terminal, keeping lines and tabs: every other character that is not
// seen, or that turns others about, is shown by its number.
func block(s string) string {
	var b strings.Builder
	for _, c := range s {
		if c == '\n' || c == '\t' || !unseen(c) {
			b.WriteRune(c)
		} else {
			fmt.Fprintf(&b, "⟨U+%04X⟩", c)
		}
	}
	return b.String()
}

// unseen says whether a character is not seen, or turns others about: control and format characters, white space other
// than the usual, and what programs are told to ignore.
func unseen(c rune) bool {
	return c != ' ' && (unicode.In(c, unicode.Cc, unicode.Cf, unicode.Co, unicode.Zl, unicode.Zp, unicode.Zs,
		unicode.Variation_Selector, unicode.Other_Default_Ignorable_Code_Point))
}

// ago says how long ago a time is.
func ago(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	d := time.Since(t)
	switch {
	case d < time.Second:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", d/time.Second)
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", d/time.Minute)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", d/time.Hour)
	}
	return t.Local().Format("2006-01-02")
}

func short(id string) string {
	if len(id) > 10 {
		return id[:10]
	}
	return id
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func list(words []string) string { return dash(strings.Join(words, ", ")) }

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// counted puts a number and a noun together: "1 path", "2 paths".
func counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "ch") {
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// either is one of two words, by what is the case.
func either(is bool, then, otherwise string) string {
	if is {
		return then
	}
	return otherwise
}
