package e2e

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/service"
	"tavrin/wire"
)

// apartFrom stops the service of this process, and starts one of the same folder as a program apart.
func (w *town) apartFrom(data string) *exec.Cmd {
	w.t.Helper()
	address := freeAddress(w.t)
	cmd, log := w.spawn("--data", data, "--listen", address, "--bound", "calls.token=1000000", "--bound", "calls.address=1000000")
	w.url = "http://" + address
	w.admin = w.as("admin")
	for range 800 {
		if _, err := w.admin.Me(w.t.Context()); err == nil {
			return cmd
		}
		pause()
	}
	w.t.Fatalf("the service does not start:\n%s", log)
	return nil
}

// Backups that are made while everybody works, of a service that is killed at any moment, restore to a service whose branches,
// records and journal tell one story, and which goes on from there (P4, P10).
func TestP4BackupsUnderLoad(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	rng := rand.New(rand.NewPCG(5, 9))
	changes := make([]wire.Change, stormChanges)
	for i := range changes {
		changes[i] = w.propose("tamsin", fmt.Sprintf("topic-%d", i), fmt.Sprintf("f%d", i), fmt.Sprintf("text %d\n", i))
	}
	w.close()
	data := filepath.Join(w.dir, "data")
	backups := t.TempDir()
	var made []string
	for round := range 3 {
		cmd := w.apartFrom(data)
		ctx, stop := context.WithCancel(t.Context())
		var working sync.WaitGroup
		answers := rand.New(rand.NewPCG(rng.Uint64(), 1))
		working.Go(func() { w.answerAtRandom(ctx, answers) })
		for _, login := range []string{"odo", "wren", "ines", "tamsin"} {
			r := rand.New(rand.NewPCG(rng.Uint64(), 2))
			working.Go(func() { w.actAtRandom(login, r, true) })
		}
		for i := range 3 {
			to := filepath.Join(backups, fmt.Sprintf("%d-%d%s", round, i, []string{"", ".tar", ""}[i]))
			taking := exec.Command(binary, "backup", to, "--data", data)
			if i == 2 { // this one is killed, and leaves nothing that could be taken for a backup
				w.ok(taking.Start())
				time.Sleep(time.Duration(rng.IntN(60)) * time.Millisecond)
				taking.Process.Kill()
				if taking.Wait() == nil {
					made = append(made, to)
				} else if _, err := os.Stat(to); err == nil {
					t.Errorf("a backup that was killed is there: %s", to)
				}
				continue
			}
			out, err := taking.CombinedOutput()
			if err != nil {
				t.Fatalf("backup: %v\n%s", err, out)
			}
			made = append(made, to)
		}
		cmd.Process.Kill()
		cmd.Wait()
		stop()
		working.Wait()
	}
	for i, from := range made {
		dir := filepath.Join(t.TempDir(), "data")
		if i == 0 { // a restore that is killed leaves nothing that could be served
			restoring := exec.Command(binary, "restore", from, "--data", dir)
			w.ok(restoring.Start())
			time.Sleep(time.Duration(rng.IntN(15)) * time.Millisecond)
			restoring.Process.Kill()
			if restoring.Wait() == nil {
				w.ok(os.RemoveAll(dir))
			} else if _, err := os.Stat(dir); err == nil {
				t.Errorf("a restore that was killed has left a folder")
			}
		}
		if out, err := exec.Command(binary, "restore", from, "--data", dir).CombinedOutput(); err != nil {
			t.Fatalf("restore of %s: %v\n%s", from, err, out)
		}
		r := &town{t: t, dir: filepath.Dir(dir), tokens: w.tokens}
		r.reopen()
		if _, err := r.admin.VerifyJournal(t.Context(), nil, true, nil); err != nil {
			t.Errorf("%s: %v", from, err)
		}
		if i == len(made)-1 { // and it goes on
			r.calm(changes)
			_, err := r.admin.VerifyJournal(t.Context(), nil, true, nil)
			r.ok(err)
			has(t, strings.Join(r.kinds(), " "), "service.restored", "change.landed")
		}
		r.close()
	}
	// The service itself, killed three times under backups, is as whole.
	w.reopen()
	w.calm(changes)
	_, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
}

