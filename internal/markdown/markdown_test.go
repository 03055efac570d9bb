package markdown

import (
	"regexp"
	"strings"
	"testing"
)

var most = Most{TextBytes: 64 << 10, HTMLBytes: 256 << 10}

func TestHTML(t *testing.T) {
	cases := []struct{ name, text, want string }{
		{"nothing", " \n", ""},
		{"words", "It *opens* **slowly**, ~~fast~~.", "<p>It <em>opens</em> <strong>slowly</strong>, <del>fast</del>.</p>"},
		{"code", "```go\nif a < b {}\n```", "<pre><code class=\"language-go\">if a &lt; b {}\n</code></pre>"},
		{"a link", "[docs](/growers/irrigation)", `<p><a href="/growers/irrigation" rel="nofollow noreferrer">docs</a></p>`},
		{"a bare link", "see https://fennmoor.example/a", `<p>see <a href="https://fennmoor.example/a" rel="nofollow noreferrer">https://fennmoor.example/a</a></p>`},
		{"a task", "- [x] done\n- [ ] open", "<ul>\n<li><input checked=\"\" disabled=\"\" type=\"checkbox\"> done</li>\n<li><input disabled=\"\" type=\"checkbox\"> open</li>\n</ul>"},
		{"a table", "|a|\n|-|\n|1|", "<table>\n<thead>\n<tr>\n<th>a</th>\n</tr>\n</thead>\n<tbody>\n<tr>\n<td>1</td>\n</tr>\n</tbody>\n</table>"},
		{"an image is a link", "![a valve](https://fennmoor.example/v.png)", `<p><a href="https://fennmoor.example/v.png" rel="nofollow noreferrer">a valve</a></p>`},
		{"HTML is shown as it was typed", "a <b onclick=\"x()\">c</b>", "<p>a &lt;b onclick=&#34;x()&#34;&gt;c&lt;/b&gt;</p>"},
		{"a block of HTML too", "<script>\nalert(1)\n</script>", "<p>&lt;script&gt;\nalert(1)\n&lt;/script&gt;</p>"},
		{"not UTF-8", "a\xffb", "<p>a\uFFFDb</p>"},
		{"a rule", strings.Repeat("-", 80), "<hr>"},
	}
	for _, c := range cases {
		if got := most.HTML(c.text); got != c.want {
			t.Errorf("%s: %q, not %q", c.name, got, c.want)
		}
	}
}

// Whatever is written, nothing in what comes out runs, loads or submits.
func TestNothingRuns(t *testing.T) {
	for _, text := range []string{
		"<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "[a](javascript:alert(1))", "[a](JaVaScRiPt:alert(1))", "[a](data:text/html,<script>alert(1)</script>)",
		"<a href=\"vbscript:x\" onclick=\"x()\">a</a>", "<svg/onload=alert(1)>", "<iframe src=//x></iframe>", "<style>*{}</style>", "<form action=/x><input type=submit></form>",
		"![a](javascript:alert(1))", "![x\" onerror=\"alert(1)](y)", "<div style=\"position:fixed\">a</div>", "```\" onmouseover=\"x\ncode\n```", "<base href=//x>", "<object data=x></object>",
	} {
		if bad := running.FindString(most.HTML(text)); bad != "" {
			t.Errorf("%q becomes %q: %s", text, most.HTML(text), bad)
		}
	}
}

// running matches what would run, load or submit: tags that are not words of a text, attributes that hold code, and
// addresses that are code.
var running = regexp.MustCompile(`(?i)<(script|img|svg|iframe|style|form|object|base|div|body|link|meta|video|audio)\b|<[a-z][^>]*\s(on[a-z]+|style|srcdoc)\s*=|(href|src)="\s*(javascript|vbscript|data):|type="submit`)

// What is nested without end, and what is too long, is shown as it was typed.
func TestEndlessNesting(t *testing.T) {
	for _, text := range []string{strings.Repeat("> ", 20000), strings.Repeat("[", 20000), strings.Repeat("- ", 10000) + "a", strings.Repeat("*a ", 100) + strings.Repeat("**", 8000) + "x", strings.Repeat(strings.Repeat(" ", 400)+"- a\n", 20), strings.Repeat("a", int(most.TextBytes)+1)} {
		if out := most.HTML(text); !strings.HasPrefix(out, "<pre>") || strings.Count(out, "<") != 2 {
			t.Errorf("%.20q… of %d bytes becomes %.60q", text, len(text), out)
		}
	}
}

func FuzzHTML(f *testing.F) {
	f.Add("> - [a](b) `c` <script>")
	f.Fuzz(func(t *testing.T, text string) {
		if bad := running.FindString(most.HTML(text)); bad != "" {
			t.Fatalf("%q becomes %q: %s", text, most.HTML(text), bad)
		}
	})
}
