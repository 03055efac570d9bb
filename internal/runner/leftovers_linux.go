package runner

import (
	"context"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// adoptOrphans makes this process the parent of whatever its jobs leave running, so that it can be found.
func adoptOrphans() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// endLeftovers ends every process that a job has left: its process group, and everything that descends from this
// process, which runs one job at a time and nothing else.
func endLeftovers(leader *os.Process) {
	if leader != nil {
		syscall.Kill(-leader.Pid, syscall.SIGKILL) // an error: it is gone
	}
	for range 50 {
		left := descendants(os.Getpid())
		if len(left) == 0 {
			return
		}
		for _, pid := range left {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		for {
			if pid, err := syscall.Wait4(-1, nil, syscall.WNOHANG, nil); pid <= 0 || err != nil {
				break
			}
		}
		time.Sleep(10 * time.Millisecond) // they are nobody's children here: nobody tells when they are gone
	}
}

// descendants lists the processes below a process, by what /proc says of parents.
func descendants(root int) []int {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	children := map[int][]int{}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		after := string(stat)[strings.LastIndexByte(string(stat), ')')+1:] // the name may hold anything
		if f := strings.Fields(after); len(f) > 1 {
			parent, _ := strconv.Atoi(f[1])
			children[parent] = append(children[parent], pid)
		}
	}
	var out []int
	for queue := children[root]; len(queue) > 0; queue = queue[1:] {
		out = append(out, queue[0])
		queue = append(queue, children[queue[0]]...)
	}
	return out
}

// usersRunning says whose processes there are.
func usersRunning() (map[int]bool, error) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil, err
	}
	users := map[int]bool{}
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		if info, err := os.Stat("/proc/" + e.Name()); err == nil {
			users[int(info.Sys().(*syscall.Stat_t).Uid)] = true
		}
	}
	return users, nil
}

// endUser ends every process of the job's user, wherever it hangs. It takes nobody else's: the user is the job's alone.
func (p *place) endUser() {
	for range 50 {
		running, err := usersRunning()
		if err != nil || !running[p.user] {
			return
		}
		end := p.command(context.Background(), "/", nil, "/bin/sh", "-c", "kill -9 -1")
		end.Run()                         // it ends itself too
		time.Sleep(10 * time.Millisecond) // nobody tells when another user's processes are gone
	}
}
