package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"excavate/core/limit"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/gzip"
)

// sevenZip is a 7z archive. Entries of one block (a solid stream) are
// unpacked in order; reading them in another order unpacks the block anew.
type sevenZip struct {
	f     *file
	files []*sevenzip.File
}

func (s *Source) openSevenZip(ctx context.Context, f *file) (err error) {
	defer caught(&err)
	if err := checkSeven(f, f.size); err != nil {
		return fmt.Errorf("not a sound 7z: %w", err)
	}
	z, err := sevenzip.NewReader(f, f.size)
	if err != nil {
		return fmt.Errorf("not a sound 7z: %w", sevenTrouble(err))
	}
	if len(z.File) > limit.Entries {
		return fmt.Errorf("more than %d entries", limit.Entries)
	}
	b := &sevenZip{f: f}
	s.back = b
	// In the order of the blocks, so that one pass in order unpacks each once.
	files := append([]*sevenzip.File(nil), z.File...)
	sort.SliceStable(files, func(i, j int) bool { return files[i].Stream < files[j].Stream })
	for _, zf := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !zf.FileInfo().Mode().IsRegular() {
			if !zf.FileInfo().IsDir() {
				s.problem(zf.Name, -1, "it is a link or a device file and was left out")
			} else if err := s.folder(zf.Name); err != nil {
				return err
			}
			continue
		}
		e := Entry{Size: int64(zf.UncompressedSize), Packed: -1, Codec: "7z", Offset: -1, Block: int32(zf.Stream)}
		if e.Size < 0 || e.Size > limit.EntryBytes {
			e.Err = fmt.Errorf("declares %d bytes, more than the %d that one entry may have", zf.UncompressedSize, int64(limit.EntryBytes))
		}
		b.files = append(b.files, zf)
		if err := s.add(e, strings.TrimSuffix(zf.Name, "/")); err != nil {
			return err
		}
	}
	return nil
}

// caught turns a panic of a library on hostile bytes into an error.
func caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("its structure is contradictory: %v", r)
	}
}

func sevenTrouble(err error) error {
	var re *sevenzip.ReadError
	if errors.As(err, &re) && re.Encrypted {
		return errors.New("it is encrypted, and Excavate has no key")
	}
	return err
}

func (b *sevenZip) Close() error { return b.f.Close() }

func (b *sevenZip) open(i int) (_ io.ReadCloser, err error) {
	defer caught(&err)
	zf := b.files[i]
	r, err := zf.Open()
	if err != nil {
		return nil, sevenTrouble(err)
	}
	return &checked{r: careful{r}, done: func() { r.Close() }, size: int64(zf.UncompressedSize), hasCRC: zf.CRC32 != 0, want: zf.CRC32}, nil
}

// careful turns panics of a decompressor into errors.
type careful struct{ r io.Reader }

func (c careful) Read(p []byte) (n int, err error) {
	defer caught(&err)
	n, err = c.r.Read(p)
	if err != nil && err != io.EOF {
		err = sevenTrouble(err)
	}
	return n, err
}

// gunzip streams a gzip file (RFC 1952) and gives the name in its header.
func gunzip(f *file) (io.Reader, string, error) {
	z, err := gzip.NewReader(f.section(0, f.size))
	if err != nil {
		return nil, "", err
	}
	return z, z.Name, nil
}
