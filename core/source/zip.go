package source

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"excavate/core/limit"

	"github.com/klauspost/compress/flate"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
)

// zipped is a ZIP (PKWARE APPNOTE.TXT 6.3.10) with its central directory.
type zipped struct {
	f     *file
	files []*zip.File
}

func (s *Source) openZip(ctx context.Context, f *file) error {
	z, err := zip.NewReader(f, f.size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		if e := s.recoverZip(ctx, f); e != nil {
			return fmt.Errorf("not a sound ZIP: %w (%v)", err, e)
		}
		return nil
	}
	b := &zipped{f: f, files: make([]*zip.File, 0, len(z.File))}
	s.back = b
	s.entries = make([]Entry, 0, len(z.File))
	s.taken = newNames(len(z.File))
	names := zipNames(z.File)
	if names != nil {
		s.Remarks = append(s.Remarks, "names are in "+names.name)
	}
	for _, zf := range z.File {
		name := zipName(zf, names)
		if strings.HasSuffix(name, "/") && zf.UncompressedSize64 == 0 {
			if err := s.folder(name); err != nil {
				return err
			}
			continue
		}
		e := Entry{Size: int64(zf.UncompressedSize64), Packed: int64(zf.CompressedSize64), Codec: zipMethod(zf.Method), Offset: -1, Block: -1}
		e.Err = zipTrouble(e, zf.Flags)
		b.files = append(b.files, zf)
		if err := s.add(e, name); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// zipTrouble says why an entry cannot be read, if its record already shows it.
func zipTrouble(e Entry, flags uint16) error {
	switch {
	case flags&1 != 0:
		return errors.New("it is encrypted, and Excavate has no key")
	case strings.HasPrefix(e.Codec, "method"):
		return fmt.Errorf("it is packed with %s, which Excavate cannot unpack", e.Codec)
	case e.Size < 0 || e.Packed < 0:
		return errors.New("it declares a negative size")
	case e.Codec == "deflate" && e.Size > limit.ExpansionFree && e.Size/limit.Expansion > e.Packed:
		return fmt.Errorf("declares %d bytes from %d packed, which deflate cannot reach", e.Size, e.Packed)
	case e.Codec == "stored" && e.Size != e.Packed:
		return fmt.Errorf("is stored as it is, yet declares %d bytes packed and %d unpacked", e.Packed, e.Size)
	case e.Size > limit.EntryBytes:
		return fmt.Errorf("declares %d bytes, more than the %d that one entry may have", e.Size, int64(limit.EntryBytes))
	}
	return nil
}

// zipMethod names a compression method (APPNOTE 4.4.5).
func zipMethod(m uint16) string {
	switch m {
	case zip.Store:
		return "stored"
	case zip.Deflate:
		return "deflate"
	case 12:
		return "bzip2"
	case 93:
		return "zstd"
	case 95:
		return "xz"
	case 9:
		return "method 9 (deflate64)"
	case 14:
		return "method 14 (LZMA)"
	case 98:
		return "method 98 (PPMd)"
	}
	return fmt.Sprintf("method %d", m)
}

func (b *zipped) Close() error { return b.f.Close() }

func (b *zipped) offset(i int) int64 {
	at, err := b.files[i].DataOffset()
	if err != nil {
		return -1
	}
	return at
}

func (b *zipped) section(i int) (io.ReaderAt, bool, error) {
	zf := b.files[i]
	if zf.Method != zip.Store {
		return nil, false, nil
	}
	at, err := zf.DataOffset()
	if err != nil {
		return nil, false, fmt.Errorf("its local header cannot be read: %w", err)
	}
	return b.f.section(at, int64(zf.UncompressedSize64)), true, nil
}

func (b *zipped) open(i int) (io.ReadCloser, error) {
	zf := b.files[i]
	at, err := zf.DataOffset()
	if err != nil {
		return nil, fmt.Errorf("its local header cannot be read: %w", err)
	}
	return openPacked(b.f, at, int64(zf.CompressedSize64), int64(zf.UncompressedSize64), zipMethod(zf.Method), true, zf.CRC32)
}

// openPacked streams packed bytes that lie in one piece.
func openPacked(f *file, at, packed, size int64, method string, hasCRC bool, crc uint32) (io.ReadCloser, error) {
	if at < 0 || packed < 0 || at > f.size || packed > f.size-at {
		return nil, fmt.Errorf("its %d packed bytes at offset %d reach past the end of the file at %d", packed, at, f.size)
	}
	c := &checked{size: size, hasCRC: hasCRC, want: crc}
	src := f.section(at, packed)
	if method == "stored" {
		c.r = src
		return c, nil
	}
	var err error
	c.r, c.done, err = decompress(method, src)
	return c, err
}

// Names without the UTF-8 flag (APPNOTE appendix D).

type codePage struct {
	name string
	dec  *encoding.Decoder
}

// zipNames finds the code page of an archive's names; nil where all are UTF-8
// or ASCII. APPNOTE says code page 437; Japanese tools write Shift-JIS, which
// is told by all names being sound in it and holding kana or double bytes.
func zipNames(files []*zip.File) *codePage {
	legacy, sjis := false, true
	for _, f := range files {
		if !f.NonUTF8 || ascii(f.Name) || utf8.ValidString(f.Name) {
			continue
		}
		legacy = true
		sjis = sjis && isShiftJIS(f.Name)
	}
	switch {
	case !legacy:
		return nil
	case sjis:
		return &codePage{"Shift-JIS", japanese.ShiftJIS.NewDecoder()}
	}
	return &codePage{"code page 437", charmap.CodePage437.NewDecoder()}
}

func zipName(f *zip.File, p *codePage) string {
	if ascii(f.Name) {
		return f.Name
	}
	// The Info-ZIP Unicode Path extra field (APPNOTE 4.6.9) counts if its
	// checksum is that of the name it stands for.
	for x := f.Extra; len(x) >= 4; {
		n := int(binary.LittleEndian.Uint16(x[2:]))
		if n > len(x)-4 {
			break
		}
		if d := x[4 : 4+n]; binary.LittleEndian.Uint16(x) == 0x7075 && n > 5 && d[0] == 1 && binary.LittleEndian.Uint32(d[1:]) == crc32.ChecksumIEEE([]byte(f.Name)) && utf8.Valid(d[5:]) {
			return string(d[5:])
		}
		x = x[4+n:]
	}
	if !f.NonUTF8 || p == nil || utf8.ValidString(f.Name) {
		return f.Name
	}
	if s, err := p.dec.String(f.Name); err == nil {
		return s
	}
	return f.Name
}

func ascii(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// isShiftJIS tells whether a name reads as Japanese in Shift-JIS (JIS X 0208
// appendix 1): it is sound, and kana and kanji outnumber all else beyond
// ASCII. A European name in code page 437 can be sound, and then gives signs
// and Cyrillic letters.
func isShiftJIS(s string) bool {
	t, err := japanese.ShiftJIS.NewDecoder().String(s)
	if err != nil {
		return false
	}
	good, bad := 0, 0
	for _, r := range t {
		switch {
		case r < 0x80:
		case unicode.In(r, unicode.Hiragana, unicode.Katakana, unicode.Han) && (r < 0xff61 || r > 0xff9f):
			good++
		default:
			bad++
		}
	}
	return good > bad
}

// recovered is a ZIP whose central directory is missing: its entries are
// found by their local headers.
type recovered struct {
	f    *file
	list []localEntry
}

type localEntry struct {
	at, packed, size int64
	method           uint16
	crc              uint32
	hasCRC           bool
}

// recoverZip lists what a ZIP without a central directory still holds. It
// walks the local headers (APPNOTE 4.3.7); where a header leaves the sizes to
// a data descriptor, the entry is unpacked to find its end.
func (s *Source) recoverZip(ctx context.Context, f *file) error {
	b := &recovered{f: f}
	s.back = b
	var h [30]byte
	at := int64(0)
	lost := ""
	for lost == "" {
		if err := ctx.Err(); err != nil {
			return err
		}
		if k, _ := f.ReadAt(h[:], at); k < 30 {
			lost = "the file ends here"
			break
		}
		sig := binary.LittleEndian.Uint32(h[:])
		if sig != 0x04034b50 {
			lost = "no entry begins here"
			if sig == 0x02014b50 {
				lost = "the central directory begins here and is damaged"
			}
			break
		}
		flags, method := binary.LittleEndian.Uint16(h[6:]), binary.LittleEndian.Uint16(h[8:])
		nameLen, extraLen := int64(binary.LittleEndian.Uint16(h[26:])), int64(binary.LittleEndian.Uint16(h[28:]))
		tail := make([]byte, nameLen+extraLen)
		if k, _ := f.ReadAt(tail, at+30); int64(k) < nameLen+extraLen {
			lost = "the file ends within an entry's header"
			break
		}
		e := localEntry{at: at + 30 + nameLen + extraLen, method: method, crc: binary.LittleEndian.Uint32(h[14:]), hasCRC: true,
			packed: int64(binary.LittleEndian.Uint32(h[18:])), size: int64(binary.LittleEndian.Uint32(h[22:]))}
		zip64 := false
		for x := tail[nameLen:]; len(x) >= 4; { // APPNOTE 4.5.3
			n := int(binary.LittleEndian.Uint16(x[2:]))
			if n > len(x)-4 {
				break
			}
			if binary.LittleEndian.Uint16(x) == 1 && n >= 16 {
				zip64 = true
				if e.size == 0xffffffff {
					e.size = int64(binary.LittleEndian.Uint64(x[4:]))
				}
				if e.packed == 0xffffffff {
					e.packed = int64(binary.LittleEndian.Uint64(x[12:]))
				}
			}
			x = x[4+n:]
		}
		name := string(tail[:nameLen])
		next := e.at + e.packed
		var trouble error
		if flags&8 != 0 && flags&1 == 0 {
			switch method {
			case zip.Deflate:
				if trouble = b.measure(ctx, &e); trouble == nil {
					next = e.at + e.packed + descriptorBytes(f, e.at+e.packed, e.crc, zip64)
				}
			case zip.Store:
				if trouble = b.seekDescriptor(ctx, &e); trouble == nil {
					next = e.at + e.packed + descriptorBytes(f, e.at+e.packed, e.crc, zip64)
				}
			default:
				lost = fmt.Sprintf("entry %q states no size", cut(name))
			}
		}
		if trouble == nil && lost == "" && (e.packed < 0 || next < e.at || next > f.size) {
			trouble = fmt.Errorf("it is cut off: %d of %d packed bytes are there", f.size-e.at, e.packed)
		}
		if trouble != nil {
			s.problem(name, at, "%v", trouble)
			lost = "the last entry is cut off"
			break
		}
		if lost != "" {
			break
		}
		if !strings.HasSuffix(name, "/") {
			x := Entry{Size: e.size, Packed: e.packed, Codec: zipMethod(method), Offset: e.at, Block: -1}
			x.Err = zipTrouble(x, flags)
			b.list = append(b.list, e)
			if err := s.add(x, name); err != nil {
				return err
			}
		}
		at = next
	}
	if len(s.entries) == 0 {
		return errors.New("and no intact entry was found")
	}
	s.problem("", at, "the archive is cut off: %s; the %d entries before are intact and listed, what followed is lost", lost, len(s.entries))
	return nil
}

// measure unpacks an entry of unknown size to find its end, its size and its
// checksum.
func (b *recovered) measure(ctx context.Context, e *localEntry) error {
	count := &countingReader{r: bufio.NewReaderSize(b.f.section(e.at, b.f.size-e.at), 64<<10)}
	z := flate.NewReader(count)
	sum := crc32.NewIEEE()
	buf := make([]byte, 64<<10)
	var n int64
	for {
		k, err := z.Read(buf)
		sum.Write(buf[:k])
		n += int64(k)
		if err == io.EOF {
			break
		}
		if err != nil {
			return fmt.Errorf("it is cut off or damaged after %d unpacked bytes", n)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if n > limit.EntryBytes {
			return fmt.Errorf("it has more than %d bytes", int64(limit.EntryBytes))
		}
	}
	e.packed, e.size, e.crc = count.n, n, sum.Sum32()
	return nil
}

// seekDescriptor finds the end of a stored entry of unknown size: a data
// descriptor that states just the bytes before it.
func (b *recovered) seekDescriptor(ctx context.Context, e *localEntry) error {
	const chunk = 1 << 20
	buf := make([]byte, chunk+16)
	for off := e.at; off < b.f.size && ctx.Err() == nil; off += chunk {
		k, _ := b.f.ReadAt(buf, off)
		for i := 0; i+16 <= k; i++ {
			j := bytes.Index(buf[i:k], []byte("PK\x07\x08"))
			if j < 0 || i+j+16 > k {
				break
			}
			i += j
			if n := off + int64(i) - e.at; int64(binary.LittleEndian.Uint32(buf[i+8:])) == n&0xffffffff {
				e.packed, e.size, e.crc = n, n, binary.LittleEndian.Uint32(buf[i+4:])
				return nil
			}
		}
	}
	return errors.New("it is cut off: it states no size and its end is not there")
}

// descriptorBytes is the length of the data descriptor at off (APPNOTE 4.3.9).
func descriptorBytes(f *file, off int64, crc uint32, zip64 bool) int64 {
	n := int64(12)
	if zip64 {
		n = 20
	}
	var w [8]byte
	if k, _ := f.ReadAt(w[:], off); k == 8 && bytes.Equal(w[:4], []byte("PK\x07\x08")) && binary.LittleEndian.Uint32(w[4:]) == crc {
		n += 4
	}
	return n
}

// countingReader counts the bytes that a decompressor takes. It is an
// io.ByteReader, so that none is taken too many.
type countingReader struct {
	r *bufio.Reader
	n int64
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *countingReader) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

func (b *recovered) Close() error { return b.f.Close() }

func (b *recovered) section(i int) (io.ReaderAt, bool, error) {
	e := &b.list[i]
	if e.method != zip.Store {
		return nil, false, nil
	}
	return b.f.section(e.at, e.size), true, nil
}

func (b *recovered) open(i int) (io.ReadCloser, error) {
	e := &b.list[i]
	return openPacked(b.f, e.at, e.packed, e.size, zipMethod(e.method), e.hasCRC, e.crc)
}
