// Package store keeps everything but bulk bytes in MariaDB, through
// database/sql. Queries are in queries.sql and generated into package db.
package store

import (
	"context"
	"database/sql"
	"embed"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"excavate/internal/store/db"

	_ "github.com/go-sql-driver/mysql" // the driver
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
	return &Store{Queries: db.New(d), DB: d}, nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.DB.Close() }

// Tx runs f in one transaction.
func (s *Store) Tx(ctx context.Context, f func(*db.Queries) error) error {
	tx, err := s.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(s.Queries.WithTx(tx)); err != nil {
		return err
	}
	return tx.Commit()
}

// ReplaceEntries puts the entries of a source in place of those it had. It
// reports the rows written so far.
func (s *Store) ReplaceEntries(ctx context.Context, source int64, rows []db.Entry, progress func(done int)) error {
	tx, err := s.DB.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := s.Queries.WithTx(tx).DeleteEntries(ctx, source); err != nil {
		return err
	}
	const batch = 1000
	for at := 0; at < len(rows); at += batch {
		part := rows[at:min(at+batch, len(rows))]
		var q strings.Builder
		q.WriteString("INSERT INTO entries (source_id, idx, path, size, packed, kind, format, error) VALUES ")
		args := make([]any, 0, 8*len(part))
		for i := range part {
			if i > 0 {
				q.WriteByte(',')
			}
			q.WriteString("(?,?,?,?,?,?,?,?)")
			r := &part[i]
			args = append(args, source, r.Idx, r.Path, r.Size, r.Packed, r.Kind, r.Format, r.Error)
		}
		if _, err := tx.ExecContext(ctx, q.String(), args...); err != nil {
			return fmt.Errorf("store entries: %w", err)
		}
		if progress != nil {
			progress(at + len(part))
		}
	}
	return tx.Commit()
}
