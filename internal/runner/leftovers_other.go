//go:build !linux

package runner

import (
	"os"
	"syscall"
)

// adoptOrphans does nothing where the system cannot do it.
func adoptOrphans() error { return nil }

// endLeftovers ends the process group of a job; what has left the group cannot be found on this system.
func endLeftovers(leader *os.Process) {
	if leader != nil {
		syscall.Kill(-leader.Pid, syscall.SIGKILL)
	}
}
