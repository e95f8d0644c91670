package app_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"excavate/standin/exchange"
)

// ask sends a request and reads the answer into out; the status is returned.
func (p *process) ask(t testing.TB, method, path string, body, out any) int {
	t.Helper()
	var r io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		r = bytes.NewReader(b)
	default:
		j, err := json.Marshal(b)
		if err != nil {
			t.Fatal(err)
		}
		r = bytes.NewReader(j)
	}
	req, _ := http.NewRequest(method, p.url+path, r)
	res, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return 0
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		return 0
	}
	if out != nil && res.StatusCode < 300 && len(b) > 0 {
		if err := json.Unmarshal(b, out); err != nil {
			t.Fatalf("%s: %v in %.200s", path, err, b)
		}
	}
	return res.StatusCode
}

func until(t testing.TB, what string, most time.Duration, f func() bool) {
	t.Helper()
	for end := time.Now().Add(most); !f(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%s did not happen", what)
		}
	}
}

type sourceState struct {
	ID         int64
	Label      string
	State      string
	Error      string
	Entries    int
	KindsKnown bool
}

// makeZip writes an archive of n files of size bytes that do not pack well.
func makeZip(t testing.TB, name string, n, size int, method uint16) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	w := zip.NewWriter(f)
	data := make([]byte, size)
	rand.New(rand.NewSource(1)).Read(data)
	for i := range n {
		x, err := w.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("area_%03d/thing_%06d.dat", i%250, i), Method: method})
		if err == nil {
			copy(data, strconv.Itoa(i))
			_, err = x.Write(data)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
}

func TestDatabaseRestartsInMidIndex(t *testing.T) {
	bin, data, lib := build(t), filepath.Join(t.TempDir(), "data"), t.TempDir()
	const n = 60_000
	makeZip(t, filepath.Join(lib, "many.zip"), n, 16, zip.Store)
	p := launch(t, bin, "serve", "--data", data, "--library", lib, "--port", "0")
	var proj struct{ ID int64 }
	p.ask(t, "POST", "/api/projects", map[string]string{"name": "x"}, &proj)
	path := fmt.Sprintf("/api/projects/%d", proj.ID)
	if s := p.ask(t, "POST", path+"/sources", map[string]string{"path": filepath.Join(lib, "many.zip")}, nil); s != 201 {
		t.Fatal(s)
	}
	until(t, "progress", 20*time.Second, func() bool {
		var jobs []struct {
			Kind, State string
			Done        int64
		}
		p.ask(t, "GET", path+"/jobs", nil, &jobs)
		for _, j := range jobs {
			if j.Kind == "index" && j.Done > 0 || j.State == "done" {
				return true
			}
		}
		return false
	})
	syscall.Kill(pid(t, data), syscall.SIGKILL)
	var list []sourceState
	until(t, "the index", 90*time.Second, func() bool {
		return p.ask(t, "GET", path+"/sources", nil, &list) == 200 && len(list) == 1 && (list[0].KindsKnown || list[0].State == "failed")
	})
	if list[0].State != "ready" || list[0].Entries != n {
		t.Fatalf("%+v", list[0])
	}
	var page struct{ Total int }
	if p.ask(t, "GET", path+"/entries?q=thing_0599", nil, &page); page.Total != 100 {
		t.Errorf("%d entries", page.Total)
	}
	p.cmd.Process.Signal(syscall.SIGTERM)
	p.cmd.Wait()
}

