package source

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"

	"excavate/core/limit"

	"github.com/ulikunitz/xz/lzma"
)

// The library that reads 7z makes room for as many things as a header
// declares before it reads them. checkSeven walks the header first, by the
// format's description (7zFormat.txt of the LZMA SDK), and refuses one that
// declares more than it has bytes for.

// Kinds of what a header holds.
const (
	sevenEnd = iota
	sevenHeader
	sevenProperties
	sevenMoreStreams
	sevenMainStreams
	sevenFiles
	sevenPacked
	sevenUnpacked
	sevenSubStreams
	sevenSizes
	sevenCRC
	sevenFolder
	sevenUnpackSizes
	sevenStreamCounts
	sevenEncoded = 23
)

const (
	mostCoders       = 64 // of a folder, and streams of a coder, as other readers have it
	mostSevenHeaders = 4  // a header may be packed, its header again
	mostSevenBytes   = 256 << 20
	mostSevenWork    = 1 << 35 // the library looks through the folders for each file
)

var errSevenShort = errors.New("its header ends too soon")

func checkSeven(r io.ReaderAt, size int64) error {
	var start [32]byte
	if _, err := r.ReadAt(start[:], 0); err != nil {
		return errSevenShort
	}
	le := binary.LittleEndian
	if le.Uint32(start[8:]) != crc32.ChecksumIEEE(start[12:]) {
		return errors.New("the first 32 bytes do not have their checksum")
	}
	at, n := le.Uint64(start[12:]), le.Uint64(start[20:])
	if n == 0 {
		return nil // an archive of nothing
	}
	if size < 32 || at > uint64(size-32) || n > uint64(size-32)-at {
		return fmt.Errorf("its header lies at %d with %d bytes, and the file has %d: it is cut off", at+32, n, size)
	}
	if n > mostSevenBytes {
		return fmt.Errorf("its header has %d bytes, more than the %d that are read", n, mostSevenBytes)
	}
	header := make([]byte, n)
	if _, err := r.ReadAt(header, int64(at)+32); err != nil {
		return err
	}
	for range mostSevenHeaders {
		h := &sevenWalk{b: header[1:], most: min(uint64(len(header)), limit.Entries)}
		switch header[0] {
		case sevenHeader:
			return h.header()
		case sevenEncoded:
			var err error
			if header, err = h.unpack(r, size); err != nil {
				return err
			}
			if len(header) == 0 {
				return errSevenShort
			}
		default:
			return fmt.Errorf("its header begins with %d", header[0])
		}
	}
	return errors.New("its header is packed again and again")
}

// sevenWalk walks a header. The first fault stays in err and ends it.
type sevenWalk struct {
	b    []byte
	most uint64 // nothing can be there more often than the header has bytes
	err  error

	position uint64 // of the packed streams
	packed   []uint64
	folders  []sevenFolderInfo
}

// sevenFolderInfo is what is known of a folder: a chain of coders.
type sevenFolderInfo struct {
	coders     int
	method     string // of the only coder
	properties []byte
	encrypted  bool
	outs, ins  uint64
	packed     uint64   // streams
	sizes      []uint64 // of what each coder gives
}

func (w *sevenWalk) fail(msg string, a ...any) {
	if w.err == nil {
		w.err = fmt.Errorf(msg, a...)
	}
	w.b = nil
}

func (w *sevenWalk) byte() byte {
	if len(w.b) == 0 {
		w.fail("%w", errSevenShort)
		return 0
	}
	c := w.b[0]
	w.b = w.b[1:]
	return c
}

func (w *sevenWalk) bytes(n uint64) []byte {
	if n > uint64(len(w.b)) {
		w.fail("%w", errSevenShort)
		return nil
	}
	out := w.b[:n]
	w.b = w.b[n:]
	return out
}

// number is one of 1 to 9 bytes: the leading ones of the first tell how many
// follow.
func (w *sevenWalk) number() (v uint64) {
	first := w.byte()
	for i, mask := 0, byte(0x80); i < 8; i, mask = i+1, mask>>1 {
		if first&mask == 0 {
			return v | uint64(first&(mask-1))<<(8*i)
		}
		v |= uint64(w.byte()) << (8 * i)
	}
	return v
}

