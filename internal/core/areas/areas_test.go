package areas

import (
	"fmt"
	"testing"

	"tavrin/internal/core/rules"
)

func TestOfTouchesEveryMatchingArea(t *testing.T) {
	doc, findings := rules.Parse(`tavrin: rules/1
areas:
  valves: {paths: ["firmware/valves/**", "!**/*.md"], owners: team:hydraulics}
  firmware: {paths: "firmware/**", owners: team:firmware}
  docs: {paths: "**/*.md", owners: team:field}
`)
	if findings != nil {
		t.Fatal(findings)
	}
	got := ""
	for _, touched := range Of(doc.Areas, []string{"firmware/valves/east.prog", "firmware/valves/README.md", "ledger/x"}) {
		got += fmt.Sprintf("%s%v ", touched.Area.Name, touched.Paths)
	}
	want := "docs[firmware/valves/README.md] firmware[firmware/valves/east.prog firmware/valves/README.md] valves[firmware/valves/east.prog] "
	if got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
	if len(Of(doc.Areas, nil)) != 0 {
		t.Error("nothing changed and an area is touched")
	}
}
