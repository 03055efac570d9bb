package intake

import (
	"context"
	"errors"
	"strings"
	"sync"

	"tavrin/internal/core/guard"
	"tavrin/internal/freezes"
	"tavrin/internal/git/transport"
	"tavrin/internal/records"
)

// Many push to one repository at once, mostly to branches of their own. Each push is judged before the repository's lock is taken, and its
// objects let in. Whoever has the lock then carries out all that wait for it: what each was judged by is compared with what there is now;
// the intents of all are put on record in one transaction, the refs moved by one run of Git, and what came of it recorded in another. So
// the disk is waited for as often for forty as for one. A push of which anything is different now, or that depends on more than its own
// refs, is judged again under the lock, by itself.

// mostTogether is how many pushes are carried out at once.
const mostTogether = 40

// part is one push on its way.
type part struct {
	push    *push
	in      *transport.Incoming
	wanted  []wantedMove
	seen    uint64 // the moves of the repository that were known when it was judged
	access  uint64 // the last write to what people may do, then
	simple  bool   // it may be carried out with others, if nothing has come in between
	results []transport.Result
	lines   []string

	turn chan struct{} // it is to carry out what waits
	done chan struct{}
}

// prepare judges a push before the lock is taken. Where that does not work it is judged under it, which says why.
func (p *push) prepare(ctx context.Context, in *transport.Incoming) *part {
	x := &part{push: p, in: in, turn: make(chan struct{}, 1), done: make(chan struct{})}
	if in.Atomic || len(p.takes) > 0 {
		return x
	}
	x.seen = p.s.moves.Noted(p.repo.ID)
	access, certain := records.Edition(p.s.records.Read(ctx), records.Access)
	x.access = access
	verdicts, err := p.judge(ctx, in)
	if err != nil || !certain {
		return x
	}
	for i, v := range verdicts {
		branch, isBranch := strings.CutPrefix(in.Updates[i].Ref, "refs/heads/")
		protected := isBranch && p.force.Now().For(branch).Protected // which depends on where other branches stand
		if !v.Allowed || v.LeftOut || v.Permit != 0 || protected || in.Updates[i].New == "" {
			return x
		}
	}
	if p.apart || in.Admit() != nil {
		return x
	}
	x.simple = true
	x.results, x.lines, x.wanted = p.sorted(in, verdicts)
	return x
}

// still says whether everything that a push was judged by is as it was. The lock is held.
func (x *part) still(ctx context.Context) bool {
	p := x.push
	if !x.simple || p.s.access.Still(ctx, p.a) != nil {
		return false
	}
	if access, certain := records.Edition(p.s.records.Read(ctx), records.Access); !certain || access != x.access {
		return false
	}
	standing, err := freezes.InForce(p.s.records.Read(ctx), p.repo, p.s.records.Now())
	if err != nil || standing.IDs != p.stops {
		return false
	}
	since, known := p.s.moves.NotedSince(p.repo.ID, x.seen)
	if !known {
		return false
	}
	refs := p.bare.RefFiles()
	for _, w := range x.wanted {
		if at, err := refs.At(w.Ref); err != nil || at != w.Old {
			return false
		}
		for _, moved := range since {
			if besides(w.Ref, moved) {
				return false
			}
		}
	}
	return true
}

// besides says whether two refs cannot both be new, or are the same: by their likeness, or since one would be a folder of the other.
func besides(a, b string) bool {
	a, b = guard.Likeness(a), guard.Likeness(b)
	return a == b || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
}

// line is the pushes that wait for a repository's lock.
type line struct {
	mu      sync.Mutex
	waiting []*part
	led     bool // one of them carries them out, or is about to
}

// lines are those of all repositories. Its zero value is ready.
type lines struct {
	mu    sync.Mutex
	repos map[int64]*line
}

func (l *lines) of(repo int64) *line {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.repos == nil {
		l.repos = map[int64]*line{}
	}
	if l.repos[repo] == nil {
		l.repos[repo] = &line{}
	}
	return l.repos[repo]
}

// carryOut has a push carried out: by whoever is at it, or by itself with those that wait.
func (l *line) carryOut(ctx context.Context, s *Intake, x *part) {
	l.mu.Lock()
	l.waiting = append(l.waiting, x)
	first := !l.led
	l.led = true
	l.mu.Unlock()
	if !first {
		select {
		case <-x.done:
			return
		case <-x.turn:
		}
	}
	l.lead(ctx, s, x)
}

// lead takes the lock, carries out what waits, and has the next go on that has come meanwhile.
func (l *line) lead(ctx context.Context, s *Intake, x *part) {
	var parts []*part
	take := func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		n := min(mostTogether, len(l.waiting))
		parts, l.waiting = l.waiting[:n:n], l.waiting[n:]
	}
	defer func() {
		// Whatever happened: nobody waits for a leader that is gone.
		for _, other := range parts {
			close(other.done)
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.led = len(l.waiting) > 0; l.led {
			l.waiting[0].turn <- struct{}{}
		}
	}()
	unlock, err := s.moves.Lock(ctx, x.push.repo)
	take()
	if err != nil {
		for _, other := range parts {
			other.results, other.lines = other.push.failed(other.in, err)
		}
		return
	}
	defer unlock()
	repo := *x.push.repo
	for _, other := range parts {
		*other.push.repo = repo
	}
	s.together(ctx, &repo, parts)
}

// together carries out pushes: those of which nothing is different all at once, the others one after the other.
func (s *Intake) together(ctx context.Context, repo *records.Repository, parts []*part) {
	var at, apart []*part
	var taken []string
	for _, x := range parts {
		goes := x.still(ctx)
		for _, w := range x.wanted {
			for _, other := range taken {
				goes = goes && !besides(w.Ref, other)
			}
		}
		if !goes {
			apart = append(apart, x)
			continue
		}
		for _, w := range x.wanted {
			taken = append(taken, w.Ref)
		}
		at = append(at, x)
	}
	if len(at) > 0 && !s.allAtOnce(ctx, repo, at) {
		apart = append(at, apart...)
	}
	for _, x := range apart {
		x.results, x.lines = x.push.alone(ctx, x.in)
	}
}

// allAtOnce carries out pushes together, and says whether it did: else nothing was done yet.
func (s *Intake) allAtOnce(ctx context.Context, repo *records.Repository, parts []*part) bool {
	intents, err := s.intend(ctx, parts)
	if errors.Is(err, errRulesMoved) {
		return false
	}
	if err != nil {
		for _, x := range parts {
			x.results, x.lines = x.push.failed(x.in, err)
		}
		return true
	}
	s.moves.At("push:intended")
	var all []wantedMove
	for _, x := range parts {
		all = append(all, x.wanted...)
	}
	told, refused := s.moveAll(ctx, repo, all, intents, false)
	n := 0
	for _, x := range parts {
		for _, w := range x.wanted {
			x.results[w.place].Refused = refused[n]
			x.lines = append(x.lines, told[n]...)
			n++
		}
	}
	return true
}