// What is not a whole backup is not restored: a file altered, one put in, one missing, another manifest, and a tar that reaches out.
func TestBackupsThatAreNotWhole(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	good := filepath.Join(t.TempDir(), "good")
	w.says("admin", 0, repo, "backup", good, "--data", filepath.Join(w.dir, "data"))
	if info, err := os.Stat(good); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("whoever likes may read the backup: %v %v", info, err)
	}
	w.says("admin", 1, "there is something already", "backup", good, "--data", filepath.Join(w.dir, "data"))
	w.says("admin", 1, "holds no service's records", "backup", good+"2", "--data", t.TempDir())
	write := func(name, text string) func(string) error {
		return func(dir string) error { return os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600) }
	}
	for _, c := range []struct {
		name  string
		alter func(dir string) error
		says  string
	}{
		{"the key", write("signing.key", strings.Repeat("x", 32)), "signing.key is not as it was"},
		{"the records", func(dir string) error { return os.Truncate(filepath.Join(dir, "records.sqlite"), 100) }, "records.sqlite is not as it was"},
		{"a branch", write("repositories/1.git/packed-refs", "# pack-refs with: sorted \n"), "packed-refs is not as it was"},
		{"an object", func(dir string) error { return os.RemoveAll(filepath.Join(dir, "repositories/1.git/objects")) }, "is not as it was"},
		{"a hook", func(dir string) error {
			return cmp.Or(os.Mkdir(filepath.Join(dir, "repositories/1.git/hooks"), 0o700), write("repositories/1.git/hooks/post-update", "#!/bin/sh\n")(dir))
		}, "was put in after the backup was made"},
		{"the list", write("files.sha256", ""), "the list of files is not the one"},
		{"the manifest", write("manifest.json", "{}"), "is not the manifest of a backup"},
		{"no manifest", func(dir string) error { return os.Remove(filepath.Join(dir, "manifest.json")) }, "manifest.json"},
	} {
		dir := filepath.Join(t.TempDir(), "altered")
		w.ok(exec.Command("cp", "-a", good, dir).Run())
		w.ok(c.alter(dir))
		to := filepath.Join(t.TempDir(), "data")
		_, errOut, status := w.run("admin", w.dir, "restore", dir, "--data", to)
		if status == 0 || !strings.Contains(errOut, c.says) {
			t.Errorf("%s: %d %s", c.name, status, errOut)
		}
		if _, err := os.Stat(to); err == nil {
			t.Errorf("%s: something was restored", c.name)
		}
	}
	w.says("admin", 1, "there is something already", "restore", good, "--data", w.dir)
	out := filepath.Join(t.TempDir(), "x.tar")
	w.ok(exec.Command("tar", "-cf", out, "--transform", "s,^.*/,../../,", "-P", filepath.Join(good, "manifest.json")).Run())
	w.says("admin", 1, "read the backup", "restore", out, "--data", filepath.Join(t.TempDir(), "data"))
}

