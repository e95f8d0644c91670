package app_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "excavate/internal/app" // the tests build it; this tells the test cache so
)

// process is "excavate demo" as a porter starts it.
type process struct {
	cmd  *exec.Cmd
	url  string
	said []string
}

var address = regexp.MustCompile(`http://127\.0\.0\.1:(\d+)`)

func build(t testing.TB) string {
	t.Helper()
	bin := filepath.Join(t.TempDir(), "excavate")
	if out, err := exec.Command("go", "build", "-o", bin, "excavate/cmd/excavate").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return bin
}

func demo(t testing.TB, bin, data string, port int) *process {
	t.Helper()
	return launch(t, bin, "demo", "--data", data, "--port", strconv.Itoa(port))
}

func launch(t testing.TB, bin string, args ...string) *process {
	t.Helper()
	p := &process{cmd: exec.Command(bin, args...)}
	out, _ := p.cmd.StdoutPipe()
	p.cmd.Stderr = p.cmd.Stdout
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.cmd.Process.Kill() })
	lines := make(chan string)
	go func() {
		sc := bufio.NewScanner(out)
		for sc.Scan() {
			lines <- sc.Text()
		}
		close(lines)
	}()
	ready := func() bool { return p.url != "" || args[0] == "worker" && p.says("taking work") }
	for timeout := time.After(60 * time.Second); !ready(); {
		select {
		case l, ok := <-lines:
			if !ok {
				t.Fatalf("it ended after saying %q", p.said)
			}
			p.said = append(p.said, l)
			if m := address.FindString(l); m != "" && strings.Contains(l, "Excavate is at") {
				p.url = m
			}
		case <-timeout:
			t.Fatalf("it says only %q", p.said)
		}
	}
	go func() {
		for range lines {
		}
	}()
	return p
}

func (p *process) says(what string) bool {
	return slices.ContainsFunc(p.said, func(l string) bool { return strings.Contains(l, what) })
}

func (p *process) finds() (int, error) {
	res, err := http.Get(p.url + "/api/projects")
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	var list []struct{ Counts struct{ Finds, Chains int } }
	if err := json.NewDecoder(res.Body).Decode(&list); err != nil || len(list) != 1 {
		return 0, fmt.Errorf("%d projects, %v", len(list), err)
	}
	return list[0].Counts.Finds * list[0].Counts.Chains, nil
}

func pid(t testing.TB, data string) int {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(data, "mariadb", "server.pid"))
	if err != nil {
		t.Fatal(err)
	}
	number, _, _ := strings.Cut(string(b), " ") // its start follows
	n, _ := strconv.Atoi(number)
	return n
}

func alive(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !strings.Contains(string(b), ") Z ")
}

func gone(t testing.TB, pid int) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); alive(pid); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("process %d is still there", pid)
		}
	}
}

func TestStartStopAndKill(t *testing.T) {
	bin, data := build(t), filepath.Join(t.TempDir(), "data")
	p := demo(t, bin, data, 0)
	if n, err := p.finds(); n != 1 || err != nil {
		t.Fatalf("the demo project has %d, %v", n, err)
	}
	// Ctrl-C stops both.
	db := pid(t, data)
	p.cmd.Process.Signal(syscall.SIGINT)
	if err := p.cmd.Wait(); err != nil {
		t.Errorf("Ctrl-C ends it with %v", err)
	}
	gone(t, db)

	// kill -9 of the application: the database goes too, the next start is whole.
	p = demo(t, bin, data, 0)
	db = pid(t, data)
	p.cmd.Process.Kill()
	p.cmd.Wait()
	p = demo(t, bin, data, 0) // at once, while the old database may still be stopping
	if n, err := p.finds(); n != 1 || err != nil {
		t.Errorf("after kill -9 the project has %d, %v", n, err)
	}
	gone(t, db)

	// kill -9 of the database: it is started again and the application goes on.
	db = pid(t, data)
	syscall.Kill(db, syscall.SIGKILL)
	gone(t, db)
	var n int
	var err error
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if n, err = p.finds(); n == 1 && err == nil {
			break
		}
	}
	if n != 1 || err != nil {
		t.Errorf("after kill -9 of the database: %d, %v", n, err)
	}

	// A second process on the same data shares the database and outlives
	// nothing: it leaves the first one's database alone.
	port, _ := strconv.Atoi(address.FindStringSubmatch(p.url)[1])
	q := demo(t, bin, data, port)
	if q.url == p.url || !strings.Contains(strings.Join(q.said, "\n"), fmt.Sprintf("port %d is taken", port)) {
		t.Errorf("a taken port gives %s, and it says %q", q.url, q.said)
	}
	if n, err := q.finds(); n != 1 || err != nil {
		t.Errorf("the second process sees %d, %v", n, err)
	}
	q.cmd.Process.Signal(syscall.SIGINT)
	q.cmd.Wait()
	if n, err := p.finds(); n != 1 || err != nil {
		t.Errorf("stopping the second process leaves the first with %d, %v", n, err)
	}
	p.cmd.Process.Signal(syscall.SIGTERM)
	p.cmd.Wait()
}

func TestWithoutADatabaseServer(t *testing.T) {
	bin := build(t)
	// A machine whose programs are not there: an own root would need rights, so
	// the database that is asked for is one that does not answer.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	addr := l.Addr().String()
	l.Close()
	out, err := exec.Command(bin, "serve", "--data", t.TempDir(), "--database", "x:y@tcp("+addr+")/z", "--port", "0").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "the database does not answer") || strings.Contains(string(out), "goroutine") {
		t.Errorf("%v: %s", err, out)
	}
}
