package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/source"
	"excavate/core/target"
	"excavate/internal/blob"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// common is what every part works with.
type common struct {
	store   *store.Store
	blobs   *blob.Folder
	lib     *find.Library
	targets map[string]*target.Sheet
	pool    *work.Pool
	library []string
	data    string
	outputs []string
	hosts   []string
	version string
}

// Folders beside the database.
func (s *common) uploads() string   { return filepath.Join(s.data, "uploads") }
func (s *common) extracted() string { return filepath.Join(s.data, "extracted") }
func (s *common) plans() string     { return filepath.Join(s.data, "cache", "extractions") }
func (s *common) pulled() string    { return filepath.Join(s.data, "devices") }

func (s *common) spool() string { return filepath.Join(s.data, "cache", "spool") }

// plainOptions is how what lies on disk is opened: with the layouts that ship.
// A file that a layout of the project describes stays a file, whose bytes can
// be looked at, and is mounted in place.
func (s *common) plainOptions() source.Options {
	return source.Options{Layouts: s.lib.Layouts, Spool: s.spool()}
}

// spoolKept is how long unpacked copies are kept after they were last used.
const spoolKept = 14 * 24 * time.Hour

// tidy removes unpacked copies that nobody has used for long, and parts whose
// process has ended, and makes the service's folders its owner's alone, even
// where the data folder was there before.
func (s *common) tidy() error {
	for _, dir := range []string{
		s.data, s.uploads(), s.extracted(), filepath.Join(s.data, "cache"), s.spool(), s.plans(), s.pulled(),
	} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		if dir == s.data {
			continue // it may be somebody else's
		}
		if err := os.Chmod(dir, 0o700); err != nil {
			return err
		}
	}
	source.TidySpool(s.spool(), spoolKept)
	return nil
}

// Refind decodes the finds again that lack a picture.
func (s *common) refind(ctx context.Context, project int64) error {
	ids, err := s.store.IncompleteFinds(ctx, project)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.queueDecode(ctx, project, id, "Looking again for missing pictures"); err != nil {
			return err
		}
	}
	return nil
}

// queueDecode has a find decoded, with what is known now: a decoding that
// began before counts no more.
func (s *common) queueDecode(ctx context.Context, project, id int64, title string) error {
	if err := s.store.AskFind(ctx, id); err != nil {
		return err
	}
	_, err := s.pool.Add(ctx, project, "decode", title, idArgs{ID: id})
	return err
}

// QueueRun computes what a chain's bands lack.
func (s *common) queueRun(ctx context.Context, id int64) error {
	c, err := s.store.GetChain(ctx, id)
	if c, err = Known(c, err, "chain", id); err != nil {
		return err
	}
	_, err = s.pool.Add(ctx, c.ProjectID, "run", "Running "+c.Name, idArgs{ID: id})
	return err
}

// Steps reads the steps of a chain at its head.
func (s *common) steps(ctx context.Context, c db.Chain) (*chain.Chain, error) {
	b, err := s.store.GetRevision(ctx, db.GetRevisionParams{ChainID: c.ID, No: c.Head})
	if err != nil {
		return nil, err
	}
	out := &chain.Chain{Name: c.Name}
	return out, json.Unmarshal(b, &out.Steps)
}

type idArgs struct {
	ID  int64 `json:"id"`
	Try int64 `json:"try,omitempty"` // of several jobs about one thing, which it is
}

func (s *common) queueIndex(ctx context.Context, project, id int64, label string) error {
	_, err := s.pool.Add(ctx, project, "index", "Indexing "+label, idArgs{ID: id})
	return err
}

func nullInt(id int64) sql.NullInt64 { return sql.NullInt64{Int64: id, Valid: true} }

func asJSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		return json.RawMessage("null")
	}
	return b
}

// absent tells whether a column of JSON holds nothing.
func absent(v json.RawMessage) bool { return len(v) == 0 || string(v) == "null" }
