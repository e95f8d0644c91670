package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"excavate/core/disk"
	"excavate/core/limit"
	"excavate/core/terms"
	"excavate/internal/store/db"
)

// Uploads arrive in pieces that are appended to files on disk; how long a
// file is says how far it is, so that an upload goes on where it stopped,
// after a lost connection or a killed server alike.

// UploadFile is one file that is to come.
type UploadFile struct {
	Path     string `json:"path"` // below the upload's own folder, with /
	Size     int64  `json:"size"`
	Modified int64  `json:"modified"` // milliseconds since 1970
}

// Upload is a file, or a folder of files, that is being dropped.
type Upload struct {
	ID       string       `json:"id"`
	Project  int64        `json:"project"`
	Name     string       `json:"name"`
	Folder   bool         `json:"folder"`
	Files    []UploadFile `json:"files"`
	Received []int64      `json:"-"` // bytes of each file
}

const mostUploadFiles = 200_000

var uploadLocks sync.Map // a lock a file, so that pieces do not mix

// BeginUpload readies an upload, or takes up one of the same files that was
// begun before.
func (s *Sources) BeginUpload(ctx context.Context, project int64, u Upload) (*Upload, error) {
	u.Project, u.Received = project, nil
	name := strings.Trim(u.Name, " ")
	if name == "" || name == "." || name == ".." || len(name) > limit.SegmentBytes || strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == '/' || r == '\\' }) {
		return nil, errorf(Invalid, "the upload needs a name of 1 to %d bytes, without / and control characters",
			limit.SegmentBytes)
	}
	if len(u.Files) == 0 || len(u.Files) > mostUploadFiles || !u.Folder && len(u.Files) != 1 {
		return nil, errorf(Invalid, "an upload has 1 to %d files", mostUploadFiles)
	}
	var total int64
	seen, folders := map[string]bool{}, map[string]string{}
	for i := range u.Files {
		f := &u.Files[i]
		if !u.Folder {
			f.Path = name
		}
		if !filepath.IsLocal(filepath.FromSlash(f.Path)) || strings.ContainsAny(f.Path, "\x00\\") || len(f.Path) > 1000 || path.Clean(f.Path) != f.Path || f.Size < 0 {
			return nil, errorf(Invalid, "file %d of the upload has no usable name or size: %.100q", i+1, f.Path)
		}
		if seen[f.Path] {
			return nil, errorf(Invalid, "file %d of the upload, %.100q, is named twice", i+1, f.Path)
		}
		seen[f.Path] = true
		for dir := f.Path; dir != "."; dir = path.Dir(dir) {
			if len(path.Base(dir)) > limit.SegmentBytes {
				return nil, errorf(Invalid, "file %d of the upload, %.100q, has a name of more than %d bytes",
					i+1, f.Path, limit.SegmentBytes)
			}
			if dir != f.Path {
				folders[dir] = f.Path
			}
		}
		if total += f.Size; total > limit.EntryBytes {
			return nil, errorf(TooLarge, "the upload has more than %d bytes", int64(limit.EntryBytes))
		}
	}
	for dir, in := range folders {
		if seen[dir] {
			return nil, errorf(Invalid, "%.100q is a file of the upload and a folder as well, of %.100q", dir, in)
		}
	}
	u.ID = ""
	b, err := json.Marshal(u)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(b)
	u.ID = hex.EncodeToString(sum[:12])
	if old, err := s.UploadAt(u.ID); err == nil {
		return old, nil
	}
	if err := os.MkdirAll(s.uploads(), 0o755); err != nil {
		return nil, err
	}
	if free, known := disk.Free(s.uploads()); known && free < total+disk.Keep {
		return nil, errorf(Full, "the upload has %d bytes and the disk of %s has %d left; "+
			"put it in a library folder and add it by path", total, s.uploads(), free)
	}
	if b, err = json.Marshal(u); err != nil {
		return nil, err
	}
	if err := writeWhole(filepath.Join(s.uploads(), u.ID, "upload.json"), b); err != nil {
		return nil, err
	}
	return s.UploadAt(u.ID)
}