// count is a number of things that are there, of which the header must have
// bytes.
func (w *sevenWalk) count(what string) uint64 {
	n := w.number()
	if n > w.most {
		w.fail("its header declares %d %s, and has room for %d at most", n, what, w.most)
		return 0
	}
	return n
}

// flags skips n bits, or one byte that says that all are set, and tells how
// many are.
func (w *sevenWalk) flags(n uint64) (set uint64) {
	if w.byte() != 0 {
		return n
	}
	for _, c := range w.bytes((n + 7) / 8) {
		for ; c != 0; c &= c - 1 {
			set++
		}
	}
	return set
}

func (w *sevenWalk) checksums(n uint64) { w.bytes(4 * w.flags(n)) }

func (w *sevenWalk) header() error {
	kind := w.byte()
	if kind == sevenProperties || kind == sevenMoreStreams {
		return fmt.Errorf("its header holds properties of a kind that is not read (%d)", kind)
	}
	if kind == sevenMainStreams {
		w.streams()
		kind = w.byte()
	}
	if kind == sevenFiles && w.err == nil {
		files := w.count("files")
		if files*uint64(len(w.folders)) > mostSevenWork {
			return fmt.Errorf("%d entries in %d blocks are more than can be read", files, len(w.folders))
		}
	}
	return w.err // what follows is lists of as many as there are files
}

// streams walks packed streams, folders and what they hold.
func (w *sevenWalk) streams() {
	kind := w.byte()
	if kind == sevenPacked {
		w.position = w.number()
		n := w.count("packed streams")
		if kind = w.byte(); kind == sevenSizes {
			for range n {
				if w.err != nil {
					return
				}
				w.packed = append(w.packed, w.number())
			}
			kind = w.byte()
		}
		if kind == sevenCRC {
			w.checksums(n)
			kind = w.byte()
		}
		if kind != sevenEnd {
			w.fail("its packed streams end with %d", kind)
		}
		kind = w.byte()
	}
	if kind == sevenUnpacked {
		w.unpacked()
		kind = w.byte()
	}
	if kind == sevenSubStreams {
		w.subStreams()
		kind = w.byte()
	}
	if kind != sevenEnd {
		w.fail("its streams end with %d", kind)
	}
}

func (w *sevenWalk) unpacked() {
	if k := w.byte(); k != sevenFolder {
		w.fail("%d stands where folders are wanted", k)
	}
	n := w.count("folders")
	if w.byte() != 0 {
		w.fail("its folders lie elsewhere")
	}
	streams := uint64(0)
	for range n {
		f := w.folder()
		if w.err != nil {
			return
		}
		streams += f.packed
		w.folders = append(w.folders, f)
	}
	if streams > uint64(len(w.packed)) {
		w.fail("its folders use %d packed streams, and there are %d", streams, len(w.packed))
	}
	if k := w.byte(); k != sevenUnpackSizes {
		w.fail("%d stands where sizes are wanted", k)
	}
	for i := range w.folders {
		for range w.folders[i].outs {
			w.folders[i].sizes = append(w.folders[i].sizes, w.number())
		}
		if w.err != nil {
			return
		}
	}
	k := w.byte()
	if k == sevenCRC {
		w.checksums(n)
		k = w.byte()
	}
	if k != sevenEnd {
		w.fail("its folders end with %d", k)
	}
}

func (w *sevenWalk) folder() (f sevenFolderInfo) {
	n := w.number()
	if n == 0 || n > mostCoders {
		w.fail("a folder of %d coders", n)
		return f
	}
	f.coders = int(n)
	for range n {
		how := w.byte()
		f.method = string(w.bytes(uint64(how & 15)))
		in, out := uint64(1), uint64(1)
		if how&0x10 != 0 {
			if in, out = w.number(), w.number(); in > mostCoders || out > mostCoders || in == 0 || out == 0 {
				w.fail("a coder of %d and %d streams", in, out)
			}
		}
		f.encrypted = f.encrypted || f.method == sevenAES
		f.properties = nil
		if how&0x20 != 0 {
			f.properties = w.bytes(w.number())
		}
		if d := dictionary(f.method, f.properties); d > limit.MemoryBytes {
			w.fail("a coder wants %d bytes of memory", d)
		}
		f.ins, f.outs = f.ins+in, f.outs+out
		if w.err != nil {
			return f
		}
	}
	if f.ins < f.outs {
		w.fail("a folder of %d streams in and %d out", f.ins, f.outs)
		return f
	}
	for range f.outs - 1 {
		if a, b := w.number(), w.number(); a >= f.ins || b >= f.outs {
			w.fail("a folder joins streams %d and %d of %d and %d", a, b, f.ins, f.outs)
		}
	}
	if f.packed = f.ins - f.outs + 1; f.packed > 1 {
		for range f.packed {
			if k := w.number(); k >= f.ins {
				w.fail("a folder packs stream %d of %d", k, f.ins)
			}
		}
	}
	return f
}

