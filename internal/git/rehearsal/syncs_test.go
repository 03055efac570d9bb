package rehearsal

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tavrin/internal/git"
)

// witness is a library that is put before git's own calls, and writes down what is synced to disk and what is renamed, in order.
const witness = `#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
static void note(const char *what, const char *a, const char *b) {
	char line[9000];
	const char *to = getenv("WITNESS");
	int fd = to ? open(to, O_WRONLY | O_CREAT | O_APPEND, 0600) : -1;
	if (fd < 0) return;
	int n = snprintf(line, sizeof line, "%s %s %s\n", what, a, b);
	if (write(fd, line, n) != n) abort();
	close(fd);
}
static void named(const char *what, int fd) {
	char link[64], path[4096] = "";
	snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
	ssize_t n = readlink(link, path, sizeof path - 1);
	if (n > 0) note(what, path, "-");
}
int fsync(int fd) { named("sync", fd); return ((int (*)(int))dlsym(RTLD_NEXT, "fsync"))(fd); }
int fdatasync(int fd) { named("sync", fd); return ((int (*)(int))dlsym(RTLD_NEXT, "fdatasync"))(fd); }
int rename(const char *a, const char *b) {
	char x[4096] = "", y[4096] = "";
	if (!realpath(a, x)) strncpy(x, a, sizeof x - 1);
	int r = ((int (*)(const char *, const char *))dlsym(RTLD_NEXT, "rename"))(a, b);
	if (!realpath(b, y)) strncpy(y, b, sizeof y - 1);
	note("rename", x, y);
	return r;
}
int link(const char *a, const char *b) {
	char x[4096] = "", y[4096] = "";
	if (!realpath(a, x)) strncpy(x, a, sizeof x - 1);
	int r = ((int (*)(const char *, const char *))dlsym(RTLD_NEXT, "link"))(a, b);
	if (!realpath(b, y)) strncpy(y, b, sizeof y - 1);
	note("rename", x, y);
	return r;
}
`

// What is reported as stored is on disk first, which no kill can show: what a rehearsal keeps is synced before it has its name, its
// index last; and so is where a ref points. All of it happens before the call that asked for it returns.
func TestP4WhatIsStoredIsSyncedFirst(t *testing.T) {
	w := newShop(t)
	base, head := twoBranches(w)
	dir := t.TempDir()
	source, library, log := dir+"/witness.c", dir+"/witness.so", dir+"/log"
	if err := os.WriteFile(source, []byte(witness), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cc", "-shared", "-fPIC", "-w", "-o", library, source, "-ldl").CombinedOutput(); err != nil {
		t.Fatalf("cc: %v %s", err, out)
	}
	real, err := exec.LookPath("git")
	if err != nil {
		t.Fatal(err)
	}
	script := fmt.Sprintf("#!/bin/sh\nLD_PRELOAD=%s WITNESS=%s exec %s \"$@\"\n", library, log, real)
	if err := os.WriteFile(dir+"/git", []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	bare, err := filepath.EvalSymlinks(w.Bare)
	if err != nil {
		t.Fatal(err)
	}
	seen := func() (lines []string) {
		text, _ := os.ReadFile(log)
		os.Remove(log)
		return strings.Split(strings.TrimSpace(string(text)), "\n")
	}
	built, err := Build(t.Context(), w.Repo, plan(Rebase, base, head))
	if err != nil {
		t.Fatal(err)
	}
	var order []string
	synced := map[string]bool{}
	for _, line := range seen() {
		f := strings.Split(line, " ")
		switch {
		case f[0] == "sync":
			synced[f[1]] = true
		case f[0] == "rename" && strings.HasPrefix(f[2], bare):
			if !synced[f[1]] {
				t.Errorf("%s gets its name before it is synced", f[2])
			}
			order = append(order, filepath.Ext(f[2]))
		}
	}
	if !slices.Contains(order, ".pack") || order[len(order)-1] != ".idx" {
		t.Errorf("a rehearsal is stored as %v", order)
	}
	if err := w.Repo.MoveRefs(t.Context(), git.Move{Ref: "refs/heads/main", Old: base, New: built.Commit}); err != nil {
		t.Fatal(err)
	}
	ref := bare + "/refs/heads/main"
	lines := seen()
	sync, named := slices.Index(lines, "sync "+ref+".lock -"), slices.Index(lines, "rename "+ref+".lock "+ref)
	if sync < 0 || named < sync {
		t.Errorf("a ref moves as\n%s", strings.Join(lines, "\n"))
	}
}
