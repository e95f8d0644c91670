package extract_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"math/rand"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/extract"
	"excavate/core/source"
)

func zipFile(t testing.TB, names []string, data func(i int) []byte, method uint16) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), "x.zip")
	f, err := os.Create(p)
	if err != nil {
		t.Fatal(err)
	}
	z := zip.NewWriter(f)
	for i, n := range names {
		w, _ := z.CreateHeader(&zip.FileHeader{Name: n, Method: method})
		w.Write(data(i))
	}
	z.Close()
	f.Close()
	return p
}

func open(t testing.TB, p string) *source.Source {
	t.Helper()
	s, err := source.Open(context.Background(), p, source.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func all(s ...*source.Source) []extract.Ref {
	refs, _ := extract.Matching(s, "")
	return refs
}

func named(i int) []byte { return []byte(fmt.Sprint("content ", i)) }

func files(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			b, _ := os.ReadFile(p)
			rel, _ := filepath.Rel(dir, p)
			out[filepath.ToSlash(rel)] = string(b)
		}
		return nil
	})
	return out
}

func TestPlansSettleNames(t *testing.T) {
	s := open(t, zipFile(t, []string{"wash/a.png", "hull/b.hull", "wash/deep/c.png", "hull", "other.txt"}, named, zip.Deflate))
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "other.txt"), []byte("mine"), 0o644)
	run := func(policy extract.Policy, maps ...extract.Mapping) (extract.Summary, map[string]string) {
		t.Helper()
		to := t.TempDir()
		os.WriteFile(filepath.Join(to, "other.txt"), []byte("mine"), 0o644)
		plan, err := extract.NewPlan([]*source.Source{s}, all(s), extract.Options{Dir: to, Policy: policy, Map: maps})
		if err != nil {
			t.Fatal(err)
		}
		sum, err := (&extract.Job{Plan: plan, Sources: []*source.Source{s}, Dir: to, Policy: policy}).Run(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		return sum, files(t, to)
	}
	sum, got := run(extract.Refuse)
	if sum.Entries != 4 || sum.Failed != 1 || got["other.txt"] != "mine" || got["hull~2"] != "content 3" || len(sum.Changes) != 1 {
		t.Errorf("refuse: %+v %v", sum, got)
	}
	if sum, got = run(extract.Skip); sum.Skipped != 1 || sum.Entries != 4 || got["other.txt"] != "mine" {
		t.Errorf("skip: %+v %v", sum, got)
	}
	if sum, got = run(extract.Replace); sum.Entries != 5 || got["other.txt"] != "content 4" {
		t.Errorf("replace: %+v %v", sum, got)
	}
	sum, got = run(extract.KeepBoth, extract.Mapping{From: "wash/", To: "materials"}, extract.Mapping{From: "wash/deep", To: "/../deep/../../x"})
	if got["other.txt"] != "mine" || got["other~2.txt"] != "content 4" || got["materials/a.png"] != "content 0" || got["x/c.png"] != "content 2" {
		t.Errorf("keep both, mapped: %+v %v", sum, got)
	}
}

func TestZipOutput(t *testing.T) {
	names := []string{"a/One.txt", "a/one.TXT", "con.txt", "dot.", "b.bin"}
	s := open(t, zipFile(t, names, func(i int) []byte {
		if i == 4 {
			return bytes.Repeat([]byte("large "), 4<<20) // streamed
		}
		return named(i)
	}, zip.Deflate))
	to := filepath.Join(t.TempDir(), "out", "all.zip")
	plan, err := extract.NewPlan([]*source.Source{s}, all(s), extract.Options{})
	if err != nil {
		t.Fatal(err)
	}
	sum, err := (&extract.Job{Plan: plan, Sources: []*source.Source{s}, Zip: to}).Run(context.Background())
	if err != nil || sum.Entries != 5 || len(sum.Changes) != 3 {
		t.Fatalf("%+v %v", sum, err)
	}
	// The system's unzip tests every checksum.
	if out, err := exec.Command("unzip", "-t", to).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	list, _ := exec.Command("unzip", "-Z1", to).Output()
	for _, want := range []string{"a/One.txt", "a/one~2.TXT", "_con.txt", "dot", "b.bin"} {
		if !strings.Contains("\n"+string(list), "\n"+want+"\n") {
			t.Errorf("%s is not in\n%s", want, list)
		}
	}
}

