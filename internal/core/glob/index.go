package glob

import (
	"slices"
	"strings"
)

// Index answers for many lists at once which of them a path is in.
//
// Patterns hang in a tree by the folders that they begin with in so many words: "firmware/valves/*.c" hangs at
// firmware, valves with "*.c" left over, and "**/*.md" at the root. A path is led down its own folders, and at each
// only what hangs there is tried; of that, what is left over is mostly "everything below", one file name, or a name
// by its ending, which are looked up and not tried:
//
//	root ── firmware ── valves   below: list 0     endings: .c → list 3
//	  └ names at any depth: Makefile → list 1      endings at any depth: .md → list 2
//
// So the time for a path depends on its depth and on the patterns that nearly match, not on how many there are.
type Index struct {
	root  node
	lists int
}

// node is one folder of the tree. Rules are numbers into the patterns' verdicts: 2·list, plus 1 for an exclusion.
type node struct {
	folders map[string]*node
	below   []int            // everything below
	files   map[string][]int // that name, in this folder
	deep    map[string][]int // that name, at any depth
	endings map[string][]hung
	others  []hung
}

// hung is a rest that has to be matched.
type hung struct {
	rest row
	rule int
}

// NewIndex makes the index of lists; the numbers that Of returns are their places.
func NewIndex(lists []List) *Index {
	x := &Index{lists: len(lists)}
	for i, l := range lists {
		for _, p := range l.include {
			x.hang(p, 2*i)
		}
		for _, p := range l.exclude {
			x.hang(p, 2*i+1)
		}
	}
	return x
}

func (x *Index) hang(p Pattern, rule int) {
	for _, r := range p.rows {
		n := &x.root
		rest := r
		if len(r) > 0 && r[0].kind == literal {
			text := r[0].text
			for {
				folder, after, found := strings.Cut(text, "/")
				if !found {
					break
				}
				if n.folders == nil {
					n.folders = map[string]*node{}
				}
				if n.folders[folder] == nil {
					n.folders[folder] = &node{}
				}
				n, text = n.folders[folder], after
			}
			rest = r[1:]
			if text != "" {
				rest = append(row{{kind: literal, text: text}}, r[1:]...)
			}
		}
		n.put(rest, rule)
	}
}

func (n *node) put(rest row, rule int) {
	name := func(r row) bool { return len(r) == 1 && r[0].kind == literal && !strings.Contains(r[0].text, "/") }
	switch {
	case len(rest) == 1 && rest[0].kind == stars:
		n.below = append(n.below, rule)
		return
	case name(rest):
		if n.files == nil {
			n.files = map[string][]int{}
		}
		n.files[rest[0].text] = append(n.files[rest[0].text], rule)
		return
	case len(rest) == 2 && rest[0].kind == anyDepth && name(rest[1:]):
		if n.deep == nil {
			n.deep = map[string][]int{}
		}
		n.deep[rest[1].text] = append(n.deep[rest[1].text], rule)
		return
	}
	if len(rest) > 0 {
		if end := rest[len(rest)-1]; end.kind == literal && strings.Contains(end.text, ".") &&
			!strings.Contains(end.text[strings.LastIndexByte(end.text, '.'):], "/") {
			if n.endings == nil {
				n.endings = map[string][]hung{}
			}
			ending := end.text[strings.LastIndexByte(end.text, '.'):]
			n.endings[ending] = append(n.endings[ending], hung{rest, rule})
			return
		}
	}
	n.others = append(n.others, hung{rest, rule})
}

// Of returns the places of the lists that the path is in, in ascending order. It appends to into, which may be nil.
func (x *Index) Of(path string, into []int) []int {
	var space [16]int
	rules := space[:0]
	base := path[strings.LastIndexByte(path, '/')+1:]
	ending := ""
	if dot := strings.LastIndexByte(base, '.'); dot >= 0 {
		ending = base[dot:]
	}
	n, rest := &x.root, path
	for n != nil {
		rules = append(rules, n.below...)
		rules = append(rules, n.deep[base]...)
		if len(rest) == len(base) {
			rules = append(rules, n.files[base]...)
		}
		for _, h := range n.endings[ending] {
			if h.rest.match(rest) {
				rules = append(rules, h.rule)
			}
		}
		for _, h := range n.others {
			if h.rest.match(rest) {
				rules = append(rules, h.rule)
			}
		}
		folder, after, found := strings.Cut(rest, "/")
		if !found {
			break
		}
		n, rest = n.folders[folder], after
	}
	slices.Sort(rules)
	for i := 0; i < len(rules); {
		list, excluded := rules[i]/2, false
		for ; i < len(rules) && rules[i]/2 == list; i++ {
			excluded = excluded || rules[i]%2 == 1
		}
		if !excluded {
			into = append(into, list)
		}
	}
	return into
}
