// Package store keeps everything but bulk bytes in MariaDB, through
// database/sql. Queries are in queries.sql and generated into package db.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strconv"
	"syscall"
	"time"

	"excavate/internal/store/db"

	"github.com/go-sql-driver/mysql" // the driver too
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the database.
type Store struct {
	*db.Queries
	DB *sql.DB
}

// Open connects and brings the schema up to date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	d, err := sql.Open("mysql", dsn)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	d.SetMaxOpenConns(24)
	d.SetMaxIdleConns(8)
	d.SetConnMaxIdleTime(time.Minute)
	pctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := d.PingContext(pctx); err != nil {
		d.Close()
		return nil, fmt.Errorf("the database does not answer: %w. Start it, or run “excavate serve” without --database to use one of its own", err)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	// One process at a time changes the schema.
	conn, err := d.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var got sql.NullInt64
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK('excavate_schema', 30)").Scan(&got); err != nil || got.Int64 != 1 {
		return nil, fmt.Errorf("database: another process changes the schema and does not end: %v", err)
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT RELEASE_LOCK('excavate_schema')")
	p, err := goose.NewProvider(goose.DialectMySQL, d, files)
	if err != nil {
		return nil, fmt.Errorf("database schema: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return nil, fmt.Errorf("database schema: %w", err)
	}
	return &Store{Queries: db.New(again{d}), DB: d}, nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.DB.Close() }

// again runs a statement again that the server gave up for another
// transaction. Statements of transactions do not go through it: there the
// whole transaction is run again.
type again struct{ *sql.DB }

func (a again) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	for try := 1; ; try++ {
		r, err := a.DB.ExecContext(ctx, query, args...)
		if !isDeadlock(err) || try == maxTries || ctx.Err() != nil {
			return r, err
		}
		time.Sleep(time.Duration(try) * 5 * time.Millisecond)
	}
}

func isDeadlock(err error) bool {
	var me *mysql.MySQLError
	return errors.As(err, &me) && me.Number == deadlock
}

// Tx runs f in one transaction. It may be run more than once.
func (s *Store) Tx(ctx context.Context, f func(*db.Queries) error) error {
	return s.tx(ctx, func(_ *sql.Tx, q *db.Queries) error { return f(q) })
}

func (s *Store) tx(ctx context.Context, f func(*sql.Tx, *db.Queries) error) error {
	for try := 1; ; try++ {
		err := s.once(ctx, f)
		if !isDeadlock(err) || try == maxTries || ctx.Err() != nil {
			return err
		}
		time.Sleep(time.Duration(try) * 5 * time.Millisecond)
	}
}

// A transaction that the server gives up for another one is run again, as its
// manual asks for (ER_LOCK_DEADLOCK).
const (
	deadlock = 1213
	maxTries = 8
)

func (s *Store) once(ctx context.Context, f func(*sql.Tx, *db.Queries) error) error {
	tx, err := s.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx, s.Queries.WithTx(tx)); err != nil {
		return err
	}
	return tx.Commit()
}

// Ids of entries hold their source: a source has room for 2^24.
const slotBits = 24

// EntryID is the id of a source's entry.
func EntryID(source int64, slot int32) int64 { return source<<slotBits | int64(slot) }

// Entry takes an entry's id apart.
func Entry(id int64) (source int64, slot int32) { return id >> slotBits, int32(id & (1<<slotBits - 1)) }

// ReplaceEntries puts the entries of a source in place of those it had, in one
// transaction: others see the old ones or the new ones. It reports the rows
// written so far.
func (s *Store) ReplaceEntries(ctx context.Context, source int64, rows []db.Entry, progress func(done int), with func(*db.Queries) error) error {
	return s.tx(ctx, func(tx *sql.Tx, q *db.Queries) error {
		// The source's row first: taking it last, after its entries have a
		// share of it, meets others halfway.
		if _, err := q.LockSource(ctx, source); err != nil {
			return err
		}
		if err := q.DeleteRefs(ctx, source); err != nil {
			return err
		}
		if err := q.DeleteEntries(ctx, source); err != nil {
			return err
		}
		err := bulk(ctx, tx, insertEntries, "", len(rows), func(v *values, i int) { v.entry(&rows[i]) }, progress)
		if err != nil {
			return fmt.Errorf("store entries: %w", err)
		}
		return with(q)
	})
}

// EntryKinds stores what entries turned out to be. The rows must be there.
func (s *Store) EntryKinds(ctx context.Context, rows []db.Entry) error {
	return s.tx(ctx, func(tx *sql.Tx, _ *db.Queries) error {
		return bulk(ctx, tx, insertEntries,
			" ON DUPLICATE KEY UPDATE kind = VALUES(kind), format = VALUES(format), error = VALUES(error)", len(rows), func(v *values, i int) { v.entry(&rows[i]) }, nil)
	})
}