// TestTakenUpAgain stops runs at many places and lets another go on.
func TestTakenUpAgain(t *testing.T) {
	var names []string
	for i := range 60 {
		names = append(names, fmt.Sprintf("d%d/%02d.txt", i%3, i))
	}
	p := zipFile(t, names, func(i int) []byte { return bytes.Repeat(named(i), 1+i*10) }, zip.Deflate)
	// One entry is damaged: it stays a failure over all runs.
	b, _ := os.ReadFile(p)
	at := bytes.Index(b, []byte("d1/07.txt"))
	b[at+9+3] ^= 0xff
	os.WriteFile(p, b, 0o644)
	s := open(t, p)
	src := []*source.Source{s}
	for _, asZip := range []bool{false, true} {
		for _, stopAt := range []int64{0, 1, 17, 40, 59} {
			dir := t.TempDir()
			journal := filepath.Join(t.TempDir(), "journal")
			job := func(ctx context.Context, stop int64, cancel func()) (extract.Summary, error) {
				j := &extract.Job{Sources: src, Journal: journal, Policy: extract.Replace}
				o := extract.Options{Dir: dir, Policy: extract.Replace}
				if asZip {
					o.Dir, j.Zip = "", filepath.Join(dir, "out.zip")
				} else {
					j.Dir = dir
				}
				plan, err := extract.NewPlan(src, all(s), o)
				if err != nil {
					t.Fatal(err)
				}
				j.Plan = plan
				j.Progress = func(entries, _ int64) {
					if entries >= stop && cancel != nil {
						cancel()
					}
				}
				return j.Run(ctx)
			}
			ctx, cancel := context.WithCancel(context.Background())
			sum, err := job(ctx, stopAt, cancel)
			if err == nil && sum.Entries < 59 || err != nil && !errors.Is(err, context.Canceled) {
				t.Errorf("zip %v, stop at %d: %+v %v", asZip, stopAt, sum, err)
			}
			for n := range files(t, dir) {
				if strings.HasSuffix(n, ".part") && !asZip {
					t.Errorf("%s was left behind", n)
				}
				if n == "out.zip" && err != nil {
					t.Error("a ZIP that is not whole is visible under its name")
				}
			}
			// As if the process had been killed in the middle of a line.
			f, _ := os.OpenFile(journal, os.O_APPEND|os.O_WRONLY, 0)
			f.WriteString("5")
			f.Close()
			again, err := job(context.Background(), 0, nil)
			if err != nil || again.Entries != 59 || again.Failed != 1 {
				t.Errorf("zip %v, after %d: %+v %v", asZip, stopAt, again, err)
			}
			if stopAt >= 17 && again.Resumed < stopAt-2 {
				t.Errorf("zip %v: only %d of %d were taken over", asZip, again.Resumed, stopAt)
			}
			got := files(t, dir)
			if asZip {
				if out, err := exec.Command("unzip", "-t", filepath.Join(dir, "out.zip")).CombinedOutput(); err != nil {
					t.Errorf("%v\n%s", err, out)
				}
				o := open(t, filepath.Join(dir, "out.zip"))
				if len(o.Entries()) != 59 {
					t.Errorf("the ZIP has %d entries", len(o.Entries()))
				}
			} else if len(got) != 59 || got["d2/08.txt"] != strings.Repeat("content 8", 81) {
				t.Errorf("%d files", len(got))
			}
		}
	}
}

