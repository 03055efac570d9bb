package service

import (
	"context"

	"tavrin/internal/records"
)

// Trouble lists what keeps the service from working, each in a few words; none: it can work.
func (s *Service) Trouble(ctx context.Context) []string {
	var why []string
	if _, err := s.Records.JournalEnd(ctx); err != nil {
		why = append(why, "the records cannot be read")
	}
	if err := s.Records.Note(ctx, func(*records.Tx) error { return nil }); err != nil {
		why = append(why, "the records cannot be written")
	}
	if _, err := s.Disk.Free(); err != nil {
		why = append(why, "the disk cannot be looked at")
	} else if full := s.Disk.Full(); full != "" {
		why = append(why, full)
	}
	return why
}
