package project

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/internal/store/db"
)

// CreateChain makes a chain for a find and queues its run.
func (s *Service) CreateChain(ctx context.Context, project, find int64, doc *chain.Chain) (int64, error) {
	f, err := s.Store.GetFind(ctx, find)
	if f, err = Known(f, err, "find", find); err != nil {
		return 0, err
	}
	if f.ProjectID != project {
		return 0, userErr(404, "find %d is not in this project", find)
	}
	sheet := s.usualSheet()
	var id int64
	err = s.Store.Tx(ctx, func(q *db.Queries) error {
		if id, err = q.CreateChain(ctx, db.CreateChainParams{ProjectID: project, FindID: find, Name: doc.Name, Target: sheet}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{ChainID: id, No: 1, Steps: stepsJSON(doc.Steps)}); err != nil {
			return err
		}
		return q.TouchProject(ctx, project)
	})
	if err != nil {
		return 0, err
	}
	return id, s.QueueRun(ctx, id)
}

func stepsJSON(steps []chain.Step) json.RawMessage {
	if steps == nil {
		steps = []chain.Step{}
	}
	return asJSON(steps)
}

// EditChain replaces a chain's steps as a new revision. It is refused if the
// chain is not at the revision that was edited.
func (s *Service) EditChain(ctx context.Context, id int64, revision int, steps []chain.Step) error {
	return s.change(ctx, id, func(q *db.Queries, c db.Chain) error {
		if int(c.Head) != revision {
			return userErr(409, "the chain has been edited elsewhere meanwhile; look at it again")
		}
		if err := q.DropRevisionsAfter(ctx, db.DropRevisionsAfterParams{ChainID: id, No: c.Head}); err != nil {
			return err
		}
		if err := q.AddRevision(ctx, db.AddRevisionParams{ChainID: id, No: c.Head + 1, Steps: stepsJSON(steps)}); err != nil {
			return err
		}
		return q.SetHead(ctx, db.SetHeadParams{Head: c.Head + 1, ID: id})
	})
}

// MoveHead undoes (by -1) or redoes (by 1) an edit.
func (s *Service) MoveHead(ctx context.Context, id int64, by int) error {
	return s.change(ctx, id, func(q *db.Queries, c db.Chain) error {
		last, err := q.LastRevision(ctx, id)
		if err != nil {
			return err
		}
		to := int64(c.Head) + int64(by)
		if to < 1 {
			return userErr(409, "there is nothing to undo")
		}
		if to > last {
			return userErr(409, "there is nothing to redo")
		}
		return q.SetHead(ctx, db.SetHeadParams{Head: int32(to), ID: id})
	})
}

func (s *Service) change(ctx context.Context, id int64, f func(*db.Queries, db.Chain) error) error {
	var c db.Chain
	err := s.Store.Tx(ctx, func(q *db.Queries) (err error) {
		c, err = q.LockChain(ctx, id)
		if c, err = Known(c, err, "chain", id); err != nil {
			return err
		}
		if err := f(q, c); err != nil {
			return err
		}
		return q.TouchProject(ctx, c.ProjectID)
	})
	if err != nil {
		return err
	}
	if err := s.QueueRun(ctx, id); err != nil {
		return err
	}
	return s.queueDependent(ctx, c)
}

// Band is one band of a core sample, as far as it is computed.
type Band struct {
	Index   int
	Step    *chain.Step
	Title   string
	Family  string
	State   string // ready, off, waiting, failed
	Key     string
	Scene   string
	Stats   json.RawMessage
	Basis   json.RawMessage
	Report  step.Report
	Seconds float64
	Error   string
	Spoiled *chain.OutOfOrder // by a later step
}

