package near

import "testing"

func TestTo(t *testing.T) {
	known := []string{"growers/irrigation", "growers/handbook", "main", "maint", "unit", "valve-bench", "odo"}
	for word, want := range map[string]string{
		"growers/irigation": "growers/irrigation", "irrigation": "growers/irrigation", "Growers/Handbook": "growers/handbook", "mian": "main",
		"units": "unit", "uint": "unit", "valvebench": "valve-bench", "odi": "odo", "od": "", "o": "", "": "", "wren": "", "main": "maint", "mai": "main",
		"valves-benches": "", "unti": "unit", "ödo": "",
	} {
		if got := To(word, known); got != want {
			t.Errorf("%q is near %q, not %q", word, got, want)
		}
	}
	if got := Meant("irrigation", known); got != `; did you mean "growers/irrigation"?` {
		t.Error(got)
	}
	if got := Meant("wren", known); got != "" {
		t.Error(got)
	}
}

// The distance is one between names: none to itself, the same both ways, and no way round is shorter.
func TestDistanceIsOne(t *testing.T) {
	words := []string{"", "a", "ab", "ba", "main", "mian", "unit", "units", "valve", "vavle", "nuit"}
	for _, a := range words {
		for _, b := range words {
			d := distance(a, b)
			if d != distance(b, a) || (d == 0) != (a == b) || d > max(len(a), len(b)) {
				t.Errorf("%q and %q: %d, back %d", a, b, d, distance(b, a))
			}
		}
	}
	for pair, want := range map[[2]string]int{{"mian", "main"}: 1, {"unit", "units"}: 1, {"valve", "vavle"}: 1, {"kitten", "sitting"}: 3, {"", "abc"}: 3} {
		if got := distance(pair[0], pair[1]); got != want {
			t.Errorf("%q to %q is %d, not %d", pair[0], pair[1], got, want)
		}
	}
}
