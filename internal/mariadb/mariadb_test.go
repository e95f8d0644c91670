package mariadb

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func start(t *testing.T, dir string) *Server {
	t.Helper()
	s, err := Start(context.Background(), dir, t.Logf)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestPrivateServer(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "mariadb")
	// What a run that was killed while it made the folder leaves behind.
	os.MkdirAll(filepath.Join(dir, "data.part", "mysql"), 0o700)
	s := start(t, dir)
	db, err := sql.Open("mysql", s.DSN("excavate"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("CREATE TABLE t (x INT)"); err != nil {
		t.Fatal(err)
	}
	var address string
	if err := db.QueryRow("SELECT @@bind_address").Scan(&address); err != nil || address != "127.0.0.1" {
		t.Errorf("it listens on %q, %v", address, err)
	}
	db.Close()
	// Nobody gets in without the password, which only the owner can read.
	st, err := os.Stat(filepath.Join(dir, "password"))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("password file: %v %v", st, err)
	}
	for _, user := range []string{"excavate", "root", ""} {
		dsn := user + s.DSN("")[strings.Index(s.DSN(""), "@"):]
		other, err := sql.Open("mysql", dsn)
		if err != nil {
			t.Fatal(err)
		}
		if err := other.Ping(); err == nil {
			t.Errorf("%q gets in without a password", user)
		}
		other.Close()
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if err := s.ping(time.Second); err == nil {
		t.Error("it answers after it was stopped")
	}
	// The next start has the data.
	s = start(t, dir)
	defer s.Close()
	db, _ = sql.Open("mysql", s.DSN("excavate"))
	defer db.Close()
	if _, err := db.Exec("INSERT INTO t VALUES (1)"); err != nil {
		t.Error(err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*.part")); len(left) != 0 {
		t.Errorf("left over: %v", left)
	}
}

func TestAMissingServerIsSaid(t *testing.T) {
	if _, err := find("no-such-database-server"); err == nil || !strings.Contains(err.Error(), "mariadb-server") {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if s, err := Start(ctx, filepath.Join(t.TempDir(), "m"), nil); err == nil {
		s.Close()
		t.Error("a start that was called off started")
	}
}

// A server that fails while the folder is made is tried again with a clean
// folder; one that goes on failing says everything that it printed.
func TestTheFolderIsMadeAgain(t *testing.T) {
	real, err := find("mariadb-install-db")
	if err != nil {
		t.Fatal(err)
	}
	bin := t.TempDir()
	fake := func(script string) {
		if err := os.WriteFile(filepath.Join(bin, "mariadb-install-db"), []byte("#!/bin/sh\n"+script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))

	fake("if [ ! -e " + bin + "/tried ]; then touch " + bin + "/tried; exit 1; fi\nexec " + real + " \"$@\"\n")
	s := start(t, filepath.Join(t.TempDir(), "again"))
	if err := s.Close(); err != nil {
		t.Error(err)
	}

	fake("echo no room left for the first table; for i in 1 2 3 4 5 6 7 8 9; do echo see the manual; done; exit 1\n")
	if _, err := Start(context.Background(), filepath.Join(t.TempDir(), "never"), t.Logf); err == nil || !strings.Contains(err.Error(), "no room left for the first table") {
		t.Errorf("%v", err)
	}
}
