package people

import "testing"

func TestWhoIsMeant(t *testing.T) {
	odo := Person{Login: "odo", Role: Writer, Teams: []string{"hydraulics"}}
	barn := Person{Login: "barn", Role: Writer, Robot: true}
	for _, c := range []struct {
		who       Principal
		odo, barn bool
	}{
		{Principal{ByLogin, "odo"}, true, false}, {Principal{ByLogin, "barn"}, false, false}, {Principal{ByRobot, "barn"}, false, true},
		{Principal{ByRobot, "odo"}, false, false}, {Principal{ByTeam, "hydraulics"}, true, false}, {Principal{ByRole, "reader"}, true, true},
		{Principal{ByRole, "maintainer"}, false, false}, {Principal{"planet", "odo"}, false, false},
	} {
		if odo.Is(c.who) != c.odo || barn.Is(c.who) != c.barn {
			t.Errorf("%s means odo: %v, and barn: %v", c.who, odo.Is(c.who), barn.Is(c.who))
		}
	}
	if odo.IsAny(nil) || !odo.IsAny([]Principal{{ByLogin, "wren"}, {ByTeam, "hydraulics"}}) {
		t.Error("one of several is not meant rightly")
	}
	if Names(nil) != "nobody" || Names([]Principal{{ByLogin, "odo"}, {ByRole, "writer"}}) != "person:odo, role:writer" {
		t.Error("they are named otherwise")
	}
}