// The methods of 7zMethods that headers are packed with, and those whose
// properties tell what memory they want.
const (
	sevenCopy  = "\x00"
	sevenLZMA  = "\x03\x01\x01"
	sevenLZMA2 = "\x21"
	sevenPPMd  = "\x03\x04\x01"
	sevenAES   = "\x06\xf1\x07\x01"
)

// dictionary is the memory that a coder takes at once.
func dictionary(method string, p []byte) uint64 {
	switch {
	case (method == sevenLZMA || method == sevenPPMd) && len(p) >= 5:
		return uint64(binary.LittleEndian.Uint32(p[1:]))
	case method == sevenLZMA2 && len(p) >= 1:
		if p[0] > 40 {
			return math.MaxUint64
		}
		return (2 | uint64(p[0]&1)) << (p[0]/2 + 11)
	}
	return 0
}

func (w *sevenWalk) subStreams() {
	kind := w.byte()
	counts := make([]uint64, len(w.folders))
	total := uint64(0)
	for i := range counts {
		counts[i] = 1
		if kind == sevenStreamCounts {
			counts[i] = w.number()
		}
		if total += counts[i]; counts[i] > w.most || total > w.most {
			w.fail("its header declares %d files in folders, and has room for %d at most", total, w.most)
			return
		}
	}
	if kind == sevenStreamCounts {
		kind = w.byte()
	}
	if kind == sevenSizes {
		for _, n := range counts {
			for k := uint64(1); k < n && w.err == nil; k++ {
				w.number()
			}
		}
		kind = w.byte()
	}
	if kind == sevenCRC {
		w.checksums(total)
		kind = w.byte()
	}
	if kind != sevenEnd {
		w.fail("its files in folders end with %d", kind)
	}
}

// unpack unpacks a header that is packed.
func (w *sevenWalk) unpack(r io.ReaderAt, size int64) ([]byte, error) {
	w.streams()
	if w.err != nil {
		return nil, w.err
	}
	if len(w.folders) != 1 || len(w.folders[0].sizes) == 0 || len(w.packed) == 0 {
		return nil, errors.New("its packed header is not one stream")
	}
	f := w.folders[0]
	n := f.sizes[len(f.sizes)-1]
	if n > mostSevenBytes {
		return nil, fmt.Errorf("its header would unpack to %d bytes, more than the %d that are read", n, mostSevenBytes)
	}
	if w.position > uint64(size) || w.packed[0] > uint64(size)-w.position || int64(w.position) > size-32 {
		return nil, errors.New("its packed header lies outside the file")
	}
	in := io.NewSectionReader(r, 32+int64(w.position), int64(w.packed[0]))
	switch {
	case f.encrypted:
		return nil, errors.New("it is encrypted, and Excavate has no key")
	case f.coders > 1:
		return nil, errors.New("its header is packed in several ways at once")
	}
	var out io.Reader
	var err error
	switch f.method {
	case sevenCopy:
		out = in
	case sevenLZMA:
		if len(f.properties) < 5 {
			return nil, errSevenShort
		}
		head := binary.LittleEndian.AppendUint64(append([]byte{}, f.properties[:5]...), n)
		out, err = lzma.NewReader(io.MultiReader(bytes.NewReader(head), in))
	case sevenLZMA2:
		out, err = lzma.Reader2Config{DictCap: max(lzma.MinDictCap, int(dictionary(f.method, f.properties)))}.NewReader2(in)
	default:
		return nil, fmt.Errorf("its header is packed in a way that is not read (%x)", f.method)
	}
	if err != nil {
		return nil, fmt.Errorf("its header: %w", err)
	}
	b, err := io.ReadAll(io.LimitReader(out, int64(n)))
	if err != nil {
		return nil, fmt.Errorf("its header: %w", err)
	}
	if uint64(len(b)) < n {
		return nil, errSevenShort
	}
	return b, nil
}
