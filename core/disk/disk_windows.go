package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// Free tells how many bytes may be written below a folder; known is false where
// the file system does not say.
func Free(dir string) (bytes int64, known bool) {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, false
	}
	var free uint64
	if windows.GetDiskFreeSpaceEx(name, &free, nil, nil) != nil {
		return 0, false
	}
	return int64(free), true
}

// Full tells whether an error says that a disk, or somebody's share of it, is
// full.
func Full(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL)
}

// Lock waits until no other process has the file locked, and locks it until it
// is closed.
func Lock(f *os.File) error { return lock(f, windows.LOCKFILE_EXCLUSIVE_LOCK) }

// TryLock locks the file until it is closed, or fails at once where another
// process has.
func TryLock(f *os.File) error {
	return lock(f, windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY)
}

func lock(f *os.File, how uint32) error {
	// one byte far behind the end, so that the file can be read and written
	at := &windows.Overlapped{OffsetHigh: 1 << 30}
	return windows.LockFileEx(windows.Handle(f.Fd()), how, 0, 1, 0, at)
}
