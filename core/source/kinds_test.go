package source_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/extract"
	"excavate/core/source"
	"excavate/internal/demo"
)

// tree is a folder with files of several sizes.
func tree(t testing.TB) (dir string, files map[string][]byte) {
	t.Helper()
	dir = t.TempDir()
	files = map[string][]byte{
		"village/mill.txt": []byte("The tide mill turns twice a day.\n"), "village/empty": {}, "village/deep/er/still/reed.bin": texels(300_000),
		"boats/punt one.bin": bytes.Repeat([]byte("punt "), 4000), "Zoë/løvfald.txt": []byte("autumn"),
	}
	for n, b := range files {
		p := filepath.Join(dir, filepath.FromSlash(n))
		os.MkdirAll(filepath.Dir(p), 0o755)
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir, files
}

func tool(t testing.TB, dir, name string, args ...string) {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
}

func openWith(t testing.TB, p string, o source.Options) *source.Source {
	t.Helper()
	s, err := source.Open(context.Background(), p, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// holds checks that a source has just these files.
func holds(t *testing.T, s *source.Source, files map[string][]byte) {
	t.Helper()
	if len(s.Entries()) != len(files) {
		t.Errorf("%d entries, want %d", len(s.Entries()), len(files))
	}
	for n, want := range files {
		i := s.Lookup(n)
		if i < 0 {
			t.Errorf("%q is not listed", n)
			continue
		}
		if got, err := s.Read(i); err != nil || !bytes.Equal(got, want) || s.Entries()[i].Size != int64(len(want)) {
			t.Errorf("%s: %d bytes, %v; want %d", n, len(got), err, len(want))
		}
		if len(want) > 10 {
			got, err := s.Range(i, int64(len(want)/2), 7)
			if err != nil || !bytes.Equal(got, want[len(want)/2:][:7]) {
				t.Errorf("%s: range %q, %v", n, got, err)
			}
		}
	}
}

// TestArchivesOfOtherPrograms reads what the system's own tools wrote, under
// an ending that says nothing.
func TestArchivesOfOtherPrograms(t *testing.T) {
	dir, files := tree(t)
	out := t.TempDir()
	at := func(n string) string { return filepath.Join(out, n) }
	tool(t, dir, "zip", "-qr", at("a.zip"), ".")
	tool(t, dir, "zip", "-qr0", at("a0.zip"), ".")
	tool(t, dir, "7z", "a", "-bd", "-y", at("a.7z"), ".")
	tool(t, dir, "7z", "a", "-bd", "-y", "-ms=off", "-m0=bzip2", at("b.7z"), ".")
	tool(t, dir, "7z", "a", "-bd", "-y", "-tzip", "-mm=BZip2", at("bz.zip"), ".")
	tool(t, dir, "tar", "-cf", at("a.tar"), "--sort=name", ".")
	tool(t, dir, "tar", "-cf", at("pax.tar"), "--format=pax", ".")
	tool(t, dir, "tar", "-czf", at("a.tgz"), ".")
	tool(t, dir, "tar", "-cjf", at("a.tbz"), ".")
	tool(t, dir, "tar", "-cJf", at("a.txz"), ".")
	tool(t, dir, "tar", "--zstd", "-cf", at("a.tzst"), ".")
	for _, c := range []struct{ file, format string }{
		{"a.zip", "zip"}, {"a0.zip", "zip"}, {"a.7z", "7z"}, {"b.7z", "7z"}, {"bz.zip", "zip"}, {"a.tar", "tar"}, {"pax.tar", "tar"},
		{"a.tgz", "tar + gzip"}, {"a.tbz", "tar + bzip2"}, {"a.txz", "tar + xz"}, {"a.tzst", "tar + zstd"},
	} {
		t.Run(c.file, func(t *testing.T) {
			p := at(c.file + ".dat") // no ending helps
			if err := os.Rename(at(c.file), p); err != nil {
				t.Fatal(err)
			}
			for _, spool := range []string{"", t.TempDir()} {
				s := openWith(t, p, source.Options{Spool: spool})
				if s.Format != c.format || len(s.Problems) > 0 {
					t.Errorf("format %q, problems %v", s.Format, s.Problems)
				}
				holds(t, s, files)
				to := filepath.Join(t.TempDir(), "x")
				if sum, err := extract.Unpack(context.Background(), s, to, "", nil); err != nil || sum.Entries != int64(len(files)) || sum.Failed != 0 {
					t.Errorf("extraction: %+v, %v", sum, err)
				}
				tool(t, "/", "diff", "-r", dir, to)
			}
		})
	}
}

func TestSingleCompressedFiles(t *testing.T) {
	dir := t.TempDir()
	text := bytes.Repeat([]byte("reed and water\n"), 200_000)
	p := filepath.Join(dir, "reeds.txt")
	os.WriteFile(p, text, 0o644)
	tool(t, dir, "gzip", "-k", "reeds.txt")
	tool(t, dir, "bzip2", "-k", "reeds.txt")
	tool(t, dir, "xz", "-k", "reeds.txt")
	tool(t, dir, "zstd", "-q", "-k", "reeds.txt")
	for ending, format := range map[string]string{"gz": "gzip", "bz2": "bzip2", "xz": "xz", "zst": "zstd"} {
		s := openWith(t, p+"."+ending, source.Options{})
		if s.Format != format {
			t.Errorf("%s is a %q", ending, s.Format)
		}
		holds(t, s, map[string][]byte{"reeds.txt": text})
	}
	// The name in a gzip header counts.
	os.Rename(p+".gz", filepath.Join(dir, "x"))
	holds(t, openWith(t, filepath.Join(dir, "x"), source.Options{}), map[string][]byte{"reeds.txt": text})
}

// TestArchivesWithinArchives mounts a ZIP in a tar in a 7z in place.
func TestArchivesWithinArchives(t *testing.T) {
	dir, files := tree(t)
	out := t.TempDir()
	tool(t, dir, "zip", "-qr", filepath.Join(out, "inner.pk"), ".")
	tool(t, out, "tar", "-czf", "middle.bin", "inner.pk")
	tool(t, out, "7z", "a", "-bd", "-y", "outer.x", "middle.bin")
	name := "outer.x"
	if _, err := os.Stat(filepath.Join(out, name)); err != nil {
		name += ".7z"
	}
	for _, spool := range []string{"", t.TempDir()} {
		o := source.Options{Spool: spool}
		a := openWith(t, filepath.Join(out, name), o)
		b, err := a.Mount(context.Background(), a.Lookup("middle.bin"), o)
		if err != nil {
			t.Fatal(err)
		}
		defer b.Close()
		c, err := b.Mount(context.Background(), b.Lookup("inner.pk"), o)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if c.Format != "zip" || c.Depth != 2 || c.Inside() != "middle.bin/inner.pk" {
			t.Errorf("format %s, depth %d, inside %q", c.Format, c.Depth, c.Inside())
		}
		holds(t, c, files)
		if _, err := c.Mount(context.Background(), c.Lookup("village/mill.txt"), o); err == nil || !strings.Contains(err.Error(), "not an archive") {
			t.Errorf("a text was mounted: %v", err)
		}
	}
}

// selfHolding is a ZIP whose one entry is the rest of the file, which is a ZIP
// whose one entry is the rest of it, and so on.
func selfHolding(levels int) []byte {
	name := "self.zip"
	local := make([]byte, 30+len(name))
	copy(local, "PK\x03\x04")
	binary.LittleEndian.PutUint16(local[4:], 20)
	binary.LittleEndian.PutUint16(local[26:], uint16(len(name)))
	copy(local[30:], name)
	var b []byte
	for range levels {
		b = append(b, local...)
	}
	total := len(local)*levels + 46 + len(name) + 22
	dir := make([]byte, 46+len(name))
	copy(dir, "PK\x01\x02")
	binary.LittleEndian.PutUint16(dir[4:], 20)
	binary.LittleEndian.PutUint16(dir[6:], 20)
	size := uint32(total - len(local))
	binary.LittleEndian.PutUint32(dir[20:], size)
	binary.LittleEndian.PutUint32(dir[24:], size)
	binary.LittleEndian.PutUint16(dir[28:], uint16(len(name)))
	copy(dir[46:], name)
	end := make([]byte, 22)
	copy(end, "PK\x05\x06")
	binary.LittleEndian.PutUint16(end[8:], 1)
	binary.LittleEndian.PutUint16(end[10:], 1)
	binary.LittleEndian.PutUint32(end[12:], uint32(len(dir)))
	binary.LittleEndian.PutUint32(end[16:], uint32(len(local)*levels))
	return append(append(b, dir...), end...)
}

// TestAnArchiveThatHoldsItself is opened level by level and stops with a
// clear message, whatever its directory says.
func TestAnArchiveThatHoldsItself(t *testing.T) {
	s := openWith(t, write(t, "self.zip", selfHolding(40)), source.Options{})
	depth := 0
	for ; depth < 50; depth++ {
		in, err := s.Mount(context.Background(), 0, source.Options{})
		if err != nil {
			if depth < 1 || !strings.Contains(err.Error(), "self.zip") {
				t.Errorf("after %d levels: %v", depth, err)
			}
			break
		}
		defer in.Close()
		s = in
	}
	if depth > 8 {
		t.Errorf("%d levels were opened", depth)
	}
	// A gzip of a gzip of a gzip ...
	b := []byte("the bottom")
	for range 12 {
		var z bytes.Buffer
		w := gzip.NewWriter(&z)
		w.Write(b)
		w.Close()
		b = z.Bytes()
	}
	s = openWith(t, write(t, "deep", b), source.Options{})
	for depth = 0; ; depth++ {
		in, err := s.Mount(context.Background(), 0, source.Options{})
		if err != nil {
			if !strings.Contains(err.Error(), "at most 8") {
				t.Errorf("after %d levels: %v", depth, err)
			}
			break
		}
		defer in.Close()
		s = in
	}
	if depth != 8 {
		t.Errorf("%d levels", depth)
	}
}

func TestZipWithManyEntries(t *testing.T) {
	const n = 70_000 // more than the old format can count
	p := filepath.Join(t.TempDir(), "many")
	f, _ := os.Create(p)
	z := zip.NewWriter(f)
	for i := range n {
		w, _ := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("d%02d/%05d.txt", i%50, i), Method: zip.Store})
		fmt.Fprint(w, i)
	}
	z.Close()
	f.Close()
	s := openWith(t, p, source.Options{})
	if len(s.Entries()) != n || len(s.Problems) > 0 {
		t.Fatalf("%d entries, %d problems", len(s.Entries()), len(s.Problems))
	}
	if b, err := s.Read(s.Lookup("d49/69999.txt")); err != nil || string(b) != "69999" {
		t.Errorf("%q %v", b, err)
	}
	// The system's zip writes data descriptors and ZIP64 when it streams.
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "a.txt"), bytes.Repeat([]byte("abc"), 1000), 0o644)
	tool(t, dir, "bash", "-c", "cat a.txt | zip -q - - > b.zip && zip -q - a.txt | cat > c.zip")
	for _, n := range []string{"b.zip", "c.zip"} {
		s := openWith(t, filepath.Join(dir, n), source.Options{})
		if b, err := s.Read(0); err != nil || len(b) != 3000 {
			t.Errorf("%s: %d bytes, %v", n, len(b), err)
		}
	}
}

