// Package app puts the server together: database, blobs, work and the
// interface, and takes it apart again in order.
package app

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"time"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/target"
	"excavate/internal/api"
	"excavate/internal/blob"
	"excavate/internal/demo"
	"excavate/internal/mariadb"
	"excavate/internal/project"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/version"
	"excavate/internal/work"
	"excavate/targets"
	"excavate/web"
)

// Config says where and what to serve.
type Config struct {
	Data      string   // folder for the database and the blobs
	Database  string   // DSN of a database that runs already; empty starts one in Data
	Port      int      // on loopback; a taken one gives the next free one, 0 any
	Library   []string // folders that sources may be added from
	Outputs   []string // folders that may be extracted to, besides one in Data
	Devices   []string // hosts that devices may be on, besides loopback
	Receivers []string // addresses that deliveries can be sent to
	Workers   int      // how much is done side by side; 0 leaves all work to others
	WorkOnly  bool     // take work from the queue and answer no requests
	Lib       *find.Library
	Log       func(string, ...any)
}

// App is a running server.
type App struct {
	Address string // http://127.0.0.1:port
	Service *project.Service
	Store   *store.Store
	Blobs   *blob.Folder
	Pool    *work.Pool

	server *api.Server
	db     *mariadb.Server
	stop   context.CancelFunc
	served chan error
}

// collectAt is when the collector begins: when a third of the heap is new (per
// cent of what is in use, see debug.SetGCPercent). There is no limit beside it:
// with more in use than a limit the collector would run without end, and
// searches wait for it.
const collectAt = 50

// Start starts everything and returns once requests are answered.
func Start(ctx context.Context, c Config) (_ *App, err error) {
	if c.Log == nil {
		c.Log = func(string, ...any) {}
	}
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return nil, err
	}
	debug.SetGCPercent(collectAt)
	a := &App{served: make(chan error, 1)}
	defer func() {
		if err != nil {
			a.Close()
		}
	}()
	dsn := c.Database
	if dsn == "" {
		if a.db, err = mariadb.Start(ctx, filepath.Join(c.Data, "mariadb"), c.Log); err != nil {
			return nil, err
		}
		dsn = a.db.DSN("excavate")
	}
	if a.Store, err = store.Open(ctx, dsn); err != nil {
		return nil, err
	}
	if a.Blobs, err = blob.Open(filepath.Join(c.Data, "blobs")); err != nil {
		return nil, err
	}
	sheets, err := target.Load(targets.FS)
	if err != nil {
		return nil, err
	}
	a.Pool = work.New(a.Store, c.Log)
	a.Service, err = project.New(ctx, project.Config{
		Store: a.Store, Blobs: a.Blobs, Lib: c.Lib, Targets: sheets, Pool: a.Pool, Library: c.Library, Data: c.Data,
		Outputs: c.Outputs, Hosts: c.Devices, Receivers: c.Receivers, Version: version.Version,
	})
	if err != nil {
		return nil, err
	}
	wctx, stop := context.WithCancel(context.Background())
	a.stop = stop
	a.Pool.Start(wctx, c.Workers)
	go a.Service.Jobs.Rounds(wctx)
	if c.WorkOnly {
		return a, nil
	}
	if err := errors.Join(a.Store.ForgetJobs(ctx), a.Service.Bin.Forget(ctx)); err != nil {
		return nil, err
	}
	l, err := listen(c.Port, c.Log)
	if err != nil {
		return nil, err
	}
	a.Address = "http://" + l.Addr().String()
	if a.server, err = api.New(a.Service, web.FS(), c.Log); err != nil {
		return nil, err
	}
	go func() { a.served <- a.server.Serve(l) }()
	return a, nil
}

// listen takes the port on loopback, or the next free one.
func listen(port int, log func(string, ...any)) (net.Listener, error) {
	if port == 0 {
		return net.Listen("tcp", "127.0.0.1:0")
	}
	var first error
	for p := port; p < port+50 && p < 65536; p++ {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(p)))
		if err == nil {
			if p != port {
				log("port %d is taken; using %d", port, p)
			}
			return l, nil
		}
		if first == nil {
			first = err
		}
	}
	return nil, fmt.Errorf("no port from %d on is free: %w", port, first)
}

