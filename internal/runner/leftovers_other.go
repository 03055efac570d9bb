//go:build !linux

package runner

import (
	"context"
	"os"
	"syscall"
)

// adoptOrphans does nothing where the system cannot do it.
func adoptOrphans() error { return nil }

// endLeftovers ends the process group of a job; what has left the group cannot be found on this system.
func endLeftovers(leader *os.Process) {
	if leader != nil {
		syscall.Kill(-leader.Pid, syscall.SIGKILL) // an error: it is gone
	}
}

// usersRunning cannot be found out on this system.
func usersRunning() (map[int]bool, error) { return nil, nil }

// endUser ends every process of the job's user.
func (p *place) endUser() {
	p.command(context.Background(), "/", nil, "/bin/sh", "-c", "kill -9 -1").Run()
}
