// Package mariadb runs a private MariaDB server in a folder of its own, on
// loopback, with a password that only that folder holds. It needs no
// configuration of the machine and changes none.
package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Server is a running server, started by this process or by another one on
// the same folder.
type Server struct {
	dir      string
	port     int
	password string
	owned    bool

	mu      sync.Mutex
	cmd     *exec.Cmd
	exited  chan struct{}
	closing bool
	log     func(string, ...any)
}

// Start starts the server of a data folder, or joins the one that another
// living process runs there. Say reports what happens; it may be nil.
func Start(ctx context.Context, dir string, say func(string, ...any)) (*Server, error) {
	if say == nil {
		say = func(string, ...any) {}
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	bin, err := find("mariadbd")
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Server{dir: dir, log: say}
	// One process at a time decides who starts the server.
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, fmt.Errorf("lock %s: %w", lock.Name(), err)
	}
	if s.password, err = s.secret(); err != nil {
		return nil, err
	}
	if s.join() {
		return s, nil
	}
	if err := s.install(ctx); err != nil {
		return nil, err
	}
	s.owned = true
	if err := s.run(ctx, bin); err != nil {
		return nil, err
	}
	go s.watch(bin)
	return s, nil
}

func find(name string) (string, error) {
	for _, p := range []string{name, "/usr/sbin/" + name, "/usr/bin/" + name} {
		if b, err := exec.LookPath(p); err == nil {
			return b, nil
		}
	}
	return "", fmt.Errorf("the database server %s is not on this machine; install Debian's package mariadb-server, or run: make setup", name)
}

func (s *Server) file(name string) string { return filepath.Join(s.dir, name) }

func (s *Server) secret() (string, error) {
	b, err := os.ReadFile(s.file("password"))
	if err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	raw := make([]byte, 18)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	p := hex.EncodeToString(raw)
	return p, os.WriteFile(s.file("password"), []byte(p+"\n"), 0o600)
}

// join connects to a server whose owner is alive. A server whose owner died
// is on its way out: it is waited for.
func (s *Server) join() bool {
	owner := readInt(s.file("owner.pid"))
	alive := owner > 0 && owner != os.Getpid() && syscall.Kill(owner, 0) == nil
	s.port = readInt(s.file("port"))
	if alive && s.port > 0 && s.ping(2*time.Second) == nil {
		return true
	}
	pid := readInt(s.file("server.pid"))
	if pid <= 0 || !isServer(pid) {
		return false
	}
	s.log("waiting for the database of a run that has ended")
	syscall.Kill(pid, syscall.SIGTERM)
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && isServer(pid); {
		time.Sleep(50 * time.Millisecond)
	}
	if isServer(pid) {
		syscall.Kill(pid, syscall.SIGKILL)
		time.Sleep(300 * time.Millisecond)
	}
	return false
}

func isServer(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return err == nil && strings.HasPrefix(string(b), "mariadbd")
}

func readInt(path string) int {
	b, err := os.ReadFile(path)
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(b)))
	return n
}

