//go:build !linux

package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Flush has the files of a folder on the disk when it returns: other systems
// flush no file system at once, so each file is.
func Flush(dir string) error {
	return filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if errors.Is(err, fs.ErrPermission) { // somebody else's
			return nil
		}
		if err != nil {
			return err
		}
		defer f.Close()
		return f.Sync()
	})
}