// ReplaceRefs puts what the entries of a source ask for in place of what was
// known.
func (s *Store) ReplaceRefs(ctx context.Context, source int64, refs []db.EntryRef, with func(*db.Queries) error) error {
	return s.tx(ctx, func(tx *sql.Tx, q *db.Queries) error {
		if _, err := q.LockSource(ctx, source); err != nil {
			return err
		}
		if err := q.DeleteRefs(ctx, source); err != nil {
			return err
		}
		err := bulk(ctx, tx, "INSERT INTO entry_refs (source_id, slot, no, ref, role) VALUES ", "", len(refs), func(v *values, i int) {
			r := &refs[i]
			v.ints(r.SourceID, int64(r.Slot), int64(r.No)).texts(r.Ref, r.Role)
		}, nil)
		if err != nil {
			return err
		}
		return with(q)
	})
}

const insertEntries = "INSERT INTO entries (source_id, slot, idx, path, size, packed, kind, format, error) VALUES "

// values writes one row of a bulk statement.
type values struct{ b []byte }

func (v *values) sep() {
	if v.b[len(v.b)-1] != '(' {
		v.b = append(v.b, ',')
	}
}

func (v *values) ints(list ...int64) *values {
	for _, x := range list {
		v.sep()
		v.b = strconv.AppendInt(v.b, x, 10)
	}
	return v
}

// texts writes strings as hexadecimal literals, which need no quoting and
// mean the same whatever the server's SQL mode is. Short plain words are
// written as they stand.
func (v *values) texts(list ...string) *values {
	for _, s := range list {
		v.sep()
		if plain(s) {
			v.b = append(append(append(v.b, '\''), s...), '\'')
		} else {
			v.b = append(hex.AppendEncode(append(v.b, "x'"...), []byte(s)), '\'')
		}
	}
	return v
}

// plain tells whether a text can stand between quotes as it is.
func plain(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c > '~' || c == '\'' || c == '\\' {
			return false
		}
	}
	return true
}

func (v *values) entry(r *db.Entry) {
	v.ints(r.SourceID, int64(r.Slot), int64(r.Idx)).texts(r.Path).ints(r.Size, r.Packed).texts(r.Kind, r.Format, r.Error)
}

// bulk runs statements of about a megabyte each.
func bulk(ctx context.Context, tx *sql.Tx, head, tail string, n int, row func(*values, int), progress func(int)) error {
	const most = 1 << 20
	v := values{b: make([]byte, 0, most+8<<10)}
	for i := 0; i < n; {
		v.b = append(v.b[:0], head...)
		for first := true; i < n && len(v.b) < most; i++ {
			if !first {
				v.b = append(v.b, ',')
			}
			first = false
			v.b = append(v.b, '(')
			row(&v, i)
			v.b = append(v.b, ')')
		}
		v.b = append(v.b, tail...)
		if _, err := tx.ExecContext(ctx, string(v.b)); err != nil {
			return err
		}
		if progress != nil {
			progress(i)
		}
	}
	return nil
}

// ListEntries reads a source's entries in its own order.
func (s *Store) ListEntries(ctx context.Context, source int64, each func(e *db.Entry)) error {
	rows, err := s.DB.QueryContext(ctx, "SELECT slot, idx, path, size, packed, kind, format, error FROM entries WHERE source_id = ? ORDER BY idx", source)
	if err != nil {
		return err
	}
	defer rows.Close()
	e := db.Entry{SourceID: source}
	for rows.Next() {
		if err := rows.Scan(&e.Slot, &e.Idx, &e.Path, &e.Size, &e.Packed, &e.Kind, &e.Format, &e.Error); err != nil {
			return err
		}
		each(&e)
	}
	return rows.Err()
}

// Transient tells whether an error comes from a connection that broke, so
// that the same is worth trying again.
func Transient(err error) bool {
	var ne *net.OpError // not net.Error: errors of files are those too
	var me *mysql.MySQLError
	switch {
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, sql.ErrConnDone):
		return true
	case errors.As(err, &me):
		// ER_SERVER_SHUTDOWN, ER_LOCK_WAIT_TIMEOUT, ER_LOCK_DEADLOCK, ER_CONNECTION_KILLED
		return me.Number == 1053 || me.Number == 1205 || me.Number == deadlock || me.Number == 1927
	case errors.As(err, &ne):
		return true
	}
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET)
}
