package areas

import (
	"slices"
	"testing"

	"tavrin/internal/core/glob"
	"tavrin/internal/core/rules"
)

// A path is in a touched area exactly when one of its patterns matches and no exclusion does, whatever they are.
func FuzzOf(f *testing.F) {
	f.Add("firmware/**", "**/*.md", "firmware/valves/a.md")
	f.Add("*", "{a,b}", "a")
	f.Fuzz(func(t *testing.T, include, exclude, path string) {
		list, err := glob.CompileList([]string{include, "!" + exclude})
		in, err1 := glob.Compile(include)
		out, err2 := glob.Compile(exclude)
		if err != nil || err1 != nil || err2 != nil {
			return
		}
		touched := Of([]rules.Area{{Name: "a", Paths: list}}, []string{path, path})
		want := in.Match(path) && !out.Match(path)
		if (len(touched) == 1) != want || (want && !slices.Equal(touched[0].Paths, []string{path, path})) {
			t.Errorf("%q in %q but %q: %v", path, include, exclude, touched)
		}
	})
}
