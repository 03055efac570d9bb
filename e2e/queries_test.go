package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"tavrin/internal/records"
)

// asked are the statements that any service of any test made on its records. When all tests are over, each is explained by SQLite:
// none may go through the whole of a table that grows with what happens, but for those that are meant to.
var asked queries

type queries struct {
	mu   sync.Mutex
	seen map[string]bool
}

var manyValues = regexp.MustCompile(`\(\?(?:,\?)+\)`)

func (q *queries) add(text string) {
	text = manyValues.ReplaceAllString(text, "(?)")
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.seen == nil {
		q.seen = map[string]bool{}
	}
	q.seen[text] = true
}

// growing lists the tables that grow with what happens, not with people and places.
var growing = []string{"changes", "revisions", "reviews", "check_runs", "entries", "rehearsals", "intents", "landings", "landed_commits", "pushed_commits", "journal_lines", "rules_versions", "rules_proposals",
	"suspensions", "waivers", "threads", "comments", "change_dependencies", "change_reviewers", "change_labels", "queues", "queue_events",
	"deliveries", "delivery_attempts", "report_keys", "freeze_times", "ticket_answers"}

// meant are statements that may go through everything: those by which the journal is verified, and the newest lines of it.
var meant = regexp.MustCompile(`^SELECT \* FROM .journal_lines. ORDER BY seq DESC LIMIT|reported_by. FROM .check_runs.( WHERE .check_runs...id. > \?)? ORDER BY|^SELECT coalesce\(r\.name, h\.name\)|^SELECT r\.name, c\.number, (c\.state|v\.login)|^SELECT r\.name, c\.number FROM changes c JOIN repositories`)

var scanned = regexp.MustCompile(`^SCAN (\w+)(?: USING (?:COVERING )?INDEX (\w+))?`)

// tableOf is the table that a statement calls by a name, or that an index of SQLite's own is of.
func tableOf(text, name, index string) string {
	if m := regexp.MustCompile(`^sqlite_autoindex_(\w+)_\d+$`).FindStringSubmatch(index); m != nil {
		return m[1]
	}
	if m := regexp.MustCompile("(?i)(?:from|join)\\s+`?(\\w+)`?\\s+(?:as\\s+)?" + regexp.QuoteMeta(name) + "\\b").FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return name
}

// scans lists the statements that go through a whole table which grows, each with what SQLite says of it.
func (q *queries) scans(dir string) []string {
	path := filepath.Join(dir, "explained.sqlite")
	s, err := records.Open(context.Background(), path, time.Now)
	if err != nil {
		return []string{err.Error()}
	}
	s.Close()
	db, err := sql.Open("sqlite3", path)
	if err != nil {
		return []string{err.Error()}
	}
	defer db.Close()
	partial := map[string]bool{} // indexes of what is open, of which there is never much
	names, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'index' AND sql LIKE '% WHERE %'")
	if err != nil {
		return []string{err.Error()}
	}
	for names.Next() {
		var name string
		if err := names.Scan(&name); err != nil {
			return []string{err.Error()}
		}
		partial[name] = true
	}
	names.Close()
	var out []string
	for _, text := range slices.Sorted(maps.Keys(q.seen)) {
		word, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(text)), " ")
		if !slices.Contains([]string{"SELECT", "WITH", "UPDATE", "DELETE"}, word) {
			continue
		}
		rows, err := db.Query("EXPLAIN QUERY PLAN "+text, make([]any, strings.Count(text, "?"))...)
		if err != nil {
			out = append(out, fmt.Sprintf("%s: %v", text, err))
			continue
		}
		for rows.Next() {
			var id, parent, unused int
			var detail string
			if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
				out = append(out, err.Error())
				continue
			}
			m := scanned.FindStringSubmatch(detail)
			if m != nil && slices.Contains(growing, tableOf(text, m[1], m[2])) && !partial[m[2]] && !meant.MatchString(text) {
				out = append(out, fmt.Sprintf("%s: %s", detail, text))
			}
		}
		rows.Close()
	}
	return out
}
