//go:build linux

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
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"excavate/core/disk"
	"excavate/internal/process"
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
	exited  <-chan struct{}
	closing bool
	log     func(string, ...any)

	quit      chan struct{} // closed by Close
	following sync.WaitGroup
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
	if err := os.Chmod(dir, 0o700); err != nil { // it may have been there before
		return nil, err
	}
	s := &Server{dir: dir, log: say, quit: make(chan struct{})}
	// One process at a time decides who starts the server.
	lock, err := lockFolder(dir)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if s.password, err = s.secret(); err != nil {
		return nil, err
	}
	joined, err := s.join(ctx)
	if err != nil {
		return nil, err
	}
	if joined {
		s.following.Go(func() { s.follow(bin) })
		return s, nil
	}
	if err := s.own(ctx, bin, 0); err != nil {
		return nil, err
	}
	return s, nil
}

// own starts the server, on a port if it is given. The lock must be held.
func (s *Server) own(ctx context.Context, bin string, port int) error {
	// What earlier runs have left would hold the folder's locks, or go on
	// writing into it.
	if old := serversOf(s.file("data"), s.file("data.part")); len(old) > 0 {
		s.log("ending the database of a run that has ended")
		if err := end(old); err != nil {
			return err
		}
	}
	if err := s.install(ctx); err != nil {
		return err
	}
	if err := thatIs(os.Getpid()).keep(s.file("owner.pid")); err != nil {
		return err
	}
	if err := s.run(ctx, bin, port); err != nil {
		os.Remove(s.file("owner.pid"))
		return err
	}
	s.mu.Lock()
	s.owned = true
	s.mu.Unlock()
	go s.watch(bin)
	return nil
}

// follow waits beside a server that another process has started. When that
// process ends, its server ends with it; one of those that are left starts it
// again, on the same port, and the others join that one.
func (s *Server) follow(bin string) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-s.quit:
			cancel()
		case <-ctx.Done():
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(250 * time.Millisecond):
		}
		if kept(s.file("owner.pid")).alive() {
			continue
		}
		mine, err := s.takeOver(ctx, bin)
		if mine || ctx.Err() != nil {
			return
		}
		if err != nil {
			s.log("the database's process has ended and its server cannot be started here: %v", err)
		}
	}
}

// takeOver starts the server here, unless another process was quicker.
func (s *Server) takeOver(ctx context.Context, bin string) (mine bool, err error) {
	lock, err := lockFolder(s.dir)
	if err != nil {
		return false, err
	}
	defer lock.Close()
	if ctx.Err() != nil || kept(s.file("owner.pid")).alive() {
		return false, nil
	}
	s.log("the process that ran the database has ended; this one runs it now")
	err = s.own(ctx, bin, s.port)
	return err == nil, err
}