// Wait returns when ctx ends or the server fails.
func (a *App) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-a.served:
		return err
	}
}

// Close stops requests, then work, then the database.
func (a *App) Close() error {
	var errs []error
	if a.server != nil {
		if err := a.server.Shutdown(); err != nil && !errors.Is(err, context.DeadlineExceeded) {
			errs = append(errs, err)
		}
	}
	if a.stop != nil {
		a.stop()
		a.Pool.Wait()
	}
	if a.Store != nil {
		errs = append(errs, a.Store.Close())
	}
	if a.db != nil {
		errs = append(errs, a.db.Close())
	}
	return errors.Join(errs...)
}

// Demo writes the demo data into a library folder and makes the demo project
// if there is no project yet: two archives mounted, the ferry keeper found,
// one picture missing. Devices that run are connected to it.
func (a *App) Demo(ctx context.Context, dir string, devices ...Device) error {
	a.Service.Devices.SetNearby(devices)
	sheet, err := targets.FS.ReadFile("gltf-engine.yaml")
	if err != nil {
		return err
	}
	if err := demo.Write(dir, sheet); err != nil {
		return err
	}
	s := a.Service
	if list, err := s.Projects.List(ctx); err != nil || len(list) > 0 {
		return err
	}
	id, err := s.Projects.Create(ctx, "Sedgewater ferry")
	if err != nil {
		return err
	}
	// The documentation has addresses with ids. The server uses one up when it
	// gives a statement up for another, so each is given when nothing else is
	// under way.
	var keeper db.Source
	for i, name := range demo.Archives[:2] {
		if err := a.idle(ctx, id); err != nil {
			return err
		}
		src, err := s.Sources.AddPath(ctx, id, filepath.Join(dir, name))
		if err != nil {
			return err
		}
		row, err := a.indexed(ctx, src)
		if err != nil {
			return err
		}
		if i == 0 {
			keeper = row
		}
	}
	e, err := a.Store.EntryByPath(ctx, db.EntryByPathParams{SourceID: keeper.ID, Path: "figures/ferry_keeper.hull"})
	if err != nil {
		return err
	}
	if err := a.idle(ctx, id); err != nil {
		return err
	}
	find, err := s.Finds.Create(ctx, id, store.EntryID(e.SourceID, e.Slot))
	if err != nil {
		return err
	}
	doc, err := chain.Parse(demo.Chain)
	if err != nil {
		return err
	}
	// The demo's chain is nearly done: the porter has to rename the root yet.
	doc.Steps = doc.Steps[:len(doc.Steps)-1]
	if err := a.idle(ctx, id); err != nil {
		return err
	}
	if _, err = s.Chains.Create(ctx, id, find, doc); err != nil {
		return err
	}
	for _, d := range devices {
		if d.Address == "" {
			continue
		}
		if _, err := s.Devices.Connect(ctx, id, d.Address, d.Token); err != nil {
			return fmt.Errorf("connect %s: %w", d.Address, err)
		}
	}
	return nil
}

// Device is one that the demo project is connected to; one without an address
// could not be started, and Note says why.
type Device = project.Nearby

// idle waits until a project has no work left.
func (a *App) idle(ctx context.Context, project int64) error {
	return a.until(ctx, func() (bool, error) {
		n, err := a.Store.CountUnderWay(ctx, project)
		return n == 0, err
	})
}

func (a *App) indexed(ctx context.Context, id int64) (row db.Source, err error) {
	err = a.until(ctx, func() (bool, error) {
		row, err = a.Store.GetSource(ctx, id)
		if errors.Is(err, sql.ErrNoRows) {
			return false, err
		}
		if row.State == "failed" {
			return false, errors.New(row.Error)
		}
		return row.State == "ready" && row.KindsKnown, err
	})
	return row, err
}

func (a *App) until(ctx context.Context, done func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		ok, err := done()
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the demo's work did not end: %w", ctx.Err())
		case <-time.After(20 * time.Millisecond):
		}
	}
}
