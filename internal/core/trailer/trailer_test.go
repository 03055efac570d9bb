package trailer

import (
	"strings"
	"testing"
)

func TestReserved(t *testing.T) {
	for _, c := range []struct{ message, want string }{
		{"Open the valve\n\nApproved-by: Odo <odo@fennmoor.example>\n", "Approved-by"},
		{"Open\n\nAPPROVED-BY : x", "APPROVED-BY"},
		{"Open\n\n  landed-change:\n  growers/irrigation 7", "landed-change"},
		{"Open\r\n\r\nLanded-change: x 7\r\n", "Landed-change"},
		{"Open\rLanded-change: x", "Landed-change"},
		{"Open\u2028Approved-by: x", "Approved-by"},
		{"Open\n\nAppro\u200bved-by: x", "Approved-by"},
		{"Open\n\nApproved\u2010by: x", "Approved-by"},
		{"Open\n\nApproved-by\u00a0： x", "Approved-by"},
		{"Open\x00\nApproved-by: x", "Approved-by"},
		{"Open\x01\n\x01Approved-by: x", "Approved-by"},
		{"Approved-by nobody yet", ""},
		{"It was Approved-by: nobody", ""},
		{"Co-authored-by: Odo <odo@fennmoor.example>", ""},
		{"", ""},
	} {
		if got := Reserved(c.message); got != c.want {
			t.Errorf("%q: %q, not %q", c.message, got, c.want)
		}
		if left := Drop(c.message); Reserved(left) != "" {
			t.Errorf("%q leaves %q", c.message, left)
		} else if c.want == "" && left != c.message {
			t.Errorf("%q became %q", c.message, left)
		}
	}
	if Typed("x\n\nco-authored-by: y") == "" || DropTyped("x\n\nco-authored-by: y\n z\nend\n") != "x\n\nend\n" {
		t.Error("co-authors typed for a landing")
	}
}

func FuzzDrop(f *testing.F) {
	f.Add("Open\n\nApproved-by: x\n y\n")
	f.Fuzz(func(t *testing.T, message string) {
		left := Drop(message)
		if got := Reserved(left); got != "" {
			t.Errorf("%q leaves %q", message, got)
		}
		if Drop(left) != left || len(left) > len(message) {
			t.Errorf("dropping twice from %q differs", message)
		}
		if Reserved(message) == "" && left != message {
			t.Errorf("%q has none and became %q", message, left)
		}
		if strings.Contains(left, "Landed-change: ") && strings.HasPrefix(left, "Landed-change: ") {
			t.Errorf("%q is left", left)
		}
	})
}
