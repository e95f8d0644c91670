package demo_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"image"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"testing"
	"time"

	"excavate/core/find"
	"excavate/core/pixel"
	"excavate/core/source"
	"excavate/internal/demo"
	"excavate/internal/shipped"
)

// mutants is how many broken files are tried; EXCAVATE_MUTANTS asks for more.
func mutants() int {
	if n, err := strconv.Atoi(os.Getenv("EXCAVATE_MUTANTS")); err == nil {
		return n
	}
	return 300
}

// sound are files of every format that is read: models as every writer writes
// them, models and pictures of every layout, pictures, archives.
func sound(t *testing.T, lib *find.Library) map[string][]byte {
	out := map[string][]byte{}
	dir := t.TempDir()
	if err := demo.Write(dir, nil); err != nil {
		t.Fatal(err)
	}
	files := demo.Files(nil)
	var z, tr bytes.Buffer
	zw, tw := zip.NewWriter(&z), tar.NewWriter(&tr)
	for name, data := range files {
		if len(data) > 4<<20 {
			continue
		}
		out[name] = data
		w, err := zw.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(data)
		tw.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data))})
		tw.Write(data)
		src, err := source.Open(t.Context(), filepath.Join(dir, name), source.Options{Layouts: lib.Layouts})
		if err != nil {
			continue
		}
		for i, e := range src.Entries() {
			if b, err := src.Read(i); err == nil {
				out[name+"-"+filepath.Base(e.Path)] = b
			}
		}
		src.Close()
	}
	zw.Close()
	tw.Close()
	out["all.zip"], out["all.tar"] = z.Bytes(), tr.Bytes()
	s, _, err := lib.Decode(t.Context(), find.Input{Name: "ferry_keeper.hull", Data: out["hulls.tide-ferry_keeper.hull"]})
	if err != nil {
		t.Fatal(err)
	}
	for i := range shipped.Writers {
		made, _, err := shipped.Writers[i].Write(s, "keeper")
		if err != nil && shipped.Writers[i].Name != "vrm" { // the demo has avatars of its own
			t.Fatal(err)
		}
		for _, w := range made {
			out[shipped.Writers[i].Name+"-"+filepath.Base(w.Name)] = w.Data
		}
	}
	img := image.NewNRGBA(image.Rect(0, 0, 48, 32))
	for i := range img.Pix {
		img.Pix[i] = byte(i * i / 7)
	}
	for _, name := range []string{"png", "jpeg", "tga", "bmp", "dds", "ktx2"} {
		b, _, err := pixel.Write(name, img, pixel.WriteOptions{Texels: "bc1", Quality: 80, Mips: true})
		if err != nil {
			t.Fatal(err)
		}
		out["picture."+name] = b
	}
	return out
}

// breakIt does to a file what bad disks, bad copies and bad tools do.
func breakIt(r *rand.Rand, b []byte) []byte {
	b = bytes.Clone(b)
	for range 1 + r.IntN(4) {
		if len(b) < 8 {
			return b
		}
		at := r.IntN(len(b) - 4)
		if r.IntN(2) == 0 { // headers and tables lie in front
			at = r.IntN(min(len(b)-4, 256))
		}
		n := min(len(b)-at, 1+r.IntN(64))
		switch r.IntN(8) {
		case 0:
			b = b[:at]
		case 1:
			copy(b[at:at+4], "\xff\xff\xff\xff")
		case 2:
			copy(b[at:at+4], "\xff\xff\xff\x7f")
		case 3:
			clear(b[at : at+n])
		case 4:
			b = append(b[:at:at], append(bytes.Clone(b[at:at+n]), b[at:]...)...)
		case 5:
			b = append(b[:at:at], b[at+n:]...)
		default:
			for range 1 + r.IntN(6) {
				b[at+r.IntN(4)] ^= 1 << r.IntN(8)
			}
		}
	}
	return b
}

// A broken file is read as far as it goes, or refused with a reason: it never
// ends the process, hangs, or takes memory without bound.
func TestBrokenFiles(t *testing.T) {
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	good := sound(t, lib)
	var names []string
	for n := range good {
		names = append(names, n)
	}
	sort.Strings(names)
	if len(names) < 40 {
		t.Fatalf("only %d kinds of file: %q", len(names), names)
	}
	r := rand.New(rand.NewPCG(7, 11))
	read, refused, archives := 0, 0, 0
	var slowest time.Duration
	var largest uint64
	slow, large := "", ""
	for i := range mutants() {
		name := names[i%len(names)]
		data := breakIt(r, good[name])
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		begun := time.Now()
		ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
		err := take(ctx, t, lib, name, data, &archives)
		if ctx.Err() != nil {
			t.Errorf("%s, file %d, takes more than a minute", name, i)
		}
		cancel()
		took := time.Since(begun)
		runtime.ReadMemStats(&after)
		if took > slowest {
			slowest, slow = took, name
		}
		if got := after.TotalAlloc - before.TotalAlloc; got > largest {
			largest, large = got, name
		}
		if own := (*find.OwnFault)(nil); errors.As(err, &own) {
			os.WriteFile(filepath.Join(os.TempDir(), "broken-"+name), data, 0o600)
			t.Errorf("%s, file %d: %s\n%s", name, i, own.What, own.Stack)
		}
		switch {
		case err == nil:
			read++
		case err.Error() == "":
			t.Errorf("%s, file %d, is refused without a reason", name, i)
		default:
			refused++
		}
	}
	if largest > 2<<30 {
		t.Errorf("%s takes %d MB in all", large, largest>>20)
	}
	t.Logf("%d broken files of %d kinds: %d read, %d refused, %d of them archives; slowest %v (%s), most memory in all %d MB (%s)", mutants(), len(names), read, refused, archives, slowest.Round(time.Millisecond), slow, largest>>20, large)
}

// take reads a file as whatever it is.
func take(ctx context.Context, t *testing.T, lib *find.Library, name string, data []byte, archives *int) error {
	kind, _ := lib.KindOf(name, data[:min(len(data), find.HeadBytes)])
	switch kind {
	case find.Archive:
		*archives++
		p := filepath.Join(t.TempDir(), "in")
		if err := os.WriteFile(p, data, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := source.Open(ctx, p, source.Options{Layouts: lib.Layouts})
		if err != nil {
			return err
		}
		defer s.Close()
		var errs []error
		for i := range s.Entries() {
			_, err := s.Read(i)
			errs = append(errs, err)
		}
		return errors.Join(errs...)
	case find.Picture:
		_, err := lib.PictureOf(ctx, find.Input{Name: name, Data: data})
		return err
	}
	_, _, err := lib.Decode(ctx, find.Input{Name: name, Data: data})
	return err
}
