package source_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"excavate/core/extract"
	"excavate/core/layout"
	"excavate/core/source"
	"excavate/internal/demo"
	"excavate/layouts"

	"github.com/klauspost/compress/zlib"
)

func set(t testing.TB) *layout.Set {
	t.Helper()
	s, err := layout.LoadFS(layouts.FS)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func write(t testing.TB, name string, data []byte) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(p, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return p
}

func open(t testing.TB, p string) *source.Source {
	t.Helper()
	s, err := source.Open(context.Background(), p, source.Options{Layouts: set(t)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

var (
	long  = []byte(strings.Repeat("the tide turns ", 500))
	plain = []demo.PackEntry{{Name: "a/one.txt", Data: []byte("one")}, {Name: "a/two.txt", Data: long, Packing: 1}, {Name: "b/three.txt", Data: long, Packing: 2}}
)

// The same content through every kind of source.
func TestSourcesAreFileSystems(t *testing.T) {
	dir := t.TempDir()
	var z bytes.Buffer
	zw := zip.NewWriter(&z)
	for _, e := range plain {
		p := filepath.Join(dir, filepath.FromSlash(e.Name))
		os.MkdirAll(filepath.Dir(p), 0o755)
		os.WriteFile(p, e.Data, 0o644)
		w, _ := zw.Create(e.Name)
		w.Write(e.Data)
	}
	zw.Close()
	for kind, p := range map[string]string{"folder": dir, "zip": write(t, "no-ending", z.Bytes()), "tide pack 3": write(t, "x.bin", demo.Pack(plain))} {
		s := open(t, p)
		if s.Format != kind {
			t.Errorf("%s was recognised as %s", kind, s.Format)
		}
		if err := fstest.TestFS(s, "a/one.txt", "a/two.txt", "b/three.txt"); err != nil {
			t.Errorf("%s: %v", kind, err)
		}
		b, err := s.Read(s.Lookup("b/three.txt"))
		if err != nil || !bytes.Equal(b, long) {
			t.Errorf("%s: %d bytes, %v", kind, len(b), err)
		}
		h, err := s.Head(s.Lookup("a/two.txt"), 8)
		if err != nil || string(h) != "the tide" {
			t.Errorf("%s: head %q, %v", kind, h, err)
		}
		if len(s.Problems) != 0 {
			t.Errorf("%s: %v", kind, s.Problems)
		}
	}
}

func TestHostileNamesStayInTheFolder(t *testing.T) {
	huge := strings.Repeat("x", 10000) + ".txt"
	names := []string{"../../escape.txt", "/etc/passwd", `C:\windows\x.txt`, huge, "twice.txt", "twice.txt", "a/../../b.txt", "", "nul\x01.txt"}
	var list []demo.PackEntry
	for i, n := range names {
		list = append(list, demo.PackEntry{Name: n, Data: []byte(fmt.Sprint("entry ", i))})
	}
	s := open(t, write(t, "x.tide", demo.Pack(list)))
	if len(s.Entries()) != len(names) {
		t.Fatalf("%d of %d entries listed", len(s.Entries()), len(names))
	}
	if len(s.Problems) != 8 {
		t.Errorf("%d problems: %v", len(s.Problems), s.Problems)
	}
	for _, p := range s.Problems {
		if p.Offset < 32 || len(p.Error()) > 1000 {
			t.Errorf("problem without a place, or without an end: %.200v", p)
		}
	}
	parent := t.TempDir()
	dir := filepath.Join(parent, "in", "here")
	res, err := extract.Unpack(context.Background(), s, dir, "", nil)
	if err != nil || len(res.Failures) != 0 || res.Entries != int64(len(names)) {
		t.Fatalf("%+v, %v", res, err)
	}
	found := 0
	filepath.WalkDir(parent, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			found++
			if !strings.HasPrefix(p, dir+string(filepath.Separator)) {
				t.Errorf("%s lies outside", p)
			}
			if strings.HasSuffix(p, ".part") {
				t.Errorf("%s is half done", p)
			}
		}
		return nil
	})
	if found != len(names) {
		t.Errorf("%d files for %d entries", found, len(names))
	}
	// Again: the same content is left alone, other content is an error.
	if res, err = extract.Unpack(context.Background(), s, dir, "", nil); err != nil || len(res.Failures) != 0 {
		t.Errorf("again: %+v %v", res, err)
	}
	os.WriteFile(filepath.Join(dir, "twice.txt"), []byte("mine"), 0o644)
	res, err = extract.Unpack(context.Background(), s, dir, "twice*", nil)
	if err != nil || len(res.Failures) != 1 || res.Entries != 1 {
		t.Errorf("over another file: %+v %v", res, err)
	}
	if b, _ := os.ReadFile(filepath.Join(dir, "twice.txt")); string(b) != "mine" {
		t.Error("a file was overwritten")
	}
}

// patch changes the directory record of entry i: offset, packed or size.
func patch(pack []byte, i, field int, v uint64) []byte {
	out := bytes.Clone(pack)
	dir := binary.LittleEndian.Uint64(out[len(out)-32:])
	binary.LittleEndian.PutUint64(out[dir+uint64(i)*40+8+uint64(field)*8:], v)
	return out
}

func TestBrokenArchives(t *testing.T) {
	pack := demo.Pack(plain)
	for _, c := range []struct {
		name string
		data []byte
		want string
	}{
		{"cut off", pack[:len(pack)-5], "the trailer is missing"},
		{"directory past the end", func() []byte {
			b := bytes.Clone(pack)
			binary.LittleEndian.PutUint64(b[len(b)-32:], uint64(len(b)+100))
			return b
		}(), "directory lies at offset"},
		{"names past the end", func() []byte {
			b := bytes.Clone(pack)
			binary.LittleEndian.PutUint32(b[len(b)-12:], 1<<31)
			return b
		}(), "names needs"},
		{"a count of four billion", func() []byte {
			b := bytes.Clone(pack)
			binary.LittleEndian.PutUint32(b[len(b)-16:], 1<<32-1)
			return b
		}(), "directory"},
		{"only the magic", []byte("TIDE"), "offset"},
	} {
		_, err := source.Open(context.Background(), write(t, "x.tide", c.data), source.Options{Layouts: set(t)})
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), "line") || !strings.Contains(err.Error(), "offset") {
			t.Errorf("%s: got %v", c.name, err)
		}
	}
	for _, c := range []struct {
		name string
		data []byte
		want string
	}{
		{"entry past the end", patch(pack, 1, 0, 1<<40), "the file ends at"},
		{"a size no stream reaches", patch(pack, 1, 2, 3<<30), "cannot reach"},
		{"a size beyond all", patch(pack, 1, 2, 1<<50), "more than"},
		{"a size too small", patch(pack, 1, 2, 100), "expands beyond the 100 bytes declared"},
		{"a size too small for lz4", patch(pack, 2, 2, 100), "expands beyond the 100 bytes declared"},
		{"a size too large", patch(pack, 1, 2, 9000), "unpacks to 7500 bytes, 9000 declared"},
		{"negative size", patch(pack, 1, 2, 1<<63+5), "is too large"},
	} {
		s := open(t, write(t, "x.tide", c.data))
		var errs []string
		good := 0
		for i := range s.Entries() {
			if _, err := s.Read(i); err != nil {
				errs = append(errs, err.Error())
			} else {
				good++
			}
		}
		if good != 2 || len(errs) != 1 || !strings.Contains(errs[0], c.want) || !strings.Contains(errs[0], "offset") {
			t.Errorf("%s: %d sound entries, errors %q; want 2 and %q", c.name, good, errs, c.want)
		}
		res, err := extract.Unpack(context.Background(), s, t.TempDir(), "", nil)
		if err != nil || res.Entries != 2 || len(res.Failures) != 1 {
			t.Errorf("%s: unpacking gives %+v, %v", c.name, res, err)
		}
	}
	// A flipped bit in a stored entry is caught by its checksum.
	bad := bytes.Clone(pack)
	bad[32] ^= 1
	s := open(t, write(t, "x.tide", bad))
	if _, err := s.Read(0); err == nil || !strings.Contains(err.Error(), "CRC-32") {
		t.Errorf("a flipped bit: %v", err)
	}
}