// TestServerKilledInMidWork kills the server while a file is uploaded,
// entries are extracted and an avatar is downloaded. All three go on with the
// next server.
func TestServerKilledInMidWork(t *testing.T) {
	bin, data, lib := build(t), filepath.Join(t.TempDir(), "data"), t.TempDir()
	const n, size = 6000, 20_000
	makeZip(t, filepath.Join(lib, "pack.zip"), n, size, zip.Deflate)
	x := exchange.New()
	ranges := 0
	ex := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Range") != "" {
			ranges++
		}
		x.Handler().ServeHTTP(w, r)
	}))
	defer ex.Close()
	start := func() *process { return launch(t, bin, "serve", "--data", data, "--library", lib, "--port", "0") }
	p := start()
	var proj struct{ ID int64 }
	p.ask(t, "POST", "/api/projects", map[string]string{"name": "x"}, &proj)
	path := fmt.Sprintf("/api/projects/%d", proj.ID)
	p.ask(t, "POST", path+"/sources", map[string]string{"path": filepath.Join(lib, "pack.zip")}, nil)
	sources := func() (list []sourceState) {
		p.ask(t, "GET", path+"/sources", nil, &list)
		return list
	}
	until(t, "the index", 60*time.Second, func() bool { l := sources(); return len(l) == 1 && l[0].KindsKnown })

	upload := make([]byte, 3<<20)
	rand.New(rand.NewSource(2)).Read(upload)
	begin := map[string]any{"name": "mine.bin", "folder": false, "files": []any{map[string]any{"path": "mine.bin", "size": len(upload), "modified": 5}}}
	var up struct {
		ID       string
		Received []int
	}
	p.ask(t, "POST", path+"/uploads", begin, &up)
	if s := p.ask(t, "PUT", "/api/uploads/"+up.ID+"/files/0?offset=0", upload[:1<<20], nil); s != 200 {
		t.Fatal(s)
	}
	var dev struct{ ID int64 }
	if s := p.ask(t, "POST", path+"/devices", map[string]string{"address": ex.URL, "token": exchange.Token}, &dev); s != 201 {
		t.Fatal(s)
	}
	var offers []struct{ ID string }
	p.ask(t, "GET", fmt.Sprintf("/api/devices/%d/offers", dev.ID), nil, &offers)
	http.Post(ex.URL+"/trouble", "application/json", strings.NewReader(`{"bytesPerSecond": 250000}`))
	p.ask(t, "POST", fmt.Sprintf("/api/devices/%d/pull", dev.ID), map[string]any{"offers": []string{offers[0].ID}}, nil)
	var out struct {
		ID      int64
		To      string
		State   string
		Error   string
		Summary struct{ Entries, Resumed, Failed int }
	}
	if s := p.ask(t, "POST", path+"/extractions", map[string]any{"title": "all", "selection": map[string]any{"filter": map[string]any{}}, "form": "folder"}, &out); s != 201 {
		t.Fatal(s)
	}
	until(t, "half of the work", 30*time.Second, func() bool {
		half, arrived := 0, false
		filepath.WalkDir(out.To, func(_ string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				half++
			}
			return nil
		})
		parts, _ := filepath.Glob(filepath.Join(data, "devices", "*", "files", "*.part"))
		for _, f := range parts {
			st, err := os.Stat(f)
			arrived = arrived || err == nil && st.Size() > 0
		}
		return half > n/20 && arrived
	})
	db := pid(t, data)
	p.cmd.Process.Kill()
	p.cmd.Wait()
	// No half of a file lies under its final name.
	filepath.WalkDir(out.To, func(f string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasSuffix(f, ".part") {
			if st, err := d.Info(); err != nil || st.Size() != size {
				t.Errorf("%s has %d bytes", f, st.Size())
			}
		}
		return nil
	})
	gone(t, db)
	http.Post(ex.URL+"/trouble", "application/json", strings.NewReader(`{}`))
	p = start()
	p.ask(t, "POST", path+"/uploads", begin, &up)
	if up.Received[0] != 1<<20 {
		t.Errorf("%d bytes of the upload are there", up.Received[0])
	}
	p.ask(t, "PUT", fmt.Sprintf("/api/uploads/%s/files/0?offset=%d", up.ID, up.Received[0]), upload[up.Received[0]:], nil)
	if s := p.ask(t, "POST", "/api/uploads/"+up.ID+"/finish", nil, nil); s != 201 {
		t.Errorf("finish: %d", s)
	}
	until(t, "the extraction", 60*time.Second, func() bool {
		p.ask(t, "GET", fmt.Sprintf("/api/extractions/%d", out.ID), nil, &out)
		return out.State == "done" || out.State == "failed"
	})
	if out.State != "done" || out.Summary.Entries != n || out.Summary.Resumed == 0 || out.Summary.Failed != 0 {
		t.Errorf("%+v", out)
	}
	files, parts := 0, 0
	filepath.WalkDir(out.To, func(f string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files++
			if strings.HasSuffix(f, ".part") {
				parts++
			}
		}
		return nil
	})
	if files != n || parts != 0 {
		t.Errorf("%d files, %d parts", files, parts)
	}
	until(t, "the avatar", 60*time.Second, func() bool {
		l := sources()
		return len(l) == 3 && l[1].KindsKnown && l[2].KindsKnown
	})
	if ranges == 0 {
		t.Error("the download began again from its start")
	}
	p.cmd.Process.Signal(syscall.SIGTERM)
	p.cmd.Wait()
}