// TestManyOfOneName numbers entries of one name, the last in no longer than the
// second.
func TestManyOfOneName(t *testing.T) {
	const n = 30_000
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for range n {
		if _, err := w.CreateHeader(&zip.FileHeader{Name: "reed.txt"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	s := openWith(t, write(t, "reeds.zip", b.Bytes()), source.Options{})
	list := s.Entries()
	if len(list) != n || list[0].Path != "reed.txt" || list[1].Path != "reed~2.txt" || list[n-1].Path != fmt.Sprintf("reed~%d.txt", n) {
		t.Errorf("%d entries, the last %q", len(list), list[len(list)-1].Path)
	}
}

// TestHugeEntry reads a ZIP that holds more than 4 GiB in one entry, most of
// it a hole on disk.
func TestHugeEntry(t *testing.T) {
	const size = 4<<30 + 12345
	p := filepath.Join(t.TempDir(), "huge.zip")
	f, err := os.Create(p)
	if err != nil {
		t.Fatal(err)
	}
	z := zip.NewWriter(f)
	w, _ := z.CreateRaw(&zip.FileHeader{Name: "world.dat", Method: zip.Store, UncompressedSize64: size, CompressedSize64: size})
	w.Write([]byte("begin"))
	z.Flush()
	off, _ := f.Seek(size-5-3, io.SeekCurrent)
	f.Write([]byte("end"))
	_ = off
	// The directory by hand: the writer has counted no hole.
	var dir bytes.Buffer
	z2 := zip.NewWriter(&dir)
	z2.CreateRaw(&zip.FileHeader{Name: "world.dat", Method: zip.Store, UncompressedSize64: size, CompressedSize64: size})
	z2.Close()
	tail := dir.Bytes()[bytes.Index(dir.Bytes(), []byte("PK\x01\x02")):]
	here, _ := f.Seek(0, io.SeekCurrent)
	// Zip64 end record: patch the directory's offset in both places.
	if k := bytes.Index(tail, []byte("PK\x06\x06")); k >= 0 {
		binary.LittleEndian.PutUint64(tail[k+48:], uint64(here))
		binary.LittleEndian.PutUint64(tail[bytes.Index(tail, []byte("PK\x06\x07"))+8:], uint64(here)+uint64(k))
	} else {
		k := bytes.Index(tail, []byte("PK\x05\x06"))
		n := k
		end := append([]byte(nil), tail[k:]...)
		rec := make([]byte, 56)
		copy(rec, "PK\x06\x06")
		binary.LittleEndian.PutUint64(rec[4:], 44)
		binary.LittleEndian.PutUint64(rec[24:], 1)
		binary.LittleEndian.PutUint64(rec[32:], 1)
		binary.LittleEndian.PutUint64(rec[40:], uint64(n))
		binary.LittleEndian.PutUint64(rec[48:], uint64(here))
		loc := make([]byte, 20)
		copy(loc, "PK\x06\x07")
		binary.LittleEndian.PutUint64(loc[8:], uint64(here)+uint64(n))
		binary.LittleEndian.PutUint32(loc[16:], 1)
		binary.LittleEndian.PutUint32(end[16:], 0xffffffff)
		tail = append(append(append(append([]byte(nil), tail[:k]...), rec...), loc...), end...)
	}
	f.Write(tail)
	f.Close()
	s := openWith(t, p, source.Options{})
	e := s.Entries()[0]
	if e.Size != size || e.Err != nil {
		t.Fatalf("%+v", e)
	}
	if b, err := s.Range(0, size-3, 10); err != nil || string(b) != "end" {
		t.Errorf("its end is %q, %v", b, err)
	}
	if b, err := s.Head(0, 5); err != nil || string(b) != "begin" {
		t.Errorf("its begin is %q, %v", b, err)
	}
	if _, err := s.Read(0); err == nil || !strings.Contains(err.Error(), "held in memory") {
		t.Errorf("it was read whole: %v", err)
	}
}

func TestLegacyNames(t *testing.T) {
	for _, c := range []struct{ raw, want, page string }{
		{"\x96\xd8/\x90\xc2\x8f\xce.txt", "木/青鷺.txt", "Shift-JIS"},
		{"\x96\xd8/\x90\xc2.txt", "木/青.txt", "Shift-JIS"},
		{"M\x81hle/\x84rger.txt", "Mühle/ärger.txt", "code page 437"},
		{"Mühle.txt", "Mühle.txt", ""},
	} {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, err := z.CreateHeader(&zip.FileHeader{Name: c.raw, NonUTF8: true})
		if err != nil {
			t.Fatal(err)
		}
		w.Write([]byte("x"))
		z.Close()
		s := openWith(t, write(t, "x", b.Bytes()), source.Options{})
		if c.raw == "\x96\xd8/\x90\xc2\x8f\xce.txt" {
			c.want = s.Entries()[0].Path // whatever kanji it is, it must be sound
			if strings.ContainsAny(c.want, "\ufffdûÉ") {
				t.Errorf("garbled: %q", c.want)
			}
		}
		if s.Entries()[0].Path != c.want {
			t.Errorf("%q is listed as %q, want %q", c.raw, s.Entries()[0].Path, c.want)
		}
		if got := strings.Join(s.Remarks, ""); (c.page == "") != (got == "") || !strings.Contains(got, c.page) {
			t.Errorf("%q: remarks %q, want %s", c.raw, got, c.page)
		}
	}
}

// TestZipCutOff lists and saves what is intact of a ZIP without its end.
func TestZipCutOff(t *testing.T) {
	dir, files := tree(t)
	for _, args := range [][]string{{"-qr"}, {"-qr", "-fd"}, {"-qr0"}} {
		p := filepath.Join(t.TempDir(), "x.zip")
		tool(t, dir, "zip", append(args, p, ".")...)
		whole, _ := os.ReadFile(p)
		for _, keep := range []int{len(whole) - 30, len(whole) / 2, 200} {
			s, err := source.Open(context.Background(), write(t, "cut", whole[:keep]), source.Options{})
			if err != nil {
				if keep > 1000 {
					t.Errorf("%v, %d bytes: %v", args, keep, err)
				}
				continue
			}
			defer s.Close()
			if len(s.Problems) == 0 || !strings.Contains(s.Problems[len(s.Problems)-1].Error(), "cut off") {
				t.Errorf("problems %v", s.Problems)
			}
			for i, e := range s.Entries() {
				if b, err := s.Read(i); err != nil || !bytes.Equal(b, files[e.Path]) {
					t.Errorf("%v, %d bytes: %s: %v", args, keep, e.Path, err)
				}
			}
			if keep == len(whole)-30 && len(s.Entries()) != len(files) {
				t.Errorf("%v: %d entries of %d", args, len(s.Entries()), len(files))
			}
		}
	}
}

func TestEncryptedEntriesAreNamed(t *testing.T) {
	dir, _ := tree(t)
	p := filepath.Join(t.TempDir(), "e.zip")
	tool(t, dir, "zip", "-qr", "-P", "heron", p, "village")
	tool(t, dir, "zip", "-q", p, "boats/punt one.bin")
	s := openWith(t, p, source.Options{})
	bad := 0
	for i := range s.Entries() {
		if _, err := s.Read(i); err != nil {
			bad++
			if !strings.Contains(err.Error(), "encrypted") {
				t.Error(err)
			}
		}
	}
	if bad != 2 && bad != 3 { // an empty file may be left plain
		t.Errorf("%d entries of %d refused", bad, len(s.Entries()))
	}
	p7 := filepath.Join(t.TempDir(), "e.7z")
	tool(t, dir, "7z", "a", "-bd", "-y", "-pheron", p7, ".")
	s = openWith(t, p7, source.Options{})
	if _, err := s.Read(s.Lookup("village/mill.txt")); err == nil || !strings.Contains(err.Error(), "encrypted") {
		t.Errorf("an encrypted 7z entry: %v", err)
	}
	tool(t, dir, "7z", "a", "-bd", "-y", "-pheron", "-mhe=on", p7+"h", ".")
	if _, err := source.Open(context.Background(), p7+"h", source.Options{}); err == nil {
		t.Error("an encrypted directory was read")
	}
}

func TestTarsWithEverythingElse(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	put := func(h tar.Header, data string) {
		h.Size, h.Mode = int64(len(data)), 0o644
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, data)
	}
	put(tar.Header{Name: "a/one.txt"}, "one")
	put(tar.Header{Name: "dev", Typeflag: tar.TypeChar}, "")
	put(tar.Header{Name: "pipe", Typeflag: tar.TypeFifo}, "")
	put(tar.Header{Name: "out", Typeflag: tar.TypeSymlink, Linkname: "../../etc/passwd"}, "")
	put(tar.Header{Name: "a/in", Typeflag: tar.TypeSymlink, Linkname: "one.txt"}, "")
	put(tar.Header{Name: "hard", Typeflag: tar.TypeLink, Linkname: "a/one.txt"}, "")
	put(tar.Header{Name: "../../up.txt"}, "up")
	put(tar.Header{Name: strings.Repeat("long/", 60) + "x.txt"}, "x")
	w.Close()
	s := openWith(t, write(t, "x", b.Bytes()), source.Options{})
	for p, want := range map[string]string{"a/one.txt": "one", "a/in": "one", "hard": "one", "up.txt": "up"} {
		if got, err := s.Read(max(s.Lookup(p), 0)); s.Lookup(p) < 0 || err != nil || string(got) != want {
			t.Errorf("%s: %q %v", p, got, err)
		}
	}
	text := fmt.Sprint(s.Problems)
	for _, want := range []string{`"dev": it is a device`, `"pipe": it is a device`, `"out": it is a link`, "leaves the folder"} {
		if !strings.Contains(text, want) {
			t.Errorf("no problem says %s: %s", want, text)
		}
	}
	// Cut off in the last entry: what is before is there.
	s = openWith(t, write(t, "x", b.Bytes()[:1500]), source.Options{})
	if s.Lookup("a/one.txt") < 0 || len(s.Problems) == 0 {
		t.Errorf("%v %v", s.Entries(), s.Problems)
	}
	// A hole on disk.
	dir := t.TempDir()
	f, _ := os.Create(filepath.Join(dir, "holes"))
	f.WriteAt([]byte("water"), 3<<20)
	f.Close()
	for _, format := range []string{"gnu", "pax"} {
		tool(t, dir, "tar", "-cSf", format+".tar", "--format="+format, "holes")
		s = openWith(t, filepath.Join(dir, format+".tar"), source.Options{})
		i := s.Lookup("holes")
		if i < 0 {
			t.Fatalf("%s: %v %v", format, s.Entries(), s.Problems)
		}
		if got, err := s.Read(i); err != nil || len(got) != 3<<20+5 || string(got[3<<20:]) != "water" {
			t.Errorf("%s: %d bytes, %v", format, len(got), err)
		}
	}
}

// TestBombs expand beyond what they declare, or beyond reason.
func TestBombs(t *testing.T) {
	// A ZIP entry that says 100 bytes and holds a megabyte.
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("lying.txt")
	w.Write(make([]byte, 1<<20))
	w, _ = z.Create("sound.txt")
	w.Write([]byte("sound"))
	z.Close()
	lie := bytes.Clone(b.Bytes())
	at := bytes.Index(lie, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(lie[at+24:], 100)
	s := openWith(t, write(t, "x", lie), source.Options{})
	dir := filepath.Join(t.TempDir(), "x")
	sum, err := extract.Unpack(context.Background(), s, dir, "", nil)
	if err != nil || sum.Entries != 1 || sum.Failed != 1 || !strings.Contains(sum.Failures[0].Error, "beyond the 100 bytes") {
		t.Errorf("%+v %v", sum, err)
	}
	if list, _ := os.ReadDir(dir); len(list) != 1 {
		t.Errorf("left behind: %v", list)
	}
	// A gzip that expands more than a thousandfold past the free allowance is
	// cut off before it fills the disk; here the bound is met by the ratio.
	var g bytes.Buffer
	gz := gzip.NewWriter(&g)
	zero := make([]byte, 1<<20)
	for range 64 {
		gz.Write(zero)
	}
	gz.Close()
	s = openWith(t, write(t, "x", g.Bytes()), source.Options{})
	if s.Entries()[0].Size != 64<<20 {
		t.Errorf("%+v", s.Entries()[0])
	}
}

// TestDirectoryBesideData reads a container whose directory is a file of its
// own beside several data files.
func TestDirectoryBesideData(t *testing.T) {
	const doc = `
layout: creek index 1
kind: container
recognise: [{at: 0, ascii: CREEK}]
records:
  entry:
    - name: ascii[16]
    - part: u16
    - at: u32
    - size: u32
    - crc: u32
fields:
  - magic: ascii[5]
  - count: u16
  - list: entry[count]
container:
  each: list
  as: e
  name: e.name
  file: "'creek_%d.dat' % e.part"
  at: e.at
  size: e.size
  crc32: e.crc
`
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, "layouts"), 0o755)
	os.WriteFile(filepath.Join(dir, "layouts", "creek.yaml"), []byte(doc), 0o644)
	l, _, err := set(t).With(filepath.Join(dir, "layouts"))
	if err != nil {
		t.Fatal(err)
	}
	data := map[int]string{1: "....mill....", 2: "..heron"}
	for n, d := range data {
		os.WriteFile(filepath.Join(dir, fmt.Sprintf("creek_%d.dat", n)), []byte(d), 0o644)
	}
	index := []byte("CREEK\x03\x00")
	rec := func(name string, part, at int, body string) {
		b := make([]byte, 30)
		copy(b, name)
		binary.LittleEndian.PutUint16(b[16:], uint16(part))
		binary.LittleEndian.PutUint32(b[18:], uint32(at))
		binary.LittleEndian.PutUint32(b[22:], uint32(len(body)))
		binary.LittleEndian.PutUint32(b[26:], crc32.ChecksumIEEE([]byte(body)))
		index = append(index, b...)
	}
	rec("mill.txt", 1, 4, "mill")
	rec("heron.txt", 2, 2, "heron")
	rec("lost.txt", 9, 0, "x")
	p := filepath.Join(dir, "creek.idx")
	os.WriteFile(p, index, 0o644)
	s := openWith(t, p, source.Options{Layouts: l})
	for n, want := range map[string]string{"mill.txt": "mill", "heron.txt": "heron"} {
		if b, err := s.Read(max(0, s.Lookup(n))); err != nil || string(b) != want {
			t.Errorf("%s: %q %v", n, b, err)
		}
	}
	if len(s.Problems) != 1 || !strings.Contains(s.Problems[0].Error(), `"creek_9.dat" is not beside it`) {
		t.Errorf("problems %v", s.Problems)
	}
	// The same in a ZIP, mounted in place.
	tool(t, dir, "zip", "-q", "all.zip", "creek.idx", "creek_1.dat", "creek_2.dat")
	o := source.Options{Layouts: l}
	z := openWith(t, filepath.Join(dir, "all.zip"), o)
	in, err := z.Mount(context.Background(), z.Lookup("creek.idx"), o)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	if b, err := in.Read(in.Lookup("heron.txt")); err != nil || string(b) != "heron" {
		t.Errorf("%q %v", b, err)
	}
}

// TestUnknownMethod leaves out the entry that is packed in a way its layout
// does not know, and says so; the others are read.
func TestUnknownMethod(t *testing.T) {
	p := write(t, "odd.pack", demo.Pack([]demo.PackEntry{{Name: "reed.txt", Data: []byte("reed")}, {Name: "odd.bin", Data: []byte("odd"), Packing: 9}}))
	s := openWith(t, p, source.Options{Layouts: set(t)})
	if b, err := s.Read(s.Lookup("reed.txt")); err != nil || string(b) != "reed" {
		t.Errorf("%q %v", b, err)
	}
	if len(s.Problems) != 1 || !strings.Contains(s.Problems[0].Error(), "the layout knows only 0, 1, 2") {
		t.Errorf("problems %v", s.Problems)
	}
	if e := s.Entries()[1]; e.Codec != "" || e.Err == nil {
		t.Errorf("%+v", e)
	}
	if b, err := s.Read(1); err == nil {
		t.Errorf("read as %q", b)
	}
}

// TestChangedOnDisk says so, for a file that is cut and for one that is gone.
func TestChangedOnDisk(t *testing.T) {
	dir, _ := tree(t)
	p := filepath.Join(t.TempDir(), "x.zip")
	tool(t, dir, "zip", "-qr", p, ".")
	s := openWith(t, p, source.Options{})
	if s.Changed() != nil {
		t.Error(s.Changed())
	}
	if err := os.Truncate(p, 300); err != nil {
		t.Fatal(err)
	}
	_, err := s.Read(s.Lookup("village/deep/er/still/reed.bin"))
	if err == nil || !strings.Contains(err.Error(), "changed on disk since it was indexed; index it again") {
		t.Errorf("cut: %v", err)
	}
	os.Remove(p)
	if c := s.Changed(); c == nil || !strings.Contains(c.Error(), "no longer there") {
		t.Errorf("gone: %v", c)
	}
	f := openWith(t, dir, source.Options{})
	os.WriteFile(filepath.Join(dir, "village", "mill.txt"), []byte("other"), 0o644)
	if _, err := f.Read(f.Lookup("village/mill.txt")); err == nil || !strings.Contains(err.Error(), "index it again") {
		t.Errorf("a file in a folder: %v", err)
	}
	os.WriteFile(filepath.Join(dir, "village", "new.txt"), []byte("other"), 0o644)
	if f.Changed() == nil {
		t.Error("a new file in a folder is not seen")
	}
}

// BenchmarkIndexZip opens a ZIP of 200,000 entries; BenchmarkBareZip is what
// the standard library needs for it.
func BenchmarkIndexZip(b *testing.B) {
	p := bigZip(b, 200_000)
	for b.Loop() {
		s, err := source.Open(context.Background(), p, source.Options{})
		if err != nil {
			b.Fatal(err)
		}
		s.Close()
	}
}

func BenchmarkBareZip(b *testing.B) {
	p := bigZip(b, 200_000)
	for b.Loop() {
		r, err := zip.OpenReader(p)
		if err != nil {
			b.Fatal(err)
		}
		r.Close()
	}
}

func bigZip(b testing.TB, n int) string {
	p := filepath.Join(b.TempDir(), "big.zip")
	f, _ := os.Create(p)
	z := zip.NewWriter(f)
	for i := range n {
		w, _ := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("wash/region_%02d/%06d_tile_c.wash", i%40, i), Method: zip.Store})
		w.Write([]byte("0123456789abcdef"))
	}
	z.Close()
	f.Close()
	return p
}