// Bands reads the core sample of a chain from the results. running says that
// a run for it waits or is under way.
func (s *Service) Bands(ctx context.Context, c db.Chain) (bands []Band, running bool, err error) {
	n, err := s.Store.BusyJobs(ctx, db.BusyJobsParams{ProjectID: c.ProjectID, Kind: "run", Args: asJSON(idArgs{c.ID})})
	if err != nil {
		return nil, false, err
	}
	f, err := s.Store.GetFind(ctx, c.FindID)
	if err != nil {
		return nil, false, err
	}
	doc, err := s.Steps(ctx, c)
	if err != nil {
		return nil, false, err
	}
	first := Band{Title: "As found", Family: "raw", State: "waiting", Key: f.Scene}
	if f.Scene != "" {
		var m struct{ Stats, Basis json.RawMessage }
		if err := json.Unmarshal(f.Model, &m); err != nil {
			return nil, false, err
		}
		first.State, first.Scene, first.Stats, first.Basis = "ready", f.Scene, m.Stats, m.Basis
	}
	first.Report.Lines = []string{f.EntryPath + " in " + f.SourceLabel}
	bands = append(bands, first)
	outside, err := s.beyondOf(ctx, c.ProjectID, doc)
	if err != nil {
		return nil, false, err
	}
	key, broken := f.Scene, f.Scene == ""
	for i := range doc.Steps {
		st := &doc.Steps[i]
		b := Band{Index: i + 1, Step: st, Title: st.Step, State: "waiting"}
		if k, err := step.Get(st.Step); err == nil {
			b.Title, b.Family = k.Title, string(k.Family)
		}
		if st.Off {
			b.State = "off"
			bands = append(bands, b)
			continue
		}
		if !broken {
			if b.Key, err = chain.Key(ctx, key, *st, outside); err != nil {
				return nil, false, err
			}
			row, err := s.Store.GetResult(ctx, b.Key)
			switch {
			case errors.Is(err, sql.ErrNoRows):
				broken = true
			case err != nil:
				return nil, false, err
			case row.Error != "":
				b.State, b.Error, broken = "failed", row.Error, true
			default:
				b.State, b.Scene, b.Stats, b.Basis, b.Seconds = "ready", row.Scene, row.Stats, row.Basis, row.Seconds
				if err := json.Unmarshal(row.Report, &b.Report); err != nil {
					return nil, false, err
				}
				key = b.Key
			}
		}
		bands = append(bands, b)
	}
	for _, o := range doc.Order() {
		bands[o.Step+1].Spoiled = &o
	}
	return bands, n > 0, nil
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// asRead returns the scene as its basis declares, or with its bare numbers
// taken as a glTF target takes them.
func asRead(sc *scene.Scene, bare bool) *scene.Scene {
	if !bare {
		return sc
	}
	out := *sc
	out.Basis = geom.GLTF
	return &out
}

func readKey(bare bool) string {
	if bare {
		return "target"
	}
	return "declared"
}

// ThumbSize is the edge of a thumbnail in pixels, for screens of twice the
// usual density.
const ThumbSize = 192

// Thumb draws a scene small. Thumbnails are kept beside the blobs.
func (s *Service) Thumb(digest string, bare bool) ([]byte, error) {
	return s.Blobs.Side("thumb 6 "+digest+readKey(bare), func() ([]byte, error) {
		sc, err := s.SceneOf(digest)
		if err != nil {
			return nil, err
		}
		img := render.Draw(asRead(sc, bare), render.Options{Width: ThumbSize, Height: ThumbSize})
		return pixel.PNG(img)
	})
}

// withClay gives materials whose colour picture is missing the plain colour of
// clay, so that a gap shows as one.
func withClay(sc *scene.Scene) *scene.Scene {
	out := *sc
	out.Materials = slices.Clone(sc.Materials)
	for i := range out.Materials {
		if t := out.Materials[i].Texture(scene.RoleColour); t != nil && sc.Pictures[t.Picture].Missing() {
			out.Materials[i].BaseColour, out.Materials[i].Alpha = [4]float32{0.36, 0.33, 0.28, 1}, scene.Opaque
		}
	}
	return &out
}

// forView is a scene in glTF's basis; what its own leaves open is taken as
// glTF's.
func forView(sc *scene.Scene) *scene.Scene {
	full := *sc
	full.Basis = sc.Basis.Or(geom.GLTF)
	if turned, err := full.InBasis(geom.GLTF); err == nil {
		return turned
	}
	return sc
}

// View is the scene for the 3D view, in glTF's basis.
func (s *Service) View(digest string, bare bool) ([]byte, error) {
	return s.Blobs.Side("view 4 "+digest+readKey(bare), func() ([]byte, error) {
		sc, err := s.SceneOf(digest)
		if err != nil {
			return nil, err
		}
		v := asRead(sc, bare)
		if !bare {
			v = forView(v)
		}
		b, _, err := gltf.Write(withClay(v), gltf.Options{Generator: delivery.Generator(s.Version), AsStands: true})
		return b, err
	})
}