// install makes the data folder once. It is made aside and renamed, so that a
// run that was killed half way leaves nothing that looks whole.
func (s *Server) install(ctx context.Context) error {
	if _, err := os.Stat(s.file("data")); err == nil {
		return nil
	}
	bin, err := find("mariadb-install-db")
	if err != nil {
		return err
	}
	s.log("making the database folder")
	part := s.file("data.part")
	args := []string{"--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--datadir=" + part}
	args = append(append(args, plainFiles...), asUser()...)
	// It starts a server for a moment, which can fail for want of something that
	// is there a little later; what it leaves is thrown away each time.
	for try := 1; ; try++ {
		if err := os.RemoveAll(part); err != nil {
			return err
		}
		out, err := exec.CommandContext(ctx, bin, args...).CombinedOutput()
		if err == nil {
			return os.Rename(part, s.file("data"))
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if try == 3 {
			return fmt.Errorf("mariadb-install-db could not make %s: %w\n%s", part, err, out)
		}
		s.log("mariadb-install-db failed (%v), trying again: %s", err, out)
		time.Sleep(time.Duration(try) * time.Second)
	}
}

// plainFiles keeps the server off the kernel's asynchronous file queues: they
// are counted over the whole machine, and a server that gets none gives up.
var plainFiles = []string{"--innodb-use-native-aio=0"}

func asUser() []string {
	if os.Getuid() != 0 {
		return nil
	}
	if u, err := user.Current(); err == nil {
		return []string{"--user=" + u.Username}
	}
	return []string{"--user=root"}
}

func (s *Server) run(ctx context.Context, bin string) error {
	// The init file runs at every start; it is how the password gets in, and the
	// accounts without one that a new server has go out.
	init := fmt.Sprintf("DELETE FROM mysql.global_priv WHERE User = '' OR User = 'root' AND Host <> 'localhost';\nFLUSH PRIVILEGES;\nALTER USER 'root'@'localhost' IDENTIFIED BY '%[1]s';\nCREATE USER IF NOT EXISTS 'excavate'@'127.0.0.1';\nALTER USER 'excavate'@'127.0.0.1' IDENTIFIED BY '%[1]s';\nGRANT ALL ON *.* TO 'excavate'@'127.0.0.1';\nCREATE DATABASE IF NOT EXISTS excavate CHARACTER SET utf8mb4;\n", s.password)
	if err := os.WriteFile(s.file("init.sql"), []byte(init), 0o600); err != nil {
		return err
	}
	var err error
	for try := 0; try < 3; try++ {
		if s.port, err = freePort(); err != nil {
			return err
		}
		if err = s.once(ctx, bin); err == nil {
			break
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if err != nil {
		return err
	}
	for name, v := range map[string]int{"port": s.port, "owner.pid": os.Getpid(), "server.pid": s.cmd.Process.Pid} {
		if err := os.WriteFile(s.file(name), []byte(strconv.Itoa(v)+"\n"), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) once(ctx context.Context, bin string) error {
	args := []string{"--no-defaults", "--datadir=" + s.file("data"), "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(s.port), "--socket=" + s.socket(),
		"--pid-file=" + s.file("mariadbd.pid"), "--init-file=" + s.file("init.sql"), "--skip-name-resolve", "--skip-log-bin", "--innodb-buffer-pool-size=256M",
		"--innodb-log-file-size=64M", "--innodb-flush-log-at-trx-commit=1", "--max-allowed-packet=64M", "--character-set-server=utf8mb4", "--performance-schema=OFF"}
	args = append(append(args, plainFiles...), asUser()...)
	logFile, err := os.OpenFile(s.file("server.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	cmd := exec.Command(bin, args...)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	// A group of its own, so that Ctrl-C reaches it through us; and if we are
	// killed, the kernel tells it to stop.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	exited := make(chan struct{})
	started := make(chan error)
	go func() {
		// The death signal is tied to the thread that starts the child.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			cmd.Wait()
			close(exited)
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("start %s: %w", bin, err)
	}
	s.mu.Lock()
	s.cmd, s.exited = cmd, exited
	s.mu.Unlock()
	for end := time.Now().Add(60 * time.Second); ; {
		select {
		case <-exited:
			return fmt.Errorf("the database server stopped while it started; its log %s ends:\n%s", s.file("server.log"), tail(s.file("server.log")))
		case <-ctx.Done():
			s.kill()
			return ctx.Err()
		case <-time.After(30 * time.Millisecond):
		}
		if s.ping(time.Second) == nil {
			return nil
		}
		if time.Now().After(end) {
			s.kill()
			return fmt.Errorf("the database server did not answer within 60 s; its log %s ends:\n%s", s.file("server.log"), tail(s.file("server.log")))
		}
	}
}

// socket is a short path: the kernel takes about 100 bytes.
func (s *Server) socket() string {
	p := s.file("s.sock")
	if len(p) > 90 {
		p = filepath.Join(os.TempDir(), "excavate-"+strconv.Itoa(s.port)+".sock")
	}
	return p
}

// watch starts the server again on the same port if it dies under us.
func (s *Server) watch(bin string) {
	for tries := 0; ; {
		s.mu.Lock()
		exited := s.exited
		s.mu.Unlock()
		<-exited
		s.mu.Lock()
		closing := s.closing
		s.mu.Unlock()
		if closing {
			return
		}
		if tries++; tries > 5 {
			s.log("the database server keeps stopping; see %s", s.file("server.log"))
			return
		}
		s.log("the database server stopped; starting it again")
		if err := s.once(context.Background(), bin); err != nil {
			s.log("%v", err)
			return
		}
		os.WriteFile(s.file("server.pid"), []byte(strconv.Itoa(s.cmd.Process.Pid)+"\n"), 0o600)
	}
}

func (s *Server) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd != nil && s.cmd.Process != nil {
		s.cmd.Process.Kill()
	}
}

// Close stops the server if this process started it.
func (s *Server) Close() error {
	if !s.owned {
		return nil
	}
	s.mu.Lock()
	s.closing = true
	cmd, exited := s.cmd, s.exited
	s.mu.Unlock()
	cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-exited:
	case <-time.After(20 * time.Second):
		cmd.Process.Kill()
		<-exited
	}
	os.Remove(s.file("owner.pid"))
	os.Remove(s.file("server.pid"))
	return nil
}

// DSN names a database of the server for go-sql-driver/mysql.
func (s *Server) DSN(database string) string {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = "excavate", s.password, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), database
	c.ParseTime, c.InterpolateParams, c.MaxAllowedPacket = true, true, 64<<20
	c.Logger = &mysql.NopLogger{}
	c.Params = map[string]string{"time_zone": "'+00:00'"}
	return c.FormatDSN()
}

func (s *Server) ping(wait time.Duration) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	return db.PingContext(ctx)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func tail(path string) string {
	b, _ := os.ReadFile(path)
	return lastLines(string(b))
}

func lastLines(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}