// lockFolder waits until no other process decides about the server.
func lockFolder(dir string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := disk.Lock(lock); err != nil {
		lock.Close()
		return nil, fmt.Errorf("lock %s: %w", lock.Name(), err)
	}
	return lock, nil
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

// join connects to a server whose owner is alive; its server may be starting
// again just now.
func (s *Server) join(ctx context.Context) (bool, error) {
	owner := kept(s.file("owner.pid"))
	if owner.pid == os.Getpid() {
		return false, nil
	}
	for until := time.Now().Add(joinWait); owner.alive(); time.Sleep(50 * time.Millisecond) {
		if s.port = readInt(s.file("port")); s.port > 0 && s.ping(time.Second) == nil {
			return true, nil
		}
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		if time.Now().After(until) {
			return false, fmt.Errorf("process %d runs the database in %s, and it does not answer; end that process and start again", owner.pid, s.dir)
		}
	}
	return false, nil
}

// joinWait is how long the server of another process may take to answer.
const joinWait = 30 * time.Second

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

// setup runs at every start of the server. It is how the password gets in; the
// accounts without one that a new server has go out, and the program's own
// account may do nothing outside its database.
const setup = `DELETE FROM mysql.global_priv WHERE User = '' OR User = 'root' AND Host <> 'localhost';
FLUSH PRIVILEGES;
ALTER USER 'root'@'localhost' IDENTIFIED BY '%[1]s';
CREATE USER IF NOT EXISTS 'excavate'@'127.0.0.1';
ALTER USER 'excavate'@'127.0.0.1' IDENTIFIED BY '%[1]s';
REVOKE ALL PRIVILEGES, GRANT OPTION FROM 'excavate'@'127.0.0.1';
GRANT ALL ON excavate.* TO 'excavate'@'127.0.0.1';
CREATE DATABASE IF NOT EXISTS excavate CHARACTER SET utf8mb4;
`

func (s *Server) run(ctx context.Context, bin string, port int) error {
	if err := os.WriteFile(s.file("init.sql"), fmt.Appendf(nil, setup, s.password), 0o600); err != nil {
		return err
	}
	if err := os.MkdirAll(s.file("none"), 0o700); err != nil {
		return err
	}
	var err error
	for try := 0; try < 3; try++ {
		if s.port = port; port == 0 {
			if s.port, err = freePort(); err != nil {
				return err
			}
		}
		if err = os.WriteFile(s.file("port"), []byte(strconv.Itoa(s.port)+"\n"), 0o600); err != nil {
			return err
		}
		if err = s.once(ctx, bin); err == nil || ctx.Err() != nil {
			break
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

func (s *Server) once(ctx context.Context, bin string) error {
	args := []string{"--no-defaults", "--datadir=" + s.file("data"), "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(s.port), "--socket=" + s.socket(),
		"--pid-file=" + s.file("mariadbd.pid"), "--init-file=" + s.file("init.sql"), "--skip-name-resolve", "--skip-log-bin", "--innodb-buffer-pool-size=256M",
		"--innodb-log-file-size=64M", "--innodb-flush-log-at-trx-commit=1", "--max-allowed-packet=64M", "--character-set-server=utf8mb4", "--performance-schema=OFF",
		"--local-infile=0", "--secure-file-priv=" + s.file("none"), "--symbolic-links=0"}
	args = append(append(args, plainFiles...), asUser()...)
	logFile, err := os.OpenFile(s.file("server.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	cmd := exec.Command(bin, args...)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	exited, err := process.Start(cmd)
	if err != nil {
		return fmt.Errorf("start %s: %w", bin, err)
	}
	s.mu.Lock()
	s.cmd, s.exited = cmd, exited
	s.mu.Unlock()
	if err := thatIs(cmd.Process.Pid).keep(s.file("server.pid")); err != nil {
		s.kill()
		return err
	}
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

// watch starts the server again on the same port if it dies under us, at
// longer and longer intervals if it keeps dying.
func (s *Server) watch(bin string) {
	for wait := time.Duration(0); ; {
		s.mu.Lock()
		exited := s.exited
		s.mu.Unlock()
		begun := time.Now()
		<-exited
		s.mu.Lock()
		closing := s.closing
		s.mu.Unlock()
		if closing {
			return
		}
		if time.Since(begun) > time.Minute {
			wait = 0
		}
		s.log("the database server stopped; starting it again. Its log is %s", s.file("server.log"))
		time.Sleep(wait)
		wait = min(2*wait+500*time.Millisecond, 30*time.Second)
		if err := s.once(context.Background(), bin); err != nil {
			s.log("%v", err)
		}
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
	s.mu.Lock()
	if !s.closing {
		close(s.quit)
	}
	s.closing = true
	s.mu.Unlock()
	s.following.Wait()
	s.mu.Lock()
	owned, cmd, exited := s.owned, s.cmd, s.exited
	s.mu.Unlock()
	if !owned {
		return nil
	}
	cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-exited:
	case <-time.After(20 * time.Second):
		cmd.Process.Kill()
		<-exited
	}
	os.Remove(s.file("server.pid"))
	os.Remove(s.file("owner.pid"))
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

// RootDSN is for whoever must make databases: the server's own administrator,
// who comes in through the socket only.
func (s *Server) RootDSN() string {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr = "root", s.password, "unix", s.socket()
	c.Logger = &mysql.NopLogger{}
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
