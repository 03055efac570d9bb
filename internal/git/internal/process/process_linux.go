package process

import "golang.org/x/sys/unix"

// restrict bounds a process that has just been started, and what it will start. Memory is what it may write to: packs
// that are only read are mapped and do not count.
func restrict(pid int, memory, seconds int64) {
	for resource, most := range map[int]int64{unix.RLIMIT_DATA: memory, unix.RLIMIT_CPU: seconds} {
		// A process that has ended already needs no bound.
		unix.Prlimit(pid, resource, &unix.Rlimit{Cur: uint64(most), Max: uint64(most + 1)}, nil)
	}
}
