package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"tavrin/wire"
)

// scrape reads the metrics as a monitoring system does, with its parser.
func (w *town) scrape(login string) map[string]*dto.MetricFamily {
	w.t.Helper()
	r, err := http.NewRequestWithContext(w.t.Context(), "GET", w.url+"/metrics", nil)
	w.ok(err)
	r.Header.Set("Authorization", "Bearer "+w.tokens[login])
	resp, err := http.DefaultClient.Do(r)
	w.ok(err)
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		w.t.Fatalf("metrics: %s", resp.Status)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	all, err := parser.TextToMetricFamilies(resp.Body)
	w.ok(err)
	return all
}

// value is that of the metric of a family with these labels, each NAME=VALUE; -1: there is none.
func value(all map[string]*dto.MetricFamily, family string, labels ...string) float64 {
	if all[family] == nil {
		return -1
	}
search:
	for _, m := range all[family].GetMetric() {
		for _, l := range labels {
			name, want, _ := strings.Cut(l, "=")
			found := false
			for _, p := range m.GetLabel() {
				found = found || p.GetName() == name && p.GetValue() == want
			}
			if !found {
				continue search
			}
		}
		switch {
		case m.Gauge != nil:
			return m.GetGauge().GetValue()
		case m.Counter != nil:
			return m.GetCounter().GetValue()
		}
		return float64(m.GetHistogram().GetSampleCount())
	}
	return -1
}

func TestMetrics(t *testing.T) {
	w := newTown(t)
	w.begin(simple)
	d := w.aDestination()
	_, err := w.as("ines").CreateWebhook(t.Context(), wire.NewWebhook{Of: repo, Name: "changes", URL: d.URL, Events: []string{"change.*"}})
	w.ok(err)
	token, err := w.admin.CreateToken(t.Context(), wire.NewToken{Login: "admin", Name: "monitoring", ReadOnly: true})
	w.ok(err)
	w.tokens["monitoring"] = token.Secret
	before := w.scrape("monitoring")
	k := w.propose("tamsin", "topic", "a", "a\n")
	w.join("tamsin", k, "")
	d.until(t, 1)
	var all map[string]*dto.MetricFamily
	second := w.propose("wren", "second", "b", "b\n")
	w.approve("odo", second)
	w.join("wren", second, "")
	w.report(w.rehearsed(second), "unit", "passed")
	w.landed(second)
	w.scrape("monitoring") // what left a queue may be counted one scrape late
	for range 400 {        // what came of a try is counted a moment after the destination has it
		if all = w.scrape("monitoring"); value(all, "tavrin_webhook_delivery_seconds", "outcome=delivered") >= 1 {
			break
		}
		pause()
	}
	for _, c := range []struct {
		family string
		labels []string
		least  float64
	}{
		{"tavrin_events_total", []string{"kind=change.opened"}, value(before, "tavrin_events_total", "kind=change.opened") + 1},
		{"tavrin_events_total", []string{"kind=token.revoked"}, 0},
		{"tavrin_changes", []string{"state=open"}, 1},
		{"tavrin_queue_entries", []string{"repository=" + repo, "target=main", "state=waiting"}, 1},
		{"tavrin_queue_oldest_seconds", []string{"repository=" + repo, "target=main"}, 0},
		{"tavrin_queue_ended_total", []string{"repository=" + repo, "target=main", "how=landed"}, 1},
		{"tavrin_queue_stage_seconds", []string{"stage=ready"}, 1},
		{"tavrin_rehearsal_checks_total", []string{"state=passed", "again=false"}, 1},
		{"tavrin_rehearsal_check_seconds_total", nil, 0},
		{"tavrin_http_request_seconds", []string{"route=/api/v1/repositories/{house}/{name}/changes", "method=POST", "status=2xx"}, 1},
		{"tavrin_http_request_seconds", []string{"route=/git/*", "method=POST", "status=2xx"}, 1},
		{"tavrin_git_processes_total", []string{"command=index-pack"}, 1},
		{"tavrin_webhook_delivery_seconds", []string{"outcome=delivered"}, 1},
		{"tavrin_repositories_stopped", nil, 0},
		{"tavrin_rules_to_judge", nil, 0},
		{"tavrin_build_info", nil, 1},
		{"tavrin_gates_total", []string{"how=judged"}, 1},
		{"tavrin_gates_total", []string{"how=remembered"}, 0},
		{"tavrin_runners", nil, 0},
		{"go_goroutines", nil, 1},
	} {
		if got := value(all, c.family, c.labels...); got < c.least {
			t.Errorf("%s %v is %v, want at least %v", c.family, c.labels, got, c.least)
		}
	}
	for _, login := range []string{"ines", "pavo", "builder", ""} {
		r, _ := http.NewRequestWithContext(t.Context(), "GET", w.url+"/metrics", nil)
		if login != "" {
			r.Header.Set("Authorization", "Bearer "+w.tokens[login])
		}
		resp, err := http.DefaultClient.Do(r)
		w.ok(err)
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != 401 && resp.StatusCode != 403 || strings.Contains(string(text), repo) {
			t.Errorf("to %q metrics are answered %s: %.80s", login, resp.Status, text)
		}
	}
	// What the documentation's dashboard and table name is there.
	named := regexp.MustCompile(`\b(tavrin_[a-z_]+|process_[a-z_]+)\b`)
	for _, doc := range []string{"monitoring.md", "monitoring.dashboard.json"} {
		text, err := os.ReadFile("../docs/reference/" + doc)
		w.ok(err)
		for _, name := range named.FindAllString(string(text), -1) {
			family := strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_count")
			if all[family] == nil && !slices.Contains([]string{"tavrin_webhook_waiting", "tavrin_webhook_parked", "tavrin_checks"}, family) { // none now
				t.Errorf("%s names %s, which is not among the metrics", doc, name)
			}
		}
	}
	for _, f := range all { // no label names a person
		for _, m := range f.GetMetric() {
			for _, l := range m.GetLabel() {
				if v := l.GetValue(); v == "tamsin" || v == "ines" {
					t.Errorf("%s names %s", f.GetName(), v)
				}
			}
		}
	}
}

func TestReadiness(t *testing.T) {
	w := newTown(t)
	resp, err := http.Get(w.url + "/readyz")
	w.ok(err)
	defer resp.Body.Close()
	var answer struct {
		Ready bool
		Why   []string
	}
	w.ok(json.NewDecoder(resp.Body).Decode(&answer))
	if resp.StatusCode != 200 || !answer.Ready || len(answer.Why) != 0 {
		t.Errorf("it answers %s, %+v", resp.Status, answer)
	}
	w.service.Records.Close() // as when the disk is gone
	resp, err = http.Get(w.url + "/readyz")
	w.ok(err)
	defer resp.Body.Close()
	w.ok(json.NewDecoder(resp.Body).Decode(&answer))
	if resp.StatusCode != 503 || answer.Ready || len(answer.Why) == 0 {
		t.Errorf("without its records it answers %s, %+v", resp.Status, answer)
	}
}
