package e2e

import (
	"bufio"
	"fmt"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"tavrin/internal/sidebyside"
)

// The same push of one commit, through the guard and through git's own HTTP backend.
func BenchmarkPush(b *testing.B) {
	w := newTown(b)
	dir := w.begin(simple)
	out, err := exec.Command("git", "--exec-path").Output()
	w.ok(err)
	root := b.TempDir()
	w.must("ines", root, "clone", "-q", "--bare", w.gitURL(), "plain.git")
	w.must("ines", filepath.Join(root, "plain.git"), "config", "http.receivepack", "true")
	backend := httptest.NewServer(&cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"), Dir: root,
		Env: []string{"GIT_PROJECT_ROOT=" + root, "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=ines"}})
	defer backend.Close()
	w.must("ines", dir, "remote", "add", "plain", backend.URL+"/plain.git")
	n := 0
	push := func(remote string) func() time.Duration {
		return func() time.Duration {
			n++
			w.commit("ines", dir, "a", fmt.Sprint(n), "more")
			return sidebyside.Time(func() { w.must("ines", dir, "push", "-q", remote, "HEAD:refs/heads/topic") })
		}
	}
	sidebyside.Measure(b, push("origin"), push("plain"))
}

// From the start of the program to its first answer, with 1,000 changes on record; and the memory it takes then.
func BenchmarkStart(b *testing.B) {
	w := newTown(b)
	w.begin(simple)
	w.propose("tamsin", "topic", "a", "a\n")
	w.close()
	db, err := gorm.Open(sqlite.Open(w.dir+"/data/records.sqlite"), &gorm.Config{})
	w.ok(err)
	for n := 2; n <= 1000; n++ {
		w.ok(db.Exec(`INSERT INTO changes (repository_id, number, title, description, source, target, state, revision, opened_by, created_at, updated_at)
SELECT repository_id, ?, title, description, source || ?, target, state, revision, opened_by, created_at, updated_at FROM changes WHERE number = 1`, n, n).Error)
		w.ok(db.Exec(`INSERT INTO revisions (change_id, number, head, base, pushed_by, last_pusher, authors, same_as_last, paths, files, added, removed, created_at, commits, commit_authors)
SELECT (SELECT max(id) FROM changes), number, head, base, pushed_by, last_pusher, authors, same_as_last, paths, files, added, removed, created_at, commits, commit_authors FROM revisions WHERE change_id = 1`).Error)
	}
	sql, err := db.DB()
	w.ok(err)
	sql.Close()
	address := freeAddress(b)
	for b.Loop() {
		cmd := exec.Command(binary, "serve", "--data", w.dir+"/data", "--listen", address)
		w.ok(cmd.Start())
		for {
			req, _ := http.NewRequest("GET", "http://"+address+"/api/v1/repositories/"+repo+"/changes?limit=20", nil)
			req.Header.Set("Authorization", "Bearer "+w.tokens["ines"])
			if resp, err := http.DefaultClient.Do(req); err == nil {
				resp.Body.Close()
				if resp.StatusCode != http.StatusOK {
					b.Fatalf("the first answer is %d", resp.StatusCode)
				}
				break
			}
			time.Sleep(time.Millisecond)
		}
		b.StopTimer()
		time.Sleep(500 * time.Millisecond)
		b.ReportMetric(residentMiB(b, cmd.Process.Pid), "MiB-resident")
		cmd.Process.Kill()
		cmd.Wait()
		b.StartTimer()
	}
	w.reopen()
}

func residentMiB(b *testing.B, pid int) float64 {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		b.Skip("no /proc here")
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var kib float64
		if n, _ := fmt.Sscanf(lines.Text(), "VmRSS: %f kB", &kib); n == 1 {
			return kib / 1024
		}
	}
	return 0
}
