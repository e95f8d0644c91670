package app_test

import (
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// kills is how often the kill tests kill; EXCAVATE_KILLS asks for more.
func kills(few int) int {
	if n, err := strconv.Atoi(os.Getenv("EXCAVATE_KILLS")); err == nil {
		return n
	}
	return few
}

// TestKillsWhileTheDatabaseStarts kills the server at random moments of its
// first second, in a new folder and in one that was there. The next start
// always works, within ten seconds on an idle machine.
func TestKillsWhileTheDatabaseStarts(t *testing.T) {
	bin := build(t)
	rnd := rand.New(rand.NewSource(3))
	data, worst := "", time.Duration(0)
	n := kills(6)
	for i := range n {
		if i%4 == 0 {
			data = filepath.Join(t.TempDir(), "data")
		}
		cmd := exec.Command(bin, "serve", "--data", data, "--port", "0")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		after := time.Duration(rnd.Int63n(int64(time.Second)))
		if i%2 == 1 { // right after the database's process has appeared
			for end := time.Now().Add(5 * time.Second); len(servers(data)) == 0 && time.Now().Before(end); {
				time.Sleep(time.Millisecond)
			}
			after /= 8
		}
		time.Sleep(after)
		cmd.Process.Kill()
		cmd.Wait()
		begun := time.Now()
		p := launch(t, bin, "serve", "--data", data, "--port", "0")
		worst = max(worst, time.Since(begun))
		if s := p.ask(t, "GET", "/api/projects", nil, nil); s != 200 {
			t.Errorf("kill %d after %v: %d", i, after, s)
		}
		if len(servers(data)) != 1 {
			t.Errorf("kill %d: %d servers run", i, len(servers(data)))
		}
		p.cmd.Process.Signal(syscall.SIGTERM)
		p.cmd.Wait()
		for _, s := range servers(data) {
			t.Errorf("kill %d: process %d is left", i, s)
		}
	}
	t.Logf("%d kills, the slowest start after one took %v", n, worst)
}

// servers are the database servers on a data folder.
func servers(data string) (out []int) {
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range list {
		b, _ := os.ReadFile(f)
		if strings.Contains(string(b), "--datadir="+data+"/mariadb/data\x00") {
			n, _ := strconv.Atoi(strings.Split(f, "/")[2])
			if alive(n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// A second process on the data folder takes the database over when the first
// one ends, however it ends, and goes on with what it was doing.
func TestASecondProcessTakesOver(t *testing.T) {
	bin := build(t)
	for name, end := range map[string]syscall.Signal{"asked": syscall.SIGTERM, "killed": syscall.SIGKILL} {
		data := filepath.Join(t.TempDir(), "data")
		p := launch(t, bin, "serve", "--data", data, "--port", "0")
		q := launch(t, bin, "serve", "--data", data, "--port", "0")
		r := launch(t, bin, "serve", "--data", data, "--port", "0")
		var proj struct{ ID int64 }
		if s := q.ask(t, "POST", "/api/projects", map[string]string{"name": "x"}, &proj); s != 201 {
			t.Fatal(s)
		}
		p.cmd.Process.Signal(end)
		p.cmd.Wait()
		for i, left := range []*process{q, r} {
			until(t, fmt.Sprintf("%s: an answer of process %d", name, i+2), 30*time.Second, func() bool {
				s := left.ask(t, "GET", fmt.Sprintf("/api/projects/%d", proj.ID), nil, nil)
				if s >= 500 && s != 503 {
					t.Errorf("%s: process %d answers %d", name, i+2, s)
				}
				return s == 200
			})
		}
		if n := len(servers(data)); n != 1 {
			t.Errorf("%s: %d servers", name, n)
		}
		for _, left := range []*process{q, r} {
			left.cmd.Process.Signal(syscall.SIGTERM)
			left.cmd.Wait()
		}
		until(t, "the end of the database", 20*time.Second, func() bool { return len(servers(data)) == 0 })
	}
}
