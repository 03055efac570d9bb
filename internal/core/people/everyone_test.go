package people

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
)

// However people are layered and whoever is asked for, those are found who are found by going through everybody.
func TestAmongIsGoingThroughEverybody(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	someone := func(login string) Person {
		p := Person{Login: login, Role: Roles[rng.IntN(len(Roles))], Robot: rng.IntN(6) == 0, Standby: rng.IntN(9) == 0}
		for _, team := range []string{"hydraulics", "accounts", "field"} {
			if rng.IntN(3) == 0 {
				p.Teams = append(p.Teams, team)
			}
		}
		return p
	}
	principals := []Principal{{ByTeam, "hydraulics"}, {ByTeam, "accounts"}, {ByTeam, "nobody"}, {ByRole, "reader"}, {ByRole, "writer"}, {ByRole, "maintainer"},
		{ByLogin, "grower-3"}, {ByRobot, "grower-3"}, {ByLogin, "nobody"}}
	found := 0
	for range 500 {
		house, own, all := map[string]Person{}, map[string]Person{}, map[string]Person{}
		for n := range rng.IntN(12) {
			login := fmt.Sprintf("grower-%d", n)
			house[login] = someone(login)
			all[login] = house[login]
		}
		for n := range rng.IntN(12) {
			if login := fmt.Sprintf("grower-%d", n); rng.IntN(2) == 0 {
				own[login] = someone(login)
				all[login] = own[login]
			}
		}
		for _, e := range []Everyone{Layered(CrowdOf(house), CrowdOf(own)), Known(all)} {
			who := []Principal{principals[rng.IntN(len(principals))], principals[rng.IntN(len(principals))]}[:1+rng.IntN(2)]
			var want []string
			for login, p := range all {
				if p.IsAny(who) {
					want = append(want, login)
				}
			}
			slices.Sort(want)
			var got []string
			for _, p := range e.Among(who) {
				got = append(got, p.Login)
			}
			if !slices.Equal(got, want) {
				t.Fatalf("of %v in %v and %v are %v, not %v", who, house, own, got, want)
			}
			if !reflect.DeepEqual(e.Map(), all) || e.Len() != len(all) {
				t.Fatalf("everybody is %v, not %v", e.Map(), all)
			}
			text, err := json.Marshal(e)
			var back Everyone
			if err == nil {
				err = json.Unmarshal(text, &back)
			}
			if err != nil || !reflect.DeepEqual(back.Map(), all) {
				t.Fatalf("read again it is %v, %v", back, err)
			}
			found += len(want)
		}
	}
	if found < 500 {
		t.Errorf("%d were found: the test says little", found)
	}
	if (Everyone{}).Len() != 0 || (Everyone{}).Named("wren").Login != "wren" || len((Everyone{}).Among(principals)) != 0 {
		t.Error("nobody is somebody")
	}
}
