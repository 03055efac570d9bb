package cli

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// usualWidth is how many columns a table may take where COLUMNS says nothing.
const usualWidth = 120

// columns is how wide a table may be.
func columns() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= 40 {
		return n
	}
	return usualWidth
}

// table lays out what a command prints: rows of several cells are aligned with those next to them, and where they would
// be wider than the terminal, the longest cells go on below. What is written to it by itself is printed as it is.
type table struct {
	out   io.Writer
	paint bool // states in colour
	block [][]cell
}

// cell is one cell of a row.
type cell struct {
	text   string
	number bool   // aligned to the right
	colour string // of the text, where there are colours; empty: none
}

// state is a word of the service for how something stands. It is printed in a colour of its own where there are colours,
// and says the same without.
type state string

// The colours of states, of 256: teal for what is done, ochre for what is under way, rust for what is missing or went wrong,
// slate for what does not matter.
const (
	teal  = "38;5;30"
	ochre = "38;5;136"
	rust  = "38;5;130"
	slate = "38;5;245"
)

var colours = map[state]string{
	"met": teal, "passed": teal, "freed": teal, "landed": teal, "ready": teal, "yes": teal,
	"pending": ochre, "running": ochre, "waiting": ochre, "queued": ochre, "rehearsing": ochre, "landing": ochre, "waived": ochre, "different": ochre,
	"missing": rust, "failed": rust, "errored": rust, "ejected": rust, "blocked": rust,
	"not-asked": slate, "skipped": slate, "cancelled": slate, "withdrawn": slate, "closed": slate, "draft": slate, "no": slate,
}

// newTable makes a table that prints to a file, or to whatever else takes text.
func newTable(w io.Writer) *table {
	t := &table{out: w}
	if os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" {
		t.paint = toTerminal(w)
	}
	return t
}

// toTerminal says whether what is written is seen on a terminal.
func toTerminal(w io.Writer) bool {
	f, isFile := w.(*os.File)
	return isFile && term.IsTerminal(int(f.Fd()))
}

// Write prints a text as it is, after the rows before it.
func (t *table) Write(text []byte) (int, error) {
	t.flush()
	return t.out.Write(text)
}

// row adds one row, without control characters that a terminal would act on.
func (t *table) row(values ...any) {
	if len(values) < 2 {
		t.flush()
	}
	cells := make([]cell, len(values))
	for i, v := range values {
		cells[i] = cell{text: plain(fmt.Sprint(v))}
		switch v := v.(type) {
		case int, int64:
			cells[i].number = true
		case state:
			cells[i].colour = colours[v]
		}
	}
	for len(cells) > 0 && cells[len(cells)-1].text == "" {
		cells = cells[:len(cells)-1]
	}
	t.block = append(t.block, cells)
	if len(values) < 2 {
		t.flush()
	}
}

// gap is what stands between two columns.
const gap = "  "

// flush prints the rows that are waiting.
func (t *table) flush() {
	rows := t.block
	t.block = nil
	width := columns()
	widths := fitted(rows, width)
	for _, cells := range rows {
		lines := make([][]string, len(cells))
		tall, left := 1, 0
		for i, c := range cells {
			room := widths[i]
			if reaches(cells, widths, i) {
				room = max(room, width-left)
			}
			left += widths[i] + len(gap)
			lines[i] = wrapped(c.text, room)
			tall = max(tall, len(lines[i]))
		}
		for n := range tall {
			var b strings.Builder
			for i, c := range cells {
				text := ""
				if n < len(lines[i]) {
					text = lines[i][n]
				}
				space := strings.Repeat(" ", max(0, widths[i]-utf8.RuneCountInString(text)))
				if t.paint && c.colour != "" && text != "" {
					text = "\x1b[" + c.colour + "m" + text + "\x1b[0m"
				}
				if c.number {
					text, space = space+text, ""
				}
				b.WriteString(text)
				if i < len(cells)-1 {
					b.WriteString(space + gap)
				}
			}
			fmt.Fprintln(t.out, strings.TrimRight(b.String(), " "))
		}
	}
}

// reaches says whether a cell is the last of a row with fewer cells than the table has columns: it may reach over those
// that are empty.
func reaches(cells []cell, widths []int, i int) bool { return i == len(cells)-1 && i < len(widths)-1 }

// fitted returns how wide each column is: as its widest cell, or, where that is too much for all of them, the widest
// columns so narrow that they fit. A row of one cell is as wide as it is.
func fitted(rows [][]cell, width int) []int {
	most := 0
	for _, cells := range rows {
		most = max(most, len(cells))
	}
	widths := make([]int, most)
	for _, cells := range rows {
		for i, c := range cells {
			if !reaches(cells, widths, i) {
				widths[i] = max(widths[i], utf8.RuneCountInString(c.text))
			}
		}
	}
	if len(widths) < 2 {
		return widths
	}
	for {
		sum, widest := len(gap)*(len(widths)-1), 0
		for i, w := range widths {
			if sum += w; w >= widths[widest] {
				widest = i
			}
		}
		if sum <= width || widths[widest] <= 12 {
			return widths
		}
		widths[widest] -= min(sum-width, max(1, widths[widest]/8))
	}
}

// wrapped breaks a text at spaces into lines of some width, and words that are longer where they have to be.
func wrapped(text string, width int) []string {
	if utf8.RuneCountInString(text) <= width || width < 1 {
		return []string{text}
	}
	var lines []string
	line := []rune{}
	for _, word := range strings.Split(text, " ") {
		w := []rune(word)
		if len(line) > 0 && len(line)+1+len(w) > width {
			lines, line = append(lines, string(line)), nil
		}
		if len(line) > 0 {
			line = append(line, ' ')
		}
		for line = append(line, w...); len(line) > width; line = line[width:] {
			lines = append(lines, string(line[:width]))
		}
	}
	return append(lines, string(line))
}
