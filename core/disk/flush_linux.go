package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

// Flush has all that was written to the file system of a folder on the disk
// when it returns.
func Flush(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
