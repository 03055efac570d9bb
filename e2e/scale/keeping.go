package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
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
	if _, err := m.as("admin").VerifyJournal(ctx, &head, true, nil); err != nil {
		return err
	}
	m.say(figure{Name: "the journal verified, from a signed head on", Goal: "-", Median: time.Since(at).Seconds(), Unit: "s"})
	m.say(figure{Name: "memory, after verifying", Goal: "300", Median: m.memory(), Unit: "MB"})
	return nil
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
	var rows []struct {
		Name string
		Size int64
	}
	if err := r.Read(ctx).Raw("SELECT tbl_name AS name, sum(pgsize) AS size FROM dbstat JOIN sqlite_master ON sqlite_master.name = dbstat.name GROUP BY tbl_name ORDER BY 2 DESC LIMIT 12").Scan(&rows).Error; err != nil {
		return err
	}
	var parts []string
	for _, row := range rows {
		parts = append(parts, fmt.Sprintf("%s %.1f", row.Name, float64(row.Size)/1e6/float64(m.changes)*1000))
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
