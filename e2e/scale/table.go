package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// The table stands between these lines of the page.
const (
	tableBegins = "<!-- made by make scale: begin -->"
	tableEnds   = "<!-- made by make scale: end -->"
)

// table writes the figures that were measured of every size into a page, beside their goals.
func table(folder, page string) error {
	var shown []size
	var all []map[string]figure
	var names []string
	known := map[string]figure{}
	for _, s := range sizes {
		text, err := os.ReadFile(filepath.Join(folder, s.name+".json"))
		if os.IsNotExist(err) {
			continue
		}
		var figures []figure
		if err == nil {
			err = json.Unmarshal(text, &figures)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		of := map[string]figure{}
		for _, f := range figures {
			f.Name = s.general(f.Name)
			of[f.Name] = f
			if _, there := known[f.Name]; !there {
				names = append(names, f.Name)
			}
			known[f.Name] = f
		}
		shown, all = append(shown, s), append(all, of)
	}
	if len(shown) == 0 {
		return fmt.Errorf("%s holds no figures", folder)
	}
	var b strings.Builder
	b.WriteString(tableBegins + "\n\n| what | goal, large |")
	for _, s := range shown {
		b.WriteString(" " + s.name + " |")
	}
	b.WriteString("\n| --- | --- |" + strings.Repeat(" --- |", len(shown)) + "\n")
	for _, name := range names {
		fmt.Fprintf(&b, "| %s | %s |", name, known[name].Goal)
		for _, of := range all {
			b.WriteString(" " + of[name].cell() + " |")
		}
		b.WriteString("\n")
	}
	b.WriteString("\n" + tableEnds)
	text, err := os.ReadFile(page)
	if err != nil {
		return err
	}
	before, rest, begins := strings.Cut(string(text), tableBegins)
	_, after, ends := strings.Cut(rest, tableEnds)
	if !begins || !ends {
		return fmt.Errorf("%s has no place for the table: the lines %q and %q", page, tableBegins, tableEnds)
	}
	return os.WriteFile(page, []byte(before+b.String()+after), 0o644)
}

// general is the name of a figure without the numbers of its size.
func (s size) general(name string) string {
	for _, n := range []struct {
		number int
		word   string
	}{{s.branches, "its"}, {s.live, "all"}} {
		name = strings.Replace(name, fmt.Sprintf("%d branches", n.number), "the branches of the big repository", 1)
		name = strings.Replace(name, fmt.Sprintf("%d entries", n.number), "all entries", 1)
		name = strings.Replace(name, fmt.Sprintf("one of %d changes", n.number), "one of the changes", 1)
	}
	return name
}

// cell is a figure as a cell of the table.
func (f figure) cell() string {
	if f.Name == "" {
		return "-"
	}
	text := number(f.Median)
	if f.P99 != 0 {
		text += "; P99 " + number(f.P99)
	}
	if f.Cold != 0 {
		text += "; cold " + number(f.Cold)
	}
	if text += " " + f.Unit; f.Note != "" {
		text += " (" + f.Note + ")"
	}
	return text
}

// number has three digits or so.
func number(x float64) string {
	switch {
	case x >= 100:
		return fmt.Sprintf("%.0f", x)
	case x >= 10:
		return fmt.Sprintf("%.1f", x)
	}
	return fmt.Sprintf("%.2f", x)
}
