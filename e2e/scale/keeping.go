package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tavrin/internal/records"
)

// audit measures verifying the whole journal.
func (m *measurer) audit(ctx context.Context) error {
	if _, err := m.run(ctx); err != nil {
		return err
	}
	at := time.Now()
	head, err := m.as("admin").VerifyJournal(ctx, nil, true, nil)
	if err != nil {
		return err
	}
	m.say(figure{Name: "the journal verified, from its beginning", Goal: "in the background", Median: time.Since(at).Seconds(), Unit: "s", Note: fmt.Sprintf("%d lines", head.Seq)})
	at = time.Now()
	if _, err := m.as("admin").VerifyJournal(ctx, nil, false, nil); err != nil {
		return err
	}
	m.say(figure{Name: "the journal verified, from the checkpoint on", Goal: "-", Median: time.Since(at).Seconds(), Unit: "s"})
	lines, at := 0, time.Now()
	for after := int64(0); ; {
		page, err := m.as("admin").JournalAfter(ctx, "", after, 500)
		if err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		lines, after = lines+len(page), page[len(page)-1].Seq
	}
	m.say(figure{Name: "the journal exported, page by page", Goal: "-", Median: time.Since(at).Seconds(), Unit: "s", Note: fmt.Sprintf("%d lines", lines)})
	m.say(figure{Name: "memory, after verifying", Goal: "300", Median: m.memory(), Unit: "MB"})
	return nil
}

// tables lists what the rows of the largest tables hold, without their indexes, in MB for each 1,000 changes.
func (m *measurer) tables(ctx context.Context, r *records.Records) ([]string, error) {
	var names []string
	if err := r.Read(ctx).Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'").Scan(&names).Error; err != nil {
		return nil, err
	}
	sizes := map[string]float64{}
	for _, name := range names {
		var columns []string
		if err := r.Read(ctx).Raw("SELECT name FROM pragma_table_info(?)", name).Scan(&columns).Error; err != nil {
			return nil, err
		}
		var size float64
		sum := "ifnull(length(CAST(\"" + strings.Join(columns, "\" AS BLOB)), 0) + ifnull(length(CAST(\"") + "\" AS BLOB)), 0)"
		if err := r.Read(ctx).Raw("SELECT ifnull(sum(" + sum + "), 0) FROM " + name).Scan(&size).Error; err != nil {
			return nil, err
		}
		sizes[name] = size / 1e6 / float64(m.changes) * 1000
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(sizes[b], sizes[a]) })
	var out []string
	for _, name := range names[:10] {
		out = append(out, fmt.Sprintf("%s %.2f", name, sizes[name]))
	}
	return out, nil
}

// disk measures how much is kept, by what it is.
func (m *measurer) disk(ctx context.Context) error {
	if err := m.stop(); err != nil {
		return err
	}
	r, err := records.Open(ctx, filepath.Join(m.dir, "data", "records.sqlite"), time.Now)
	if err != nil {
		return err
	}
	defer r.Close()
	parts, err := m.tables(ctx, r)
	if err != nil {
		return err
	}
	file, err := os.Stat(filepath.Join(m.dir, "data", "records.sqlite"))
	if err != nil {
		return err
	}
	m.say(figure{Name: "the records, for each 1,000 changes", Goal: "-", Median: float64(file.Size()) / 1e6 / float64(m.changes) * 1000, Unit: "MB", Note: strings.Join(parts, ", ")})
	var repositories int64
	err = filepath.WalkDir(filepath.Join(m.dir, "data", "repositories"), func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			repositories += info.Size()
		}
		return err
	})
	m.say(figure{Name: "what git keeps, for each 1,000 changes", Goal: "-", Median: float64(repositories) / 1e6 / float64(m.changes) * 1000, Unit: "MB", Note: "changes of a few lines"})
	return err
}
