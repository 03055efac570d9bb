package changes

import (
	"crypto/sha256"
	"encoding/hex"

	"tavrin/internal/bounds"
	"tavrin/internal/markdown"
	"tavrin/internal/recall"
)

// laidOut returns what lays out the texts of people as HTML: each once, however often it is read.
func laidOut(memory *recall.Memory, b *bounds.Bounds) func(text string) string {
	most := markdown.Most{TextBytes: b.MarkdownBytes, HTMLBytes: b.MarkdownHTML}
	weigh := func(html string) int { return 1 + len(html)>>10 }
	return func(text string) string {
		sum := sha256.Sum256([]byte(text))
		k := recall.Key{What: "html", Of: hex.EncodeToString(sum[:])}
		// which never fails
		html, _ := recall.Of(memory, k, weigh, func() (string, error) { return most.HTML(text), nil })
		return html
	}
}
