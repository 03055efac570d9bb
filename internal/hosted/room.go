package hosted

import (
	"fmt"
	"syscall"
)

// Free is how much room is left on the disk of the repositories, in bytes.
func (d *Disk) Free() (uint64, error) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(d.dir, &disk); err != nil {
		return 0, fmt.Errorf("look at the disk: %w", err)
	}
	return disk.Bavail * uint64(disk.Bsize), nil
}

// Full says why nothing more is written to the repositories: less of the disk is left than the bound says. Empty: there is
// room, or it could not be found out, which whoever writes will see.
func (d *Disk) Full() string {
	free, err := d.Free()
	if least := uint64(max(0, d.Git.Bounds.DiskFree)); err == nil && free < least {
		return fmt.Sprintf("the disk is nearly full: %d MiB are left, and the bound disk.free-bytes is %d MiB", free>>20, least>>20)
	}
	return ""
}