// peak is the most memory that a process has had, in MB.
func (p *process) peak(t testing.TB) float64 {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range strings.Split(string(b), "\n") {
		if f := strings.Fields(l); len(f) > 1 && f[0] == "VmHWM:" {
			n, _ := strconv.ParseFloat(f[1], 64)
			return n / 1000
		}
	}
	return 0
}

// BenchmarkServerMemory indexes, searches and extracts a source of 4 GiB in
// 200,000 entries, and reports the most memory that the server had.
func BenchmarkServerMemory(b *testing.B) {
	bin, data, lib := build(b), filepath.Join(b.TempDir(), "data"), b.TempDir()
	makeZip(b, filepath.Join(lib, "big.zip"), 200_000, 4<<30/200_000, zip.Store)
	for range b.N {
		p := launch(b, bin, "serve", "--data", data, "--library", lib, "--port", "0")
		var proj struct{ ID int64 }
		p.ask(b, "POST", "/api/projects", map[string]string{"name": "x"}, &proj)
		path := fmt.Sprintf("/api/projects/%d", proj.ID)
		p.ask(b, "POST", path+"/sources", map[string]string{"path": filepath.Join(lib, "big.zip")}, nil)
		begin := time.Now()
		var list []sourceState
		until(b, "the directory", 5*time.Minute, func() bool {
			p.ask(b, "GET", path+"/sources", nil, &list)
			return len(list) == 1 && list[0].State == "ready"
		})
		b.ReportMetric(time.Since(begin).Seconds(), "s-to-directory")
		until(b, "the kinds", 5*time.Minute, func() bool { p.ask(b, "GET", path+"/sources", nil, &list); return list[0].KindsKnown })
		b.ReportMetric(time.Since(begin).Seconds(), "s-to-kinds")
		b.ReportMetric(p.peak(b), "MB-indexed")
		for _, q := range []string{"thing", "area_1", "*_00*", ""} {
			p.ask(b, "GET", path+"/entries?sort=-size&q="+q, nil, nil)
			p.ask(b, "GET", path+"/outline?q="+q, nil, nil)
			p.ask(b, "GET", path+"/sets?q="+q, nil, nil)
		}
		p.ask(b, "GET", path+"/naming", nil, nil)
		b.ReportMetric(p.peak(b), "MB-searched")
		var out struct {
			ID        int64
			To, State string
		}
		p.ask(b, "POST", path+"/extractions", map[string]any{"selection": map[string]any{"filter": map[string]any{}}, "form": "folder"}, &out)
		until(b, "the extraction", 10*time.Minute, func() bool {
			p.ask(b, "GET", fmt.Sprintf("/api/extractions/%d", out.ID), nil, &out)
			return out.State == "done" || out.State == "failed"
		})
		if out.State != "done" {
			b.Fatal(out.State)
		}
		b.ReportMetric(p.peak(b), "MB-peak")
		p.cmd.Process.Signal(syscall.SIGTERM)
		p.cmd.Wait()
		os.RemoveAll(data)
	}
}
