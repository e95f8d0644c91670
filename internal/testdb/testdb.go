// Package testdb gives tests a real MariaDB: one server a test binary, on a
// free port, and a database of its own for each test.
package testdb

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"excavate/internal/mariadb"
)

var (
	once   sync.Once
	server *mariadb.Server
	dir    string
	fail   error
	count  atomic.Int64
)

// DSN makes an empty database for the test.
func DSN(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		if dir, fail = os.MkdirTemp("", "excavate-testdb-*"); fail == nil {
			server, fail = mariadb.Start(context.Background(), filepath.Join(dir, "mariadb"), nil)
		}
	})
	if fail != nil {
		t.Fatal(fail)
	}
	name := fmt.Sprintf("test_%d", count.Add(1))
	db, err := sql.Open("mysql", server.RootDSN())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, q := range []string{"CREATE DATABASE " + name + " CHARACTER SET utf8mb4", "GRANT ALL ON " + name + ".* TO 'excavate'@'127.0.0.1'"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	return server.DSN(name)
}

// Main runs a package's tests and stops the server after them.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		server.Close()
	}
	if dir != "" {
		os.RemoveAll(dir)
	}
	os.Exit(code)
}
