package service

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/core/gate"
	"tavrin/internal/core/journal"
	"tavrin/internal/store"
	"tavrin/wire"
)

// broker tells listeners that the journal has grown. They read the lines themselves, so none is ever missed.
type broker struct {
	mu     sync.Mutex
	grown  chan struct{} // closed at the next announcement
	closed chan struct{}
}

func newBroker() *broker {
	return &broker{grown: make(chan struct{}), closed: make(chan struct{})}
}

func (b *broker) announce() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.grown)
	b.grown = make(chan struct{})
}

func (b *broker) next() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.grown
}

func (b *broker) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-b.closed:
	default:
		close(b.closed)
	}
}

// EndStreams makes every listener of the journal stop, before the server shuts down.
func (s *Service) EndStreams() { s.broker.close() }

// StreamsEnded is closed when listeners are to stop.
func (s *Service) StreamsEnded() <-chan struct{} { return s.broker.closed }

// Grown returns a channel that is closed when the journal next grows. Ask for it before reading, so that nothing
// is missed between reading and waiting.
func (s *Service) Grown() <-chan struct{} { return s.broker.next() }

const maxLines = 500

// JournalQuery selects lines of the journal.
type JournalQuery struct {
	Repository string // empty: all that the actor may read
	After      int64  // lines with a higher number, oldest first
	Before     int64  // with After 0: lines with a lower number, newest first; 0: from the newest
	Limit      int
}

// Journal lists lines. Lines that belong to no repository are for administrators; others for those who may read
// their repository.
func (s *Service) Journal(ctx context.Context, a Actor, q JournalQuery) ([]wire.JournalLine, error) {
	db := s.store.Read(ctx)
	query := db.Limit(min(max(1, q.Limit), maxLines))
	if q.Repository != "" {
		repo, err := s.reach(db, a, q.Repository, gate.Reader)
		if err != nil {
			return nil, err
		}
		query = query.Where("repository_id = ?", repo.ID)
	} else {
		if !a.Known() {
			return nil, problem(SignInNeeded, "sign in to read the journal")
		}
		if !a.account.Admin {
			repos, err := s.readable(db, a)
			if err != nil {
				return nil, err
			}
			ids := []int64{}
			for _, r := range repos {
				ids = append(ids, r.ID)
			}
			query = query.Where("repository_id IN ?", ids)
		}
	}
	switch {
	case q.After > 0:
		query = query.Where("seq > ?", q.After).Order("seq")
	case q.Before > 0:
		query = query.Where("seq < ?", q.Before).Order("seq DESC")
	default:
		query = query.Order("seq DESC")
	}
	return readLines(query)
}

func readLines(query *gorm.DB) ([]wire.JournalLine, error) {
	var rows []store.JournalLine
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	lines := []wire.JournalLine{}
	for _, r := range rows {
		at, err := time.Parse(time.RFC3339Nano, r.At)
		if err != nil {
			return nil, fmt.Errorf("journal line %d: %w", r.Seq, err)
		}
		l := wire.JournalLine{Seq: r.Seq, At: at, Actor: r.Actor, Kind: r.Kind, Repository: r.Repository, Subject: r.Subject, Text: r.Text, Prev: r.Prev, Hash: r.Hash}
		if r.Data != "" {
			l.Data = json.RawMessage(r.Data)
		}
		lines = append(lines, l)
	}
	return lines, nil
}

// JournalEnd returns the number of the newest line.
func (s *Service) JournalEnd(ctx context.Context) (int64, error) {
	var seq int64
	err := s.store.Read(ctx).Raw("SELECT ifnull(max(seq), 0) FROM journal_lines").Scan(&seq).Error
	return seq, err
}

// JournalHead returns the newest line's place and hash, signed: what somebody else is to keep, so that no earlier line can be
// altered unseen.
func (s *Service) JournalHead(ctx context.Context, a Actor) (wire.SignedHead, error) {
	if err := a.mustAdminister("exporting the journal's head"); err != nil {
		return wire.SignedHead{}, err
	}
	return s.head(ctx)
}

func (s *Service) head(ctx context.Context) (wire.SignedHead, error) {
	var last store.JournalLine
	err := s.store.Read(ctx).Order("seq DESC").Limit(1).Find(&last).Error
	return s.signHead(journal.Head{Seq: last.Seq, Hash: last.Hash}), err
}

// SendHeads adds the journal's signed head to a file, a line each time, until the context ends: at once, and then regularly.
func (s *Service) SendHeads(ctx context.Context, file string, every time.Duration) {
	for {
		if err := s.sendHead(ctx, file); err != nil && ctx.Err() == nil {
			s.log.Error("the journal's head could not be sent out", "file", file, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(every, time.Second)):
		}
	}
}

func (s *Service) sendHead(ctx context.Context, file string) error {
	head, err := s.head(ctx)
	if err != nil {
		return err
	}
	line, err := json.Marshal(head)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Close())
}

// HeadText is what the signature of a journal head is over.
func HeadText(h journal.Head) []byte {
	return fmt.Appendf(nil, "tavrin journal head\n%d\n%s\n", h.Seq, h.Hash)
}

func (s *Service) signHead(h journal.Head) wire.SignedHead {
	return wire.SignedHead{
		JournalHead: h, PublicKey: base64.StdEncoding.EncodeToString(s.key.Public().(ed25519.PublicKey)),
		Signature: base64.StdEncoding.EncodeToString(ed25519.Sign(s.key, HeadText(h))),
	}
}