func TestStackResolves(t *testing.T) {
	one := open(t, write(t, "one.tide", demo.Pack([]demo.PackEntry{{Name: "wash/A.wash", Data: []byte("1")}, {Name: "other/b.txt", Data: []byte("2")}})))
	two := open(t, write(t, "two.tide", demo.Pack([]demo.PackEntry{{Name: "wash/a.png", Data: []byte("3")}, {Name: "far/c.wash", Data: []byte("4")}, {Name: "wash/b.txt", Data: []byte("5")}})))
	st := source.Stack{one, two}
	for _, c := range []struct{ ref, path, how string }{
		{"wash/a.png", "wash/a.png", source.SamePath}, // exact in the second beats another ending in the first
		{`WASH\a.tga`, "wash/A.wash", source.OtherEnding},
		{"wash/b.txt", "wash/b.txt", source.SamePath},
		{"nowhere/C.tga", "far/c.wash", source.SameName},
		{"../wash/b.txt", "wash/b.txt", source.SamePath},
	} {
		hit, ok, _ := st.Resolve(c.ref, nil)
		if !ok || hit.Path() != c.path || hit.How != c.how {
			t.Errorf("%s: got %v %v", c.ref, hit, ok)
		}
	}
	_, ok, looked := st.Resolve("wash/none.tga", nil)
	if ok || len(looked) != 3 || !strings.Contains(looked[0], "one.tide, two.tide") {
		t.Errorf("what is missing was looked for: %q", looked)
	}
}

