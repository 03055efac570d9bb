package api

import (
	"encoding/json"
	"strings"
	"testing"

	"tavrin/wire"
)

// Every call that clients can make is served under its name, and what is served besides is what takes no JSON.
func TestEveryOperationIsServed(t *testing.T) {
	text, err := Description()
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Summary     string
			Tags        []string
		}
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		t.Fatal(err)
	}
	names := map[string]bool{}
	for _, o := range wire.Operations() {
		if names[o.ID] {
			t.Errorf("two calls are named %s", o.ID)
		}
		names[o.ID] = true
		served := doc.Paths[o.Path][strings.ToLower(o.Method)]
		if served.OperationID != o.ID || served.Summary != o.Summary || len(served.Tags) != 1 || served.Tags[0] != o.Of {
			t.Errorf("%s %s is served as %+v, not as %s, %q of %s", o.Method, o.Path, served, o.ID, o.Summary, o.Of)
		}
	}
	for path, methods := range doc.Paths {
		for method, o := range methods {
			if raw := o.OperationID == "stream-events" || o.OperationID == "get-job-pack"; !raw && !names[o.OperationID] {
				t.Errorf("%s %s, %s, is not among the calls", method, path, o.OperationID)
			}
		}
	}
	if len(names) < 100 {
		t.Errorf("there are %d calls", len(names))
	}
}
