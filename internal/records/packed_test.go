package records_test

import (
	"context"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tavrin/internal/records"
)

// Long texts are kept compressed, and read as they were: by models, and by what a statement selects.
func TestPackedTextsAreTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 5000)
	for i := range noise {
		noise[i] = byte(1 + rng.IntN(126))
	}
	r, err := records.Open(t.Context(), filepath.Join(t.TempDir(), "r.sqlite"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	texts := []string{"", "short", strings.Repeat("a", 199), strings.Repeat("valve ", 10_000), string(noise), "ö" + strings.Repeat("\n", 300)}
	err = r.Write(context.Background(), func(tx *records.Tx) error {
		tx.TouchesNothing()
		if err := tx.Exec("INSERT INTO houses VALUES (1, 'growers', '2026-11-02')").Error; err != nil {
			return err
		}
		if err := tx.Create(&records.Repository{ID: 1, HouseID: 1, Name: "growers/irrigation", DefaultBranch: "main"}).Error; err != nil {
			return err
		}
		for i, text := range texts {
			run := records.CheckRun{ID: int64(i + 1), RepositoryID: 1, CommitID: "c", Name: "unit", Attempt: i + 1, State: "passed", Log: text}
			if err := tx.Create(&run).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	var runs []records.CheckRun
	var selected []struct {
		Log  string `gorm:"serializer:packed"`
		Size int
	}
	err = r.Read(t.Context()).Order("id").Find(&runs).Error
	if err == nil {
		err = r.Read(t.Context()).Raw("SELECT log, length(CAST(log AS BLOB)) AS size FROM check_runs ORDER BY id").Scan(&selected).Error
	}
	if err != nil || len(runs) != len(texts) || len(selected) != len(texts) {
		t.Fatal(len(runs), len(selected), err)
	}
	for i, text := range texts {
		if runs[i].Log != text || selected[i].Log != text || selected[i].Size > len(text) {
			t.Errorf("text %d of %d bytes is kept in %d, and comes back as %.20q and %.20q", i, len(text), selected[i].Size, runs[i].Log, selected[i].Log)
		}
	}
	if selected[3].Size > 1000 {
		t.Errorf("what says one thing ten thousand times is kept in %d bytes", selected[3].Size)
	}
	if err := r.Write(context.Background(), func(tx *records.Tx) error {
		return tx.Exec("UPDATE check_runs SET log = x'00ff00ff' WHERE id = 4").Error
	}); err != nil {
		t.Fatal(err)
	}
	if err := r.Read(t.Context()).First(new(records.CheckRun), 4).Error; err == nil || !strings.Contains(err.Error(), "Log, which was kept compressed") {
		t.Errorf("what was never compressed is read: %v", err)
	}
}
