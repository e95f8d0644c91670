//go:build unix

package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Free tells how many bytes may be written below a folder; known is false where
// the file system does not say.
func Free(dir string) (bytes int64, known bool) {
	var st unix.Statfs_t
	if unix.Statfs(dir, &st) != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}

// Full tells whether an error says that a disk, or somebody's share of it, is
// full.
func Full(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }

// Lock waits until no other process has the file locked, and locks it until it
// is closed.
func Lock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX) }

// TryLock locks the file until it is closed, or fails at once where another
// process has.
func TryLock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }
