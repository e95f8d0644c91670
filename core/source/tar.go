package source

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"excavate/core/limit"
)

// tarball is a tar (POSIX.1-2017 pax, ustar, GNU). Its entries lie in one
// piece but for sparse ones.
type tarball struct {
	f    *file
	list []tarEntry
}

type tarEntry struct {
	at, size int64
	sparse   int // place among all headers, for entries that the file holds in pieces; -1 for others
}

func (s *Source) openTar(ctx context.Context, f *file) error {
	b := &tarball{f: f}
	s.back = b
	in := f.section(0, f.size)
	r := tar.NewReader(in)
	type alias struct {
		name, to string
		at       int64
	}
	var links []alias
	raw := map[string]int{} // entry by the name in its header
	for n := 0; ; n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		at, _ := in.Seek(0, io.SeekCurrent)
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if len(s.entries) == 0 {
				return fmt.Errorf("not a sound tar: header at offset %d: %w", at, err)
			}
			s.problem("", at, "the archive is cut off or damaged here (%v); the %d entries before are listed, what followed is lost", err, len(s.entries))
			break
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
		case tar.TypeDir:
			if err := s.folder(h.Name); err != nil {
				return err
			}
			continue
		case tar.TypeXGlobalHeader:
			continue
		case tar.TypeLink, tar.TypeSymlink:
			to := h.Linkname
			if h.Typeflag == tar.TypeSymlink {
				to = path.Join(path.Dir(h.Name), to)
			}
			links = append(links, alias{h.Name, to, at})
			continue
		case tar.TypeChar, tar.TypeBlock, tar.TypeFifo:
			s.problem(h.Name, at, "it is a device file and was left out")
			continue
		default:
			s.problem(h.Name, at, "it is of kind %q, which holds no file, and was left out", h.Typeflag)
			continue
		}
		e := Entry{Size: h.Size, Packed: h.Size, Codec: "stored", Offset: at, Block: -1}
		te := tarEntry{at: at, size: h.Size, sparse: -1}
		if h.Typeflag == tar.TypeGNUSparse || h.PAXRecords["GNU.sparse.major"] != "" || h.PAXRecords["GNU.sparse.size"] != "" || h.PAXRecords["GNU.sparse.realsize"] != "" {
			te.sparse, e.Packed, e.Codec = n, -1, "sparse"
		}
		switch {
		case h.Size < 0 || h.Size > limit.EntryBytes:
			e.Err = fmt.Errorf("declares %d bytes, more than the %d that one entry may have", h.Size, int64(limit.EntryBytes))
		case te.sparse < 0 && h.Size > f.size-at:
			e.Err = fmt.Errorf("it is cut off: %d of %d bytes are there", f.size-at, h.Size)
		}
		b.list = append(b.list, te)
		raw[path.Clean(h.Name)] = len(b.list) - 1
		if err := s.add(e, h.Name); err != nil {
			return err
		}
	}
	// A link to an entry of the same archive is that entry under another name.
	for _, l := range links {
		to, ok := raw[path.Clean(l.to)]
		if !ok {
			s.problem(l.name, l.at, "it is a link to %q, which is not in this archive, and was left out", cut(l.to))
			continue
		}
		e := s.entries[to]
		b.list = append(b.list, b.list[to])
		raw[path.Clean(l.name)] = len(b.list) - 1
		if err := s.add(e, l.name); err != nil {
			return err
		}
	}
	return nil
}

func (b *tarball) Close() error { return b.f.Close() }

func (b *tarball) section(i int) (io.ReaderAt, bool, error) {
	e := &b.list[i]
	return b.f.section(e.at, e.size), e.sparse < 0, nil
}

func (b *tarball) open(i int) (io.ReadCloser, error) {
	e := &b.list[i]
	if e.sparse < 0 {
		return &checked{r: b.f.section(e.at, e.size), size: e.size}, nil
	}
	r := tar.NewReader(b.f.section(0, b.f.size))
	for n := 0; ; n++ {
		if _, err := r.Next(); err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			return nil, err
		}
		if n == e.sparse {
			return &checked{r: r, size: e.size}, nil
		}
	}
}

// openCompressed mounts a compressed file: the tar in it, or the one file
// that it is.
func (s *Source) openCompressed(ctx context.Context, f *file, method string, o Options) error {
	name := ""
	var r io.Reader
	var err error
	if method == "gzip" {
		r, name, err = gunzip(f)
	} else {
		var done func()
		if r, done, err = decompress(method, f.section(0, f.size)); done != nil {
			defer done()
		}
	}
	if err != nil {
		return fmt.Errorf("not a sound %s file: %w", method, err)
	}
	most := limit.SpoolFree + f.size*limit.Expansion
	over := &io.LimitedReader{R: r, N: most}
	in, err := spool(ctx, over, -1, f.name, s.key()+"\x00"+method, o)
	if err == nil && over.N <= 0 {
		in.Close()
		err = fmt.Errorf("it expands to more than %d bytes from %d packed; that looks like a trap and is not unpacked", most, f.size)
	}
	if err != nil {
		return fmt.Errorf("unpack the %s file: %w", method, err)
	}
	packed := f.size
	what, _, err := recognise(in, nil)
	if err == nil && what == "tar" {
		if err = s.openTar(ctx, in); err == nil {
			s.Format = "tar + " + method
			for i := range s.entries { // places are those in the unpacked copy
				s.entries[i].Offset, s.entries[i].Packed = -1, -1
			}
			s.back = &unpacked{s.back, f}
			return nil
		}
	}
	if err != nil {
		in.Close()
		return err
	}
	if name = cleanOne(name); name == "unnamed" {
		name = cleanOne(s.Label)
		for _, ending := range []string{".gz", ".bz2", ".xz", ".zst", ".zstd"} {
			if t := strings.TrimSuffix(name, ending); t != name && t != "" {
				name = t
				break
			}
		}
	}
	s.entries = []Entry{{Path: name, Size: in.size, Packed: packed, Codec: method, Offset: -1, Block: -1}}
	s.back = &unpacked{&single{in}, f}
	return nil
}

// unpacked is a backend over an unpacked copy; the packed file stays open
// with it.
type unpacked struct {
	backend
	packed *file
}

func (b *unpacked) Close() error { return errors.Join(b.backend.Close(), b.packed.Close()) }

func (b *unpacked) section(i int) (io.ReaderAt, bool, error) { return b.backend.(flat).section(i) }