// TestFullDisk extracts to a file system of two megabytes.
func TestFullDisk(t *testing.T) {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	defer exec.Command("umount", "-l", dir).Run()
	var names []string
	for i := range 40 {
		names = append(names, fmt.Sprintf("%02d.bin", i))
	}
	s := open(t, zipFile(t, names, func(i int) []byte { return bytes.Repeat([]byte{byte(i)}, 100_000) }, zip.Deflate))
	src := []*source.Source{s}
	plan, _ := extract.NewPlan(src, all(s), extract.Options{Dir: dir})
	journal := filepath.Join(t.TempDir(), "journal")
	job := &extract.Job{Plan: plan, Sources: src, Dir: dir, Journal: journal}
	if _, err := job.Run(context.Background()); err == nil || !strings.Contains(err.Error(), "4000000 bytes and the disk") {
		t.Errorf("more than fits: %v", err)
	}
	plan.Bytes = 0 // as if the directory lied
	sum, err := job.Run(context.Background())
	if err == nil || !strings.Contains(err.Error(), "is full") || sum.Complete || sum.Entries < 10 || sum.Failed != 0 {
		t.Fatalf("%+v %v", sum, err)
	}
	if len(files(t, dir)) != int(sum.Entries) {
		t.Errorf("%d files for %d entries", len(files(t, dir)), sum.Entries)
	}
	for n, b := range files(t, dir) {
		if len(b) != 100_000 {
			t.Errorf("%s has %d bytes", n, len(b))
		}
	}
	exec.Command("mount", "-o", "remount,size=16m", dir).Run()
	if again, err := job.Run(context.Background()); err != nil || again.Entries != 40 || again.Resumed != sum.Entries {
		t.Errorf("with room: %+v %v", again, err)
	}
}

// Benchmarks against the system's tools. Each extracts the same archive to a
// folder that is empty before.

func manyFiles(b testing.TB, method uint16) string {
	var names []string
	for i := range 20_000 {
		names = append(names, fmt.Sprintf("region_%02d/%05d.bin", i%100, i))
	}
	body := make([]byte, 52_000)
	x := uint32(1)
	for i := range body {
		x = x*1664525 + 1013904223
		body[i] = byte(i/37) + byte(x>>30)
	}
	// Packed once: packing is not what is measured.
	packed := body
	if method == zip.Deflate {
		var z bytes.Buffer
		w, _ := flate.NewWriter(&z, flate.DefaultCompression)
		w.Write(body)
		w.Close()
		packed = z.Bytes()
	}
	p := filepath.Join(b.TempDir(), "x.zip")
	f, err := os.Create(p)
	if err != nil {
		b.Fatal(err)
	}
	z := zip.NewWriter(f)
	for _, n := range names {
		w, _ := z.CreateRaw(&zip.FileHeader{Name: n, Method: method, CRC32: crc32.ChecksumIEEE(body), CompressedSize64: uint64(len(packed)), UncompressedSize64: uint64(len(body))})
		w.Write(packed)
	}
	z.Close()
	f.Close()
	return p
}

func benchExtract(b *testing.B, p string, run func(to string) error) {
	base := b.TempDir()
	b.SetBytes(20_000 * 52_000)
	n := 0
	for b.Loop() {
		to := filepath.Join(base, fmt.Sprint(n))
		n++
		if err := run(to); err != nil {
			b.Fatal(err)
		}
		b.StopTimer()
		os.RemoveAll(to)
		exec.Command("sync", "-f", base).Run()
		b.StartTimer()
	}
}

func ours(b *testing.B, p string) {
	benchExtract(b, p, func(to string) error {
		s, err := source.Open(context.Background(), p, source.Options{})
		if err != nil {
			return err
		}
		defer s.Close()
		sum, err := extract.Unpack(context.Background(), s, to, "", nil)
		if sum.Failed > 0 || sum.Entries != 20_000 {
			return fmt.Errorf("%+v", sum)
		}
		return err
	})
}

