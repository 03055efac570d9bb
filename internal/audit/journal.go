package audit

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"gorm.io/gorm"

	"tavrin/internal/accounts"
	"tavrin/internal/core/journal"
	"tavrin/internal/core/people"
	"tavrin/internal/problem"
	"tavrin/internal/records"
	"tavrin/wire"
)

const maxLines = 500

// Journal lists lines. Lines that belong to no repository are for administrators; others for those who may read
// their repository.
func (s *Auditor) Journal(ctx context.Context, a accounts.Actor, q wire.JournalQuery) ([]wire.JournalLine, error) {
	if q.After > 0 || q.From > 0 {
		return s.Following(ctx, a, q.Repository, max(q.After, q.From-1), q.Limit)
	}
	return s.lines(ctx, a, q.Repository, q.Limit, func(query *gorm.DB) *gorm.DB {
		if q.Before > 0 {
			query = query.Where("seq < ?", q.Before)
		}
		return query.Order("seq DESC")
	})
}

// Following is Journal for the lines after one, oldest first; after 0 is from the first line on.
func (s *Auditor) Following(ctx context.Context, a accounts.Actor, repository string, after int64, limit int) ([]wire.JournalLine, error) {
	return s.lines(ctx, a, repository, limit, func(query *gorm.DB) *gorm.DB { return query.Where("seq > ?", after).Order("seq") })
}

// Hear goes on with what somebody follows after a line: of one repository, or, with no name, of all that they may read at this moment.
// The newest lines are at hand; who is further behind is told from the records. It returns the line that was reached.
func (s *Auditor) Hear(ctx context.Context, a accounts.Actor, repository string, after int64, hear func(*records.Told) error) (int64, error) {
	told, recent := s.records.Recent(after)
	if !recent {
		lines, err := s.Following(ctx, a, repository, after, 200)
		for _, l := range lines {
			if err == nil {
				err = hear(&records.Told{Line: l})
			}
			after = l.Seq
		}
		return after, err
	}
	for _, t := range told {
		heard := repository == "" && a.Account().Admin
		if r := t.Repository; r != nil && !heard && (repository == "" || repository == r.Name) {
			var err error
			if heard, err = accounts.Reads(s.records.Read(ctx), a, r); err != nil {
				return after, err
			}
		}
		if heard {
			if err := hear(t); err != nil {
				return after, err
			}
		}
		after = t.Seq
		if repository != "" && (t.Repository == nil || slices.Contains(goesAway, t.Kind)) {
			// What is followed may be there no more, or have another name, or be no more for them.
			if _, err := s.Following(ctx, a, repository, after, 1); err != nil {
				return after, err
			}
		}
	}
	return after, nil
}

// goesAway are kinds of events of repositories after which one may be there no more under its name, or not for everybody. What is
// about people belongs to none.
var goesAway = []string{"repository.renamed", "repository.deleted", "repository.purged", "repository.edited", "role.granted"}

// lines reads those lines that an actor may read.
func (s *Auditor) lines(ctx context.Context, a accounts.Actor, repository string, limit int,
	which func(*gorm.DB) *gorm.DB) ([]wire.JournalLine, error) {
	snap := s.records.View(ctx)
	defer snap.Close()
	query := snap.DB.Limit(min(max(1, limit), maxLines))
	switch {
	case repository != "":
		repo, err := accounts.Reach(snap.DB, a, repository, people.Reader)
		if err != nil {
			return nil, err
		}
		query = query.Where("repository_id = ?", repo.ID)
	case !a.Known():
		return nil, problem.New(problem.SignInNeeded, "sign in to read the journal")
	case !a.Account().Admin:
		repos, err := accounts.Readable(snap.DB, a)
		if err != nil {
			return nil, err
		}
		ids := []int64{}
		for _, r := range repos {
			ids = append(ids, r.ID)
		}
		query = query.Where("repository_id IN ?", ids)
	}
	return readLines(which(query))
}

func readLines(query *gorm.DB) ([]wire.JournalLine, error) {
	var rows []records.JournalLine
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	lines := []wire.JournalLine{}
	for _, r := range rows {
		at, err := time.Parse(time.RFC3339Nano, r.At)
		if err != nil {
			return nil, fmt.Errorf("journal line %d: %w", r.Seq, err)
		}
		l := wire.JournalLine{Seq: r.Seq, At: at, Actor: r.Actor, Kind: r.Kind, Repository: r.Repository,
			Subject: r.Subject, Text: r.Text, Prev: r.Prev, Hash: r.Hash}
		if r.Data != "" {
			l.Data = json.RawMessage(r.Data)
		}
		lines = append(lines, l)
	}
	return lines, nil
}

// JournalHead returns the newest line's place and hash, signed: what somebody else is to keep, so that no earlier line
// can be altered unseen.
func (s *Auditor) JournalHead(ctx context.Context, a accounts.Actor) (wire.SignedHead, error) {
	if err := a.MustAdminister("exporting the journal's head"); err != nil {
		return wire.SignedHead{}, err
	}
	return s.head(ctx)
}

func (s *Auditor) head(ctx context.Context) (wire.SignedHead, error) {
	var last records.JournalLine
	err := s.records.Read(ctx).Order("seq DESC").Limit(1).Find(&last).Error
	return s.key.Head(journal.Head{Seq: last.Seq, Hash: last.Hash}), err
}

// SendHeads adds the journal's signed head to a file, a line each time, until the context ends: at once, and then
// regularly.
func (s *Auditor) SendHeads(ctx context.Context, file string, every time.Duration) {
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

func (s *Auditor) sendHead(ctx context.Context, file string) error {
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
