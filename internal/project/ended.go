package project

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"excavate/internal/store/db"
)

// Jobs are what is under way, and what ended otherwise than well.
type Jobs struct {
	*common
	deliveries *Deliveries
}

// Nothing may stand as under way without work that is under way. Whatever
// ends a job (its own error, used up attempts, a stop, the disk, the database)
// brings what it was for into a state that says why; and what a process that
// died, or a database that was full, left behind is found by a round that is
// made every now and then.

// ended is called when a job has ended otherwise than well.
func (s *Jobs) ended(ctx context.Context, j db.Job, state, why string) error {
	if state == "cancelled" {
		why = "it was stopped"
	}
	var err error
	var a idArgs
	switch j.Kind {
	case "findall":
		var ids []int64
		if ids, err = s.store.DecodingFinds(ctx, j.ProjectID); err == nil {
			err = s.stopFinds(ctx, j.ProjectID, ids, why)
		}
	case "send":
		if err := json.Unmarshal(j.Args, &a); err != nil {
			return err
		}
		err = s.deliveries.stopSend(ctx, a.ID, a.Try, why)
	case "index", "decode", "extract", "deliver":
		if err := json.Unmarshal(j.Args, &a); err != nil {
			return err
		}
		err = s.stopped(ctx, j.Kind, a.ID, state, why)
	default:
		return nil
	}
	return errors.Join(err, s.store.TouchProject(ctx, j.ProjectID))
}

// stopFinds marks those of the finds that no work of their own will decode.
func (s *Jobs) stopFinds(ctx context.Context, project int64, ids []int64, why string) error {
	for _, id := range ids {
		n, err := s.store.BusyJobs(ctx, db.BusyJobsParams{ProjectID: project, Kind: "decode", Args: asJSON(idArgs{ID: id})})
		if err == nil && n == 0 {
			err = s.stopped(ctx, "decode", id, "", why)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// stopped brings one thing into its state.
func (s *Jobs) stopped(ctx context.Context, kind string, id int64, state, why string) (err error) {
	if state != "cancelled" {
		state = "failed"
	}
	switch kind {
	case "index":
		if _, err = s.store.StopSource(ctx,
			db.StopSourceParams{Error: "it is not indexed: " + why + "; try again", ID: id}); err != nil {
			return err
		}
		in, err := s.store.SourcesWithin(ctx, nullInt(id))
		if err != nil {
			return err
		}
		for _, id := range in { // they wait for this one
			if err := s.stopped(ctx, kind, id, state, why); err != nil {
				return err
			}
		}
	case "decode":
		_, err = s.store.StopFind(ctx, db.StopFindParams{Error: asJSON(Failure{Message: why}), ID: id})
	case "extract":
		_, err = s.store.StopExtraction(ctx, db.StopExtractionParams{State: state, Error: why, ID: id})
	case "send":
		err = s.deliveries.stopSend(ctx, id, 0, why)
	case "deliver":
		_, err = s.store.StopDelivery(ctx, db.StopDeliveryParams{Error: why, ID: id})
	}
	return err
}

// idle is a thing that stands as under way, and has no work.
type idle struct {
	kind string
	id   int64
}

// Idle is what a round saw.
type Idle map[idle]bool

// Round brings what stands as under way without work into a state that says
// so, if it stood so in the round before as well: a thing is made a moment
// before its work is queued. It returns what it saw.
func (s *Jobs) Round(ctx context.Context, before Idle) (Idle, error) {
	now := Idle{}
	look := func(kind string, id, project int64) error {
		x := idle{kind, id}
		if now[x] = true; !before[x] {
			return nil
		}
		why, err := s.store.WhyEnded(ctx, db.WhyEndedParams{ProjectID: project, Kind: kind, ID: id})
		if err != nil && !errors.Is(err, errNoRows) {
			return err
		}
		if why == "" {
			why = "the work on it ended with its process"
		}
		if err := s.stopped(ctx, kind, id, "", why); err != nil {
			return err
		}
		return s.store.TouchProject(ctx, project)
	}
	var errs []error
	sources, err := s.store.IdleSources(ctx)
	errs = append(errs, err)
	for _, r := range sources {
		errs = append(errs, look("index", r.ID, r.ProjectID))
	}
	finds, err := s.store.IdleFinds(ctx)
	errs = append(errs, err)
	for _, r := range finds {
		errs = append(errs, look("decode", r.ID, r.ProjectID))
	}
	extractions, err := s.store.IdleExtractions(ctx)
	errs = append(errs, err)
	for _, r := range extractions {
		errs = append(errs, look("extract", r.ID, r.ProjectID))
	}
	deliveries, err := s.store.IdleDeliveries(ctx)
	errs = append(errs, err)
	for _, r := range deliveries {
		errs = append(errs, look("deliver", r.ID, r.ProjectID))
	}
	sends, err := s.store.IdleSends(ctx)
	errs = append(errs, err)
	for _, r := range sends {
		errs = append(errs, look("send", r.ID, r.ProjectID))
	}
	return now, errors.Join(errs...)
}

// Times between rounds: two right after the start, then now and then.
const (
	firstRound = time.Second
	everyRound = 20 * time.Second
)

// Rounds goes on until ctx ends.
func (s *Jobs) Rounds(ctx context.Context) {
	seen := Idle{}
	for n := 0; ; n++ {
		wait := everyRound
		if n < 3 {
			wait = firstRound
		}
		var err error
		if seen, err = s.Round(ctx, seen); err != nil && ctx.Err() == nil {
			s.pool.Log("looking for work that was left: %v", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// DecodeAgain decodes a find that is not, or whose decoding was stopped.
func (s *Jobs) DecodeAgain(ctx context.Context, id int64) error {
	f, err := s.store.GetFind(ctx, id)
	if f, err = Known(f, err, "find", id); err != nil {
		return err
	}
	if !f.SourceID.Valid {
		return errorf(Conflict, "its source %s is not mounted any more", f.SourceLabel)
	}
	if err := s.store.BeginFind(ctx, id); err != nil {
		return err
	}
	if err := s.queueDecode(ctx, f.ProjectID, id, "Decoding "+f.EntryPath); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, f.ProjectID)
}

// Cancel stops a job. One that had not begun, or whose worker is gone, never
// gets to say so itself.
func (s *Jobs) Cancel(ctx context.Context, id int64) error {
	j, err := s.store.GetJob(ctx, id)
	if j, err = Known(j, err, "job", id); err != nil {
		return err
	}
	if err := s.store.CancelJob(ctx, id); err != nil {
		return err
	}
	if j.State != "queued" && j.State != "running" {
		return nil
	}
	return s.ended(ctx, j, "cancelled", "")
}

// Recent lists a project's jobs that are under way or ended not long ago.
func (s *Jobs) Recent(ctx context.Context, project int64) ([]db.Job, error) {
	return s.store.RecentJobs(ctx, project)
}