// UploadAt reads how far an upload is.
func (s *Sources) UploadAt(id string) (*Upload, error) {
	if _, err := hex.DecodeString(id); err != nil || len(id) != 24 {
		return nil, errorf(NotFound, "there is no upload %.40q", id)
	}
	b, err := os.ReadFile(filepath.Join(s.uploads(), id, "upload.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errorf(NotFound, "there is no upload %s; begin it again", id)
	}
	if err != nil {
		return nil, err
	}
	var u Upload
	if err := json.Unmarshal(b, &u); err != nil {
		return nil, err
	}
	u.Received = make([]int64, len(u.Files))
	for i, f := range u.Files {
		if st, err := os.Stat(s.uploadFile(&u, f)); err == nil {
			u.Received[i] = st.Size()
		}
	}
	return &u, nil
}

// root is the folder or file that an upload becomes.
func (s *Sources) uploadRoot(u *Upload) string {
	return filepath.Join(s.uploads(), u.ID, "files", u.Name)
}

func (s *Sources) uploadFile(u *Upload, f UploadFile) string {
	if !u.Folder {
		return s.uploadRoot(u)
	}
	return filepath.Join(s.uploadRoot(u), filepath.FromSlash(f.Path))
}

// Append adds a piece to a file of an upload. off must be where the file ends
// now; the new end is returned, also with an error.
func (s *Sources) Append(id string, file int, off int64, r io.Reader) (int64, error) {
	u, err := s.UploadAt(id)
	if err != nil {
		return 0, err
	}
	if file < 0 || file >= len(u.Files) {
		return 0, errorf(NotFound, "the upload has %d files, not a number %d", len(u.Files), file)
	}
	l, _ := uploadLocks.LoadOrStore(fmt.Sprint(id, file), &sync.Mutex{})
	mu := l.(*sync.Mutex)
	if !mu.TryLock() {
		return u.Received[file], errorf(Conflict, "another piece of %s is still arriving", u.Files[file].Path)
	}
	defer mu.Unlock()
	name := s.uploadFile(u, u.Files[file])
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return 0, err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	if st.Size() != off {
		return st.Size(), errorf(Conflict, "%s has %d bytes here; go on from there, not from %d",
			u.Files[file].Path, st.Size(), off)
	}
	n, err := io.Copy(f, io.LimitReader(r, u.Files[file].Size-off+1))
	switch {
	case off+n > u.Files[file].Size:
		f.Truncate(u.Files[file].Size)
		return u.Files[file].Size, errorf(Invalid,
			"%s is longer than the %d bytes that were announced; it changes while it is read",
			u.Files[file].Path, u.Files[file].Size)
	case disk.Full(err):
		return off + n, errorf(Full,
			"the disk of %s is full; make room and drop the file again, it goes on from %d bytes", s.uploads(), off+n)
	case err != nil:
		return off + n, errorf(Invalid, "the piece broke off after %d bytes: %v", n, err)
	}
	return off + n, nil
}

// FinishUpload mounts what was uploaded, once all of it is there.
func (s *Sources) FinishUpload(ctx context.Context, id string) (int64, error) {
	u, err := s.UploadAt(id)
	if err != nil {
		return 0, err
	}
	for i, f := range u.Files {
		if f.Size == 0 && u.Received[i] == 0 { // a file without bytes had no piece
			if _, err := s.Append(id, i, 0, strings.NewReader("")); err != nil {
				return 0, err
			}
		}
		if u.Received[i] != f.Size {
			return 0, errorf(Conflict, "%s has %d of %d bytes yet", f.Path, u.Received[i], f.Size)
		}
		if f.Modified > 0 {
			at := time.UnixMilli(f.Modified)
			os.Chtimes(s.uploadFile(u, f), at, at)
		}
	}
	return s.addSource(ctx, db.CreateSourceParams{ProjectID: u.Project, Path: s.uploadRoot(u), Label: u.Name, Origin: "upload", Rights: asJSON(terms.Terms{})})
}

// CancelUpload forgets an upload that no source uses.
func (s *Sources) CancelUpload(ctx context.Context, id string) error {
	u, err := s.UploadAt(id)
	if err != nil {
		return err
	}
	s.dropCopy(ctx, db.Source{Path: s.uploadRoot(u)})
	return nil
}
