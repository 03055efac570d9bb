package moves

// mostNoted is how many moves of a repository are known one by one.
const mostNoted = 1000

// noted is the newest moves of a repository's refs, for those who judge before they have its lock.
type noted struct {
	base uint64 // moves before the first of them
	refs []string
}

// Note notes that refs of a repository are about to move. Its lock is held.
func (m *Moves) Note(repo int64, refs ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := m.notedOf(repo)
	n.refs = append(n.refs, refs...)
	if more := len(n.refs) - mostNoted; more > mostNoted {
		n.base += uint64(more)
		n.refs = append([]string{}, n.refs[more:]...)
	}
}

func (m *Moves) notedOf(repo int64) *noted {
	if m.noted[repo] == nil {
		m.noted[repo] = &noted{}
	}
	return m.noted[repo]
}

// Noted is how many moves of a repository are noted by now.
func (m *Moves) Noted(repo int64) uint64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := m.notedOf(repo)
	return n.base + uint64(len(n.refs))
}

// NotedSince lists the refs that were about to move since so many moves were noted; false: that is too long ago.
func (m *Moves) NotedSince(repo int64, seen uint64) ([]string, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := m.notedOf(repo)
	if seen < n.base {
		return nil, false
	}
	return n.refs[seen-n.base:], true
}
