package main

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"os"
	"runtime"
	"runtime/pprof"
	"strings"
	"sync"
	"testing"
	"time"

	"tavrin/internal/api"
	"tavrin/internal/bounds"
	"tavrin/internal/service"
	"tavrin/wire"
)

func TestTmp(t *testing.T) {
	dir := os.Getenv("SCALED")
	if dir == "" {
		t.Skip()
	}
	statements := 0
	var mu sync.Mutex
	by := map[string]int{}
	s, err := service.Open(t.Context(), service.Options{Dir: dir + "/data", Queries: func(q string) {
		mu.Lock()
		statements++
		if i := strings.Index(q, "IN ("); i > 0 {
			q = q[:i]
		}
		by[q]++
		mu.Unlock()
	}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tokens := map[string]string{}
	b, _ := os.ReadFile(dir + "/tokens.json")
	json.Unmarshal(b, &tokens)
	a, err := s.Access.Authenticate(t.Context(), tokens[os.Getenv("WHO")])
	if err != nil {
		t.Fatal(err)
	}
	for range 4 {
		at, was := time.Now(), statements
		switch os.Getenv("WHAT") {
		case "desk":
			items, err := s.Desk.Desk(t.Context(), a)
			fmt.Println(len(items), err)
		case "repos":
			items, err := s.Repositories.Repositories(t.Context(), a)
			fmt.Println(len(items), err)
		case "loads":
			items, err := s.Desk.ReviewLoads(t.Context(), a, big())
			fmt.Println(len(items), err)
		case "queue":
			q, err := s.Queues.Queue(t.Context(), a, big(), "main")
			fmt.Println(len(q.Entries), err)
		case "try":
			_, err := s.Trials.TryRules(t.Context(), a, house, houseRules(true), 100)
			fmt.Println(err)
		case "apply":
			_, err := s.Rulebook.ApplyRules(t.Context(), a, house, houseRules(was%2 == 0), "for a season", -1)
			fmt.Println(err)
		case "idle":
			time.Sleep(5 * time.Second)
		case "changes":
			_, err := s.Changes.Changes(t.Context(), a, big(), wire.ChangeFilter{Limit: 50})
			fmt.Println(err)
		}
		fmt.Println(time.Since(at), statements-was, "statements")
		if os.Getenv("BY") != "" {
			for q, n := range by {
				if n > 100 {
					fmt.Println(n, q[:min(len(q), 150)])
				}
			}
			clear(by)
		}
	}
	runtime.GC()
	var ms runtime.MemStats
	runtime.ReadMemStats(&ms)
	fmt.Println("heap", ms.HeapAlloc>>20, "MiB, sys", ms.Sys>>20)
	f, _ := os.Create("/tmp/heap.prof")
	pprof.WriteHeapProfile(f)
	f.Close()
}

func TestPushProf(t *testing.T) {
	dir := os.Getenv("SCALED")
	if dir == "" {
		t.Skip()
	}
	b := bounds.Default()
	for _, x := range []string{"calls.token=1000000", "git.transfers=100", "git.person-processes=48"} {
		b.Set(x)
	}
	s, err := service.Open(t.Context(), service.Options{Dir: dir + "/data", Bounds: b})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	h := api.New(api.Options{Service: s, Log: slog.New(slog.DiscardHandler), Bounds: b})
	srv := httptest.NewServer(h)
	defer srv.Close()
	m := &measurer{size: sizes[3], dir: dir}
	text, _ := os.ReadFile(dir + "/tokens.json")
	json.Unmarshal(text, &m.tokens)
	if os.Getenv("WHAT") == "tags" {
		m.served = &served{url: srv.URL}
		dir, err := m.clone(t.Context(), srv.URL+"/git/growers/"+os.Getenv("REPO")+".git", "admin")
		if err != nil {
			t.Fatal(err)
		}
		if err := m.tags(t.Context(), dir); err != nil {
			t.Fatal(err)
		}
		return
	}
	rate, err := m.rate(t.Context(), srv.URL+"/git/growers/"+os.Getenv("REPO")+".git", 8)
	fmt.Println(rate, err)
}
