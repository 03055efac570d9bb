package records_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"tavrin/internal/records"
)

func TestPackedTextsAreTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 5000)
	for i := range noise {
		noise[i] = byte(rng.IntN(256))
	}
	for _, text := range []string{"", "short", strings.Repeat("a", 199), strings.Repeat("valve ", 10_000), string(noise), "ö" + strings.Repeat("\x00", 300)} {
		kept, err := records.Packed(text).Value()
		if err != nil {
			t.Fatal(err)
		}
		if packed, is := kept.([]byte); is && len(packed) >= len(text) {
			t.Errorf("%d bytes are kept as %d", len(text), len(packed))
		}
		var back records.Packed
		if err := back.Scan(kept); err != nil || string(back) != text {
			t.Errorf("%.20q comes back as %.20q, %v", text, back, err)
		}
	}
	long, err := records.Packed(strings.Repeat("valve ", 10_000)).Value()
	if packed, is := long.([]byte); err != nil || !is || len(packed) > 1000 {
		t.Errorf("a text that says one thing ten thousand times is kept as %T, %v", long, err)
	}
	var p records.Packed
	if p.Scan([]byte("not packed")) == nil || p.Scan(7) == nil {
		t.Error("what was never packed is taken")
	}
}