// A folder that is not as a service left it is not served: the words say what is missing and what to do, and whoever knows better
// goes on, on record (P4, P10).
func TestP4FoldersInNoCondition(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	ctx := t.Context()
	data := filepath.Join(w.dir, "data")
	w.close()
	w.ok(exec.Command("cp", "-a", data, data+"-early").Run())
	cmd := w.apartFrom(data)
	w.land(w.propose("tamsin", "first", "a", "a\n"), "squash")
	w.ok(exec.Command("cp", "-a", data, data+"-while-it-ran").Run())
	w.land(w.propose("tamsin", "second", "b", "b\n"), "squash")
	cmd.Process.Kill()
	cmd.Wait()
	killed := data + "-killed"
	w.ok(os.Rename(data, killed)) // a folder may be moved
	again := func(name string, alter ...string) string {
		t.Helper()
		dir := filepath.Join(t.TempDir(), name)
		w.ok(exec.Command("cp", "-a", killed, dir).Run())
		// It is the folder itself, not a copy: the mark names the records' file.
		w.ok(os.WriteFile(filepath.Join(dir, "running"), []byte(w.fileID(filepath.Join(dir, "records.sqlite"))), 0o600))
		for _, a := range alter {
			w.ok(exec.Command("sh", "-c", "cd "+dir+" && "+a).Run())
		}
		return dir
	}
	early := data + "-early"
	for _, c := range []struct{ name, dir, says string }{
		{"a copy made while it ran", data + "-while-it-ran", "a copy that was made while it ran"},
		{"a copy of a killed one", func() string { d := again("copy"); w.ok(exec.Command("cp", "-a", d, d+"2").Run()); return d + "2" }(), "a copy that was made while it ran"},
		{"the log is missing", again("log", "rm records.sqlite-wal"), "records.sqlite-wal, in which it kept what it wrote last, is missing"},
		{"older records", again("older", "rm records.sqlite-wal running && cp "+early+"/records.sqlite ."), "the service had written line"},
		{"older records, and no mark", again("mark", "rm records.sqlite-wal running journal.mark && cp "+early+"/records.sqlite ."), "the repository growers/irrigation is ahead of the records"},
		{"another folder's records", again("foreign", "rm records.sqlite-wal running && cp "+w.longer()+" records.sqlite"), "is not the one that the service had written"},
		{"no key", again("key", "rm signing.key"), "signing.key is missing beside existing records"},
		{"no records", again("records", "rm records.sqlite*"), "it has repositories and no records.sqlite"},
		{"repositories alone", again("alone", "rm records.sqlite* signing.key"), "neither records.sqlite nor signing.key"},
		{"no records at all", again("noise", "rm records.sqlite-wal running journal.mark && echo noise > records.sqlite"), "not of a schema that this program understands"},
	} {
		for _, time := range []string{"first", "second"} {
			if _, errOut, status := w.run("admin", w.dir, "serve", "--data", c.dir, "--listen", freeAddress(t)); status != 1 || !strings.Contains(errOut, c.says) {
				t.Errorf("%s, the %s time: %d %s", c.name, time, status, errOut)
			}
		}
	}
	// Older records are gone on with by whoever says so; what is ahead of them is named, and it is on record.
	dir := again("accepted", "rm records.sqlite-wal running && cp "+early+"/records.sqlite .")
	w.says("admin", 0, "refs/heads/main of growers/irrigation is at", "recover", "accept-loss", "--data", dir)
	w.says("admin", 1, "not the folder of a service", "recover", "admin", "ines", "--data", t.TempDir())
	cmd = w.apartFrom(dir)
	has(t, strings.Join(w.kinds(), " "), "service.loss-accepted")
	w.says("admin", 1, "another tavrin service is running on this folder", "recover", "admin", "ines", "--data", dir)
	cmd.Process.Kill()
	cmd.Wait()
	// A lost key: a new one signs from now on, and the old statements stay with the old one.
	dir = again("new-key", "rm signing.key")
	w.says("admin", 0, "from now on the service signs with", "recover", "new-key", "--data", dir)
	w.says("admin", 1, "only in the place of one that is lost", "recover", "new-key", "--data", dir)
	// A lost administrator: made one again, in use, whoever it is.
	token := w.says("admin", 0, "shown once", "recover", "admin", "wren", "--data", dir)
	cmd = w.apartFrom(dir)
	w.tokens["wren"] = token[strings.Index(token, "tvr_"):][:30]
	me, err := w.as("wren").Me(ctx)
	if err != nil || !me.Admin {
		t.Errorf("wren is %+v, %v", me, err)
	}
	has(t, strings.Join(w.kinds(), " "), "key.replaced", "admin.recovered")
	w.ok(w.as("wren").RevokeToken(ctx, 1))
	cmd.Process.Kill()
	cmd.Wait()
	w.says("admin", 1, "robot", "recover", "admin", "builder", "--data", dir)
	// A killed one starts as it is.
	w.ok(os.Rename(killed, data))
	w.reopen()
	_, err = w.admin.VerifyJournal(ctx, nil, true, nil)
	w.ok(err)
}

// Killed while it starts and while it stops, at any moment, the folder is one that can be served: no mark says too much (P4).
func TestP4KilledWhileStartingAndStopping(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.close()
	data := filepath.Join(w.dir, "data")
	rng := rand.New(rand.NewPCG(3, 4))
	for range 12 {
		cmd, log := w.spawn("--data", data, "--listen", freeAddress(t))
		time.Sleep(time.Duration(rng.IntN(120)) * time.Millisecond)
		cmd.Process.Signal(os.Interrupt)
		time.Sleep(time.Duration(rng.IntN(40)) * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		if strings.Contains(log.String(), "not in a condition") {
			t.Fatalf("it does not start: %s", log)
		}
	}
	w.reopen()
	_, err := w.admin.VerifyJournal(t.Context(), nil, true, nil)
	w.ok(err)
}

// fileID is how a running service names its records' file.
func (w *town) fileID(path string) string {
	w.t.Helper()
	out, err := exec.Command("stat", "-c", "%i", path).Output()
	w.ok(err)
	return string(out)
}

// longer makes the records of another service, with more lines than any here, and returns where they are.
func (w *town) longer() string {
	w.t.Helper()
	dir := filepath.Join(w.t.TempDir(), "other")
	s, err := service.Open(w.t.Context(), service.Options{Dir: dir})
	w.ok(err)
	for i := range 80 {
		_, err := s.Access.RecoverAdmin(w.t.Context(), fmt.Sprintf("somebody-%d", i))
		w.ok(err)
	}
	w.ok(s.Close())
	return filepath.Join(dir, "records.sqlite")
}

// Records of a newer program are refused.
func TestSchemas(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	w.close()
	data := filepath.Join(w.dir, "data")
	db, err := sql.Open("sqlite3", filepath.Join(data, "records.sqlite"))
	w.ok(err)
	var schema int
	w.ok(db.QueryRow("SELECT max(version_id) FROM goose_db_version").Scan(&schema))
	_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)", schema+1)
	w.ok(err)
	w.says("admin", 1, fmt.Sprintf("is of schema %d, and this program knows those up to %d", schema+1, schema), "serve", "--data", data, "--listen", freeAddress(t))
	w.ok(db.Close())
}