func BenchmarkDeflated(b *testing.B) { ours(b, manyFiles(b, zip.Deflate)) }

func BenchmarkDeflatedByUnzip(b *testing.B) {
	p := manyFiles(b, zip.Deflate)
	benchExtract(b, p, func(to string) error { return exec.Command("unzip", "-qq", p, "-d", to).Run() })
}

func BenchmarkStored(b *testing.B) { ours(b, manyFiles(b, zip.Store)) }

// BenchmarkStoredByCopy copies the tree that the archive holds.
func BenchmarkStoredByCopy(b *testing.B) {
	p := manyFiles(b, zip.Store)
	tree := filepath.Join(b.TempDir(), "tree")
	if err := exec.Command("unzip", "-qq", p, "-d", tree).Run(); err != nil {
		b.Fatal(err)
	}
	benchExtract(b, p, func(to string) error { return exec.Command("cp", "-r", tree, to).Run() })
}

// Whatever the names are, no two entries of a plan go to one place, none
// leaves the folder, and nothing is dropped.
func TestPlansOfAnyNames(t *testing.T) {
	r := rand.New(rand.NewSource(9))
	parts := []string{"Reed", "reed", "REED", "con", "Aux.txt", "tide.", "mill ", "a", "A", "x~2", "x"}
	for round := range 60 {
		var names []string
		for range 1 + r.Intn(40) {
			n := parts[r.Intn(len(parts))]
			for range r.Intn(3) {
				n += "/" + parts[r.Intn(len(parts))]
			}
			names = append(names, n)
		}
		s := open(t, zipFile(t, names, named, zip.Store))
		for _, o := range []extract.Options{{}, {Flat: true}, {Dir: t.TempDir(), Policy: extract.Refuse}, {Map: []extract.Mapping{{From: "reed/", To: "a"}, {From: "re", To: "../../b"}, {From: "", To: "c"}}}} {
			p, err := extract.NewPlan([]*source.Source{s}, all(s), o)
			if err != nil {
				t.Fatal(err)
			}
			if len(p.Items) != len(s.Entries()) {
				t.Fatalf("round %d: %d of %d entries are planned", round, len(p.Items), len(s.Entries()))
			}
			fold := o.Dir == ""
			seen := map[string]string{}
			folders := map[string]bool{}
			key := func(s string) string {
				if fold {
					return strings.ToLower(s)
				}
				return s
			}
			for _, it := range p.Items {
				if !filepath.IsLocal(filepath.FromSlash(it.To)) || strings.Contains(it.To, "\\") {
					t.Fatalf("round %d: %q leaves the folder", round, it.To)
				}
				if other, ok := seen[key(it.To)]; ok {
					t.Fatalf("round %d, %+v: %q and %q go to one place", round, o, other, it.To)
				}
				seen[key(it.To)] = it.To
				for d := path.Dir(it.To); d != "."; d = path.Dir(d) {
					folders[key(d)] = true
				}
			}
			for k := range seen {
				if folders[k] {
					t.Fatalf("round %d, %+v: %q is a file and a folder", round, o, k)
				}
			}
			for _, c := range p.Changes {
				if c.Why == "" || c.To == c.Entry {
					t.Errorf("%+v", c)
				}
			}
		}
	}
}

func TestTheLongestPrefixMoves(t *testing.T) {
	s := open(t, zipFile(t, []string{"wash/fauna/heron.w", "wash/reed.w", "washing.w", "other/x.w"}, named, zip.Store))
	p, err := extract.NewPlan([]*source.Source{s}, all(s), extract.Options{Map: []extract.Mapping{{From: "wash/", To: "materials"}, {From: "wash/fauna/", To: "/animals/"}, {From: "\\other", To: ""}}})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, it := range p.Items {
		got = append(got, it.To)
	}
	if want := "animals/heron.w materials/reed.w washing.w x.w"; strings.Join(got, " ") != want {
		t.Errorf("%q, want %q", got, want)
	}
}
