package app_test

import (
	"archive/zip"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// models writes an archive of n models, each a grid of its own.
func models(t testing.TB, name string, n int) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	w := zip.NewWriter(f)
	const side = 24
	for i := range n {
		x, err := w.Create(fmt.Sprintf("reeds/bed_%04d.obj", i))
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		for v := range side * side {
			fmt.Fprintf(&b, "v %d %.3f %d\n", v%side, float64((v*7+i)%13)/10, v/side)
		}
		for v := range side * (side - 1) {
			if v%side < side-1 {
				fmt.Fprintf(&b, "f %d %d %d %d\n", v+1, v+2, v+side+2, v+side+1)
			}
		}
		if _, err := x.Write([]byte(b.String())); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
}

// finding starts a server that leaves its work to others, and asks it for finds
// of n models.
func finding(t testing.TB, bin string, n int) (server *process, data string, ready func() int) {
	t.Helper()
	data = filepath.Join(t.TempDir(), "data")
	lib := t.TempDir()
	models(t, filepath.Join(lib, "reeds.zip"), n)
	p := launch(t, bin, "serve", "--data", data, "--library", lib, "--port", "0", "--at-once", "0")
	var project struct{ ID int64 }
	p.ask(t, "POST", "/api/projects", map[string]string{"name": "x"}, &project)
	path := fmt.Sprintf("/api/projects/%d", project.ID)
	p.ask(t, "POST", path+"/sources", map[string]string{"path": filepath.Join(lib, "reeds.zip")}, nil)
	indexer := worker(t, bin, data, lib)
	var list []sourceState
	until(t, "the index", 60*time.Second, func() bool {
		p.ask(t, "GET", path+"/sources", nil, &list)
		return len(list) == 1 && list[0].KindsKnown
	})
	indexer.cmd.Process.Signal(syscall.SIGTERM)
	indexer.cmd.Wait()
	if s := p.ask(t, "POST", path+"/gallery", map[string]any{}, nil); s != 202 {
		t.Fatal(s)
	}
	return p, data, func() (ready int) {
		var finds []struct {
			Name, State string
		}
		if s := p.ask(t, "GET", path+"/gallery", nil, &finds); s != 200 {
			return 0
		}
		if len(finds) == 0 {
			var jobs []struct{ Kind, State, Error string }
			p.ask(t, "GET", path+"/jobs", nil, &jobs)
			for _, j := range jobs {
				if j.State == "failed" {
					t.Fatalf("%s: %s", j.Kind, j.Error)
				}
			}
		}
		seen := map[string]bool{}
		for _, f := range finds {
			if seen[f.Name] {
				t.Fatalf("%s was found twice", f.Name)
			}
			if seen[f.Name] = true; f.State == "ready" {
				ready++
			} else if f.State != "decoding" {
				t.Fatalf("%s is %s", f.Name, f.State)
			}
		}
		return ready
	}
}

func worker(t testing.TB, bin, data, lib string) *process {
	t.Helper()
	return launch(t, bin, "worker", "--data", data, "--library", lib)
}

// found waits until all are found, as long as more come.
func found(t testing.TB, n int, ready func() int) {
	t.Helper()
	for last, at := -1, time.Now(); last < n; time.Sleep(200 * time.Millisecond) {
		if k := ready(); k != last {
			last, at = k, time.Now()
		} else if time.Since(at) > time.Minute {
			t.Fatalf("%d of %d are found, and no more come", last, n)
		}
	}
}

// Workers beside the server find models together. One that is killed leaves
// nothing undone and nothing is found twice; without any nothing happens.
// EXCAVATE_MODELS asks for more of them, with the times of one and of two.
func TestWorkersBesideTheServer(t *testing.T) {
	bin := build(t)
	n := 150
	if k, err := strconv.Atoi(os.Getenv("EXCAVATE_MODELS")); err == nil {
		n = k
		t.Setenv("GOMAXPROCS", "1") // as if each were a machine of its own
		server, data, ready := finding(t, bin, n)
		begun := time.Now()
		one := worker(t, bin, data, "")
		found(t, n, ready)
		t.Logf("%d models, one worker: %v", n, time.Since(begun))
		for _, p := range []*process{one, server} {
			p.cmd.Process.Signal(syscall.SIGTERM)
			p.cmd.Wait()
		}
	}
	server, data, ready := finding(t, bin, n)
	time.Sleep(300 * time.Millisecond)
	if k := ready(); k != 0 {
		t.Errorf("%d are found without a worker", k)
	}
	begun := time.Now()
	a := worker(t, bin, data, "")
	b := worker(t, bin, data, "")
	killed := os.Getenv("EXCAVATE_MODELS") == ""
	if killed {
		until(t, "a part of the work", 60*time.Second, func() bool { return ready() > n/10 })
		a.cmd.Process.Kill()
		a.cmd.Wait()
	}
	found(t, n, ready)
	t.Logf("%d models, two workers, one killed %v: %v", n, killed, time.Since(begun))
	for _, p := range []*process{a, b, server} {
		p.cmd.Process.Signal(syscall.SIGTERM)
		p.cmd.Wait()
	}
	until(t, "the end of the database", 20*time.Second, func() bool { return len(servers(data)) == 0 })
}