// bigPack is an archive of n small entries.
func bigPack(n int) []byte {
	list := make([]demo.PackEntry, n)
	for i := range list {
		list[i] = demo.PackEntry{Name: fmt.Sprintf("wash/region_%02d/%06d_tile_c.wash", i%40, i), Data: []byte("0123456789abcdef")}
	}
	return demo.Pack(list)
}

// BenchmarkIndex indexes a described archive of 100,000 entries.
func BenchmarkIndex(b *testing.B) {
	const n = 100_000
	p := write(b, "big.tide", bigPack(n))
	l := set(b)
	for b.Loop() {
		s, err := source.Open(context.Background(), p, source.Options{Layouts: l})
		if err != nil || len(s.Entries()) != n {
			b.Fatal(err)
		}
		s.Close()
	}
	b.ReportMetric(n*float64(b.N)/b.Elapsed().Seconds(), "entries/s")
}

// texels are bytes that pack about as pictures do.
func texels(n int) []byte {
	out := make([]byte, n)
	x := uint32(1)
	for i := range out {
		x = x*1664525 + 1013904223
		out[i] = byte(i/37) + byte(x>>30)
	}
	return out
}

// BenchmarkUnpackZlib reads entries out of an archive; BenchmarkBareZlib
// decodes the same bytes in a bare loop of the same library.
func BenchmarkUnpackZlib(b *testing.B) {
	data := texels(256 << 10)
	var list []demo.PackEntry
	for i := 0; i < 32; i++ {
		list = append(list, demo.PackEntry{Name: fmt.Sprint(i), Data: data, Packing: 1})
	}
	s := open(b, write(b, "x.tide", demo.Pack(list)))
	b.SetBytes(int64(32 * len(data)))
	for b.Loop() {
		for i := range s.Entries() {
			if _, err := s.Read(i); err != nil {
				b.Fatal(err)
			}
		}
	}
}

func BenchmarkBareZlib(b *testing.B) {
	data := texels(256 << 10)
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	w.Write(data)
	w.Close()
	dst := make([]byte, len(data))
	r, err := zlib.NewReader(bytes.NewReader(z.Bytes()))
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(32 * len(data)))
	for b.Loop() {
		for i := 0; i < 32; i++ {
			r.(zlib.Resetter).Reset(bytes.NewReader(z.Bytes()), nil)
			for at := 0; at < len(dst); {
				n, err := r.Read(dst[at:])
				at += n
				if err != nil && at < len(dst) {
					b.Fatal(err)
				}
			}
		}
	}
}

// BenchmarkUnpackToDisk unpacks whole files to a folder.
func BenchmarkUnpackToDisk(b *testing.B) {
	data := texels(256 << 10)
	var list []demo.PackEntry
	for i := 0; i < 32; i++ {
		list = append(list, demo.PackEntry{Name: fmt.Sprint(i), Data: data, Packing: 1})
	}
	s := open(b, write(b, "x.tide", demo.Pack(list)))
	b.SetBytes(int64(32 * len(data)))
	base := b.TempDir()
	for i := 0; b.Loop(); i++ {
		if res, err := extract.Unpack(context.Background(), s, filepath.Join(base, fmt.Sprint(i)), "", nil); err != nil || len(res.Failures) > 0 {
			b.Fatal(err, res.Failures)
		}
	}
}
