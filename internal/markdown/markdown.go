// Package markdown turns what people write into HTML that is safe to show to others.
//
// It reads CommonMark (https://spec.commonmark.org) with the tables, task lists, strikethrough and bare links that many
// programs add to it. What comes out holds no scripts, styles, forms or frames, and loads nothing from elsewhere: an
// image is shown as a link to it. Text that is nested beyond any use is shown as it was typed.
package markdown

import (
	"bytes"
	"html"
	"regexp"
	"strings"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/renderer"
	"github.com/yuin/goldmark/util"
)

const (
	// maxCells is how many cells a table may have: its head says how many each of its rows has, whatever they say.
	maxCells = 5000
	// maxNested is how many marks of quotes, lists or brackets may open one after the other.
	maxNested = 40
)

var engine = goldmark.New(
	goldmark.WithExtensions(extension.Table, extension.Strikethrough, extension.TaskList, extension.Linkify),
	goldmark.WithRendererOptions(renderer.WithNodeRenderers(util.Prioritized(own{}, 100))),
)

var policy = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("p", "br", "hr", "em", "strong", "del", "code", "pre", "blockquote", "ul", "ol", "li", "h1", "h2",
		"h3", "h4", "h5", "h6", "table", "thead", "tbody", "tr", "th", "td")
	p.AllowAttrs("class").Matching(regexp.MustCompile(`^language-[A-Za-z0-9+#-]{1,40}$`)).OnElements("code")
	p.AllowAttrs("start").Matching(bluemonday.Integer).OnElements("ol")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("https", "http", "mailto")
	p.AllowRelativeURLs(true)
	p.RequireNoFollowOnLinks(true)
	p.RequireNoReferrerOnLinks(true)
	p.AllowAttrs("type").Matching(regexp.MustCompile(`^checkbox$`)).OnElements("input")
	p.AllowAttrs("checked", "disabled").Matching(regexp.MustCompile(`^$`)).OnElements("input")
	return p
}()

// own renders what is shown otherwise than usual: an image as a link, so that reading a text tells nobody that it was
// read; and HTML as it was typed, so that nobody wonders where their words went.
type own struct{}

// RegisterFuncs says which nodes it renders.
func (own) RegisterFuncs(r renderer.NodeRendererFuncRegisterer) {
	r.Register(ast.KindRawHTML, func(w util.BufWriter, source []byte, n ast.Node, entering bool) (ast.WalkStatus,
		error) {
		for i := range n.(*ast.RawHTML).Segments.Len() {
			if s := n.(*ast.RawHTML).Segments.At(i); entering {
				w.Write(util.EscapeHTML(s.Value(source)))
			}
		}
		return ast.WalkSkipChildren, nil
	})
	r.Register(ast.KindHTMLBlock, func(w util.BufWriter, source []byte, n ast.Node, entering bool) (ast.WalkStatus,
		error) {
		block := n.(*ast.HTMLBlock)
		if !entering {
			return ast.WalkContinue, nil
		}
		w.WriteString("<p>")
		for i := range block.Lines().Len() {
			s := block.Lines().At(i)
			w.Write(util.EscapeHTML(s.Value(source)))
		}
		if block.HasClosure() {
			w.Write(util.EscapeHTML(block.ClosureLine.Value(source)))
		}
		w.WriteString("</p>\n")
		return ast.WalkContinue, nil
	})
	r.Register(ast.KindImage, func(w util.BufWriter, _ []byte, n ast.Node, entering bool) (ast.WalkStatus, error) {
		if entering {
			w.WriteString(`<a href="`)
			w.Write(util.EscapeHTML(util.URLEscape(n.(*ast.Image).Destination, true)))
			w.WriteString(`">`)
		} else {
			w.WriteString("</a>")
		}
		return ast.WalkContinue, nil
	})
}

// Most says how long a text may be that is laid out, and what it is laid out as, in bytes. What is longer is shown as
// it was typed.
type Most struct {
	TextBytes, HTMLBytes int64
}

// HTML lays a text out. It never fails: what cannot be laid out is shown as it was typed.
func (m Most) HTML(text string) string {
	text = strings.ToValidUTF8(text, "\uFFFD")
	if strings.TrimSpace(text) == "" {
		return ""
	}
	if int64(len(text)) > m.TextBytes || tooDeep(text) || cells(text) > maxCells {
		return typed(text)
	}
	var out bytes.Buffer
	if err := engine.Convert([]byte(text), &out); err != nil {
		return typed(text)
	}
	if int64(len(bytes.TrimSpace(out.Bytes()))) > m.HTMLBytes {
		return typed(text)
	}
	laid := strings.TrimSpace(policy.Sanitize(out.String()))
	if int64(len(laid)) > m.HTMLBytes {
		return typed(text)
	}
	return laid
}

// cells is how many cells the tables of a text would have at most: as many in each line as the widest line of the text
// has.
func cells(text string) int {
	lines, widest := 0, 0
	for line := range strings.Lines(text) {
		if n := strings.Count(line, "|"); n > 0 {
			widest = max(widest, n+1)
		}
		lines++
	}
	return lines * widest
}

func typed(text string) string { return "<pre>" + html.EscapeString(text) + "</pre>" }

// tooDeep says whether marks that open a level stand one after the other more often than people do.
func tooDeep(text string) bool {
	for line := range strings.Lines(text) {
		depth := 0
		for _, c := range line {
			switch c {
			case '>', '[', '(', '*', '_', '<', '-', '+':
				if depth++; depth > maxNested && strings.Trim(line, "-*_= \t\r\n") != "" {
					return true
				}
			case ' ', '\t', '!':
			default:
				depth = 0
			}
		}
		if indent := len(line) - len(strings.TrimLeft(line, " \t")); indent > 4*maxNested {
			return true
		}
	}
	return false
}
