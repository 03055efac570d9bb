package service

import (
	"context"
	"fmt"
	"syscall"

	"tavrin/internal/records"
)

// leastRoom is how much room on the disk the service needs to take anything, in bytes.
const leastRoom = 200 << 20

// Trouble lists what keeps the service from working, each in a few words; none: it can work.
func (s *Service) Trouble(ctx context.Context) []string {
	var why []string
	if _, err := s.Records.JournalEnd(ctx); err != nil {
		why = append(why, "the records cannot be read")
	}
	if err := s.Records.Note(ctx, func(*records.Tx) error { return nil }); err != nil {
		why = append(why, "the records cannot be written")
	}
	var disk syscall.Statfs_t
	if err := syscall.Statfs(s.folder.Dir, &disk); err != nil {
		why = append(why, "the disk cannot be looked at")
	} else if left := disk.Bavail * uint64(disk.Bsize); left < leastRoom {
		why = append(why, fmt.Sprintf("only %d MiB of the disk are left", left>>20))
	}
	return why
}
