package project

import (
	"context"
	"database/sql"
	"errors"
	"math"

	"excavate/core/target"
	"excavate/internal/store/db"
)

// Projects are projects as a whole: as files, as copies, as recipes.
type Projects struct {
	*common
	sources    *Sources
	layouts    *Layouts
	sheets     *Sheets
	chains     *Chains
	rehearsals *Rehearsals
	deliveries *Deliveries
}

// Create makes an empty project.
func (s *Projects) Create(ctx context.Context, name string) (int64, error) {
	return s.store.CreateProject(ctx, name)
}

// Get is a project's row.
func (s *Projects) Get(ctx context.Context, id int64) (db.Project, error) {
	p, err := s.store.GetProject(ctx, id)
	return Known(p, err, "project", id)
}

// List says of every project what it has, in one query.
func (s *Projects) List(ctx context.Context) ([]db.TalliesRow, error) {
	return s.store.Tallies(ctx, db.TalliesParams{Last: math.MaxInt64})
}

// Tally is what a project has, and how far one of its chains is.
type Tally struct {
	db.TalliesRow
	Chain     *db.Chain // nil where there is none
	Steps     int       // of that chain
	Rehearsed bool
	Stops     int
	Warns     int
}

// Tally counts what a project has. The last figures are of the chain wanted, or
// of the newest if it is 0 or in another project.
func (s *Projects) Tally(ctx context.Context, id, wanted int64) (*Tally, error) {
	rows, err := s.store.Tallies(ctx, db.TalliesParams{First: id, Last: id})
	if err == nil && len(rows) == 0 {
		err = sql.ErrNoRows
	}
	if _, err = Known(0, err, "project", id); err != nil {
		return nil, err
	}
	t := &Tally{TalliesRow: rows[0]}
	c, err := s.store.NewestChain(ctx, db.NewestChainParams{ProjectID: id, Wanted: wanted})
	if errors.Is(err, sql.ErrNoRows) {
		return t, nil
	}
	if err != nil {
		return nil, err
	}
	t.Chain = &c
	if doc, err := s.steps(ctx, c); err == nil {
		t.Steps = len(doc.Steps)
	}
	if r, err := s.rehearsals.Rehearse(ctx, c); err == nil && r.Ready {
		t.Rehearsed = true
		t.Stops, t.Warns, _ = target.Count(r.Findings)
	}
	return t, nil
}
