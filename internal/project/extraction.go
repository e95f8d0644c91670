package project

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"excavate/core/extract"
	"excavate/core/source"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Extractions take entries out of sources.
type Extractions struct {
	*common
	sources *Sources
}

// Extraction is what is asked for.
type Extraction struct {
	Title     string
	Selection Selection
	Form      string // folder or zip
	To        string // folder or file; empty for a new one of its own
	Policy    extract.Policy
	Map       []extract.Mapping
	Flat      bool
}

// stored is a plan on disk: it outlives the process that made it.
type storedPlan struct {
	Items   []storedItem
	Changes []extract.Change
	Skipped int64
	Bytes   int64
}

type storedItem struct {
	Source int64
	Path   string
	To     string
}

func (s *Extractions) planFile(id int64) string {
	return filepath.Join(s.plans(), fmt.Sprintf("%d.plan", id))
}
func (s *Extractions) journalFile(id int64) string {
	return filepath.Join(s.plans(), fmt.Sprintf("%d.journal", id))
}

// Extract plans an extraction, keeps the plan, and queues the work.
func (s *Extractions) Extract(ctx context.Context, project int64, x Extraction) (int64, error) {
	if x.Form != "folder" && x.Form != "zip" {
		return 0, errorf(Invalid, "entries are extracted to a folder or a zip, not to %q", x.Form)
	}
	own := x.To == ""
	if own {
		x.Policy = extract.Refuse
	}
	known := false
	for _, p := range extract.Policies {
		known = known || p == x.Policy
	}
	if !known {
		return 0, errorf(Invalid, "where a file is there already: refuse, skip, replace or keep-both, not %q", x.Policy)
	}
	sel, err := s.sources.Select(ctx, project, x.Selection)
	if err != nil {
		return 0, err
	}
	if len(sel.Rows) == 0 {
		return 0, errorf(Invalid, "the selection holds no entry")
	}
	if own {
		if x.To, err = s.newOutput(x.Title, x.Form); err != nil {
			return 0, err
		}
	} else if x.To, err = s.allowedOutput(x.To, x.Form); err != nil {
		return 0, err
	}
	if x.Form == "zip" && !own {
		if _, err := os.Lstat(x.To); err == nil && x.Policy != extract.Replace {
			return 0, errorf(Conflict, "%s is there already; choose another name, or replace it", x.To)
		}
	}
	// Only the sources that are chosen from are opened.
	at := map[int64]int{}
	var mounted []*source.Source
	var ids []int64
	refs := make([]extract.Ref, 0, len(sel.Rows))
	for _, r := range sel.Rows {
		e, src := sel.Catalog.Entry(r)
		k, ok := at[src.ID]
		if !ok {
			row, err := s.store.GetSource(ctx, src.ID)
			if err != nil {
				return 0, err
			}
			m, err := s.sources.mounted(ctx, row)
			if err != nil {
				return 0, errorf(Conflict, "%v", err)
			}
			k = len(mounted)
			at[src.ID] = k
			mounted, ids = append(mounted, m), append(ids, src.ID)
		}
		i := mounted[k].Lookup(e.Path)
		if i < 0 {
			return 0, errorf(Conflict, "%s no longer holds %s; index it again", src.Label, e.Path)
		}
		refs = append(refs, extract.Ref{Source: k, Entry: i})
	}
	o := extract.Options{Map: x.Map, Policy: x.Policy, Flat: x.Flat}
	if x.Form == "folder" {
		o.Dir = x.To
	}
	plan, err := extract.NewPlan(mounted, refs, o)
	if err != nil {
		return 0, errorf(Unusable, "%v", err)
	}
	title := x.Title
	if title == "" {
		title = filepath.Base(x.To)
	}
	if len(title) > 200 {
		title = strings.ToValidUTF8(title[:200], "")
	}
	id, err := s.store.CreateExtraction(ctx, db.CreateExtractionParams{ProjectID: project, Title: title,
		Dest: x.To, Form: x.Form, Policy: string(x.Policy), Entries: int64(len(plan.Items)), Bytes: plan.Bytes})
	if err != nil {
		return 0, err
	}
	kept := storedPlan{Changes: plan.Changes, Skipped: plan.Skipped, Bytes: plan.Bytes, Items: make([]storedItem, len(plan.Items))}
	for i, it := range plan.Items {
		kept.Items[i] = storedItem{ids[it.Source], mounted[it.Source].Entries()[it.Entry].Path, it.To}
	}
	if err := writeWhole(s.planFile(id), asJSON(kept)); err != nil {
		s.store.ExtractionState(ctx, db.ExtractionStateParams{State: "failed", Error: err.Error(),
			Summary: []byte("null"), ID: id})
		return 0, err
	}
	if _, err := s.pool.Add(ctx, project, "extract", "Extracting "+title, idArgs{ID: id}); err != nil {
		return 0, err
	}
	return id, s.store.TouchProject(ctx, project)
}

// writeWhole writes a file aside and renames it.
func writeWhole(name string, b []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".part-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	err = errors.Join(err, f.Sync(), f.Close())
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

// newOutput names a folder or file that is not there yet. A folder is made,
// so that no other extraction takes the name.
func (s *Extractions) newOutput(title, form string) (string, error) {
	if err := os.MkdirAll(s.extracted(), 0o755); err != nil {
		return "", err
	}
	name := strings.Map(func(r rune) rune {
		if r < 0x20 || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, title)
	if name = strings.Trim(name, ". "); name == "" {
		name = "extracted"
	}
	if len(name) > 120 {
		name = strings.ToValidUTF8(name[:120], "")
	}
	for n := 1; n < 10_000; n++ {
		p := filepath.Join(s.extracted(), name)
		if n > 1 {
			p = fmt.Sprintf("%s %d", p, n)
		}
		if form == "zip" {
			p += ".zip"
			f, err := os.OpenFile(p+".taken", os.O_CREATE|os.O_EXCL, 0o600)
			if err == nil {
				f.Close()
				if _, err := os.Lstat(p); err == nil {
					os.Remove(p + ".taken")
					continue
				}
				return p, nil
			}
			if !errors.Is(err, fs.ErrExist) {
				return "", err
			}
			continue
		}
		err := os.Mkdir(p, 0o755)
		if err == nil {
			return p, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", err
		}
	}
	return "", fmt.Errorf("%s holds too many folders named %s", s.extracted(), name)
}

// allowedOutput is a folder or file that the porter names; it must lie in a
// folder that may be written to.
func (s *Extractions) allowedOutput(to, form string) (string, error) {
	if !filepath.IsAbs(to) {
		return "", errorf(Invalid, "%q is not an absolute path", to)
	}
	to = filepath.Clean(to)
	// The part of it that exists must not lead elsewhere.
	real, rest := to, ""
	for {
		r, err := filepath.EvalSymlinks(real)
		if err == nil {
			real = filepath.Join(r, rest)
			break
		}
		if !errors.Is(err, fs.ErrNotExist) || real == filepath.Dir(real) {
			return "", errorf(Invalid, "%s cannot be used: %v", to, err)
		}
		rest = filepath.Join(filepath.Base(real), rest)
		real = filepath.Dir(real)
	}
	roots := append([]string{s.extracted()}, s.outputs...)
	for _, root := range roots {
		if err := os.MkdirAll(s.extracted(), 0o755); err != nil {
			return "", err
		}
		r, err := filepath.EvalSymlinks(root)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(r, real); err == nil && filepath.IsLocal(rel) && (rel != "." || form == "folder") {
			return real, nil
		}
	}
	return "", errorf(Forbidden,
		"%s lies outside the folders that may be written to (%s); start Excavate with --output to allow its folder",
		to, strings.Join(roots, ", "))
}

// Resume goes on with an extraction that was stopped or has failed.
func (s *Extractions) Resume(ctx context.Context, id int64) error {
	x, err := s.store.GetExtraction(ctx, id)
	if x, err = Known(x, err, "extraction", id); err != nil {
		return err
	}
	// Work that died with its process too often leaves the state as it was.
	busy, err := s.store.BusyJobs(ctx, db.BusyJobsParams{ProjectID: x.ProjectID, Kind: "extract",
		Args: asJSON(idArgs{ID: id})})
	if err != nil {
		return err
	}
	if x.State == "done" || busy > 0 {
		return errorf(Conflict, "the extraction is %s; only one that was stopped goes on", x.State)
	}
	if _, err := os.Stat(s.planFile(id)); err != nil {
		return errorf(Conflict, "the plan of this extraction is gone; extract anew")
	}
	if err := s.store.ExtractionState(ctx, db.ExtractionStateParams{State: "waiting", Summary: x.Summary,
		ID: id}); err != nil {
		return err
	}
	if _, err := s.pool.Add(ctx, x.ProjectID, "extract", "Extracting "+x.Title, idArgs{ID: id}); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, x.ProjectID)
}

// doExtract runs a plan, from where an earlier run has stopped.
func (s *Extractions) doExtract(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	x, err := s.store.GetExtraction(ctx, a.ID)
	if errors.Is(err, errNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	done := context.WithoutCancel(ctx)
	defer s.store.TouchProject(done, x.ProjectID)
	s.store.ExtractionState(ctx, db.ExtractionStateParams{State: "running", Summary: x.Summary, ID: x.ID})
	s.store.TouchProject(ctx, x.ProjectID)
	sum, err := s.extract(ctx, t, x)
	state, why := "done", ""
	switch {
	case err == nil:
		os.Remove(s.planFile(x.ID))
		os.Remove(s.journalFile(x.ID))
	case errors.Is(err, context.Canceled):
		state, why = "cancelled", "it was stopped"
	case store.Transient(err) && t.Job.Attempts < work.MaxAttempts-1:
		return err // it is begun again
	default:
		state, why = "failed", err.Error()
	}
	if e := s.store.ExtractionState(done, db.ExtractionStateParams{State: state, Error: why,
		Summary: asJSON(sum), ID: x.ID}); err == nil {
		err = e
	}
	return err
}

func (s *Extractions) extract(ctx context.Context, t *work.Task, x db.Extraction) (sum extract.Summary, err error) {
	b, err := os.ReadFile(s.planFile(x.ID))
	if err != nil {
		return sum, fmt.Errorf("the plan of this extraction is gone: %w", err)
	}
	var kept storedPlan
	if err := json.Unmarshal(b, &kept); err != nil {
		return sum, fmt.Errorf("the plan of this extraction cannot be read: %w", err)
	}
	j := &extract.Job{Plan: &extract.Plan{Bytes: kept.Bytes, Skipped: kept.Skipped, Changes: kept.Changes}, Policy: extract.Policy(x.Policy), Journal: s.journalFile(x.ID)}
	if x.Form == "zip" {
		j.Zip = x.Dest
		defer os.Remove(x.Dest + ".taken")
	} else {
		j.Dir = x.Dest
	}
	at := map[int64]int{}
	for _, it := range kept.Items {
		k, ok := at[it.Source]
		if !ok {
			row, err := s.store.GetSource(ctx, it.Source)
			if row, err = Known(row, err, "source", it.Source); err != nil {
				return sum, fmt.Errorf("a source of this extraction was taken out of the project: %w", err)
			}
			src, err := s.sources.mounted(ctx, row)
			if err != nil {
				return sum, err
			}
			k = len(j.Sources)
			at[it.Source] = k
			j.Sources = append(j.Sources, src)
		}
		i := j.Sources[k].Lookup(it.Path)
		if i < 0 {
			return sum, fmt.Errorf("%s no longer holds %s: it has changed on disk. Index it again and extract anew", j.Sources[k].Label, it.Path)
		}
		j.Plan.Items = append(j.Plan.Items, extract.Item{Ref: extract.Ref{Source: k, Entry: i}, To: it.To})
	}
	n := int64(len(j.Plan.Items))
	t.Progress(0, n, "entries")
	t.Bytes(0, kept.Bytes)
	j.Progress = func(entries, bytes int64) {
		t.Progress(entries, n, "entries")
		t.Bytes(bytes, kept.Bytes)
	}
	start := time.Now()
	sum, err = j.Run(ctx)
	sum.Seconds = time.Since(start).Seconds()
	return sum, err
}

// Get is an extraction's row.
func (s *Extractions) Get(ctx context.Context, id int64) (db.Extraction, error) {
	x, err := s.store.GetExtraction(ctx, id)
	return Known(x, err, "extraction", id)
}

// List lists a project's extractions, the newest first.
func (s *Extractions) List(ctx context.Context, project int64) ([]db.Extraction, error) {
	return s.store.ListExtractions(ctx, project)
}

// Summary is what an extraction that is done says of itself.
func (s *Extractions) Summary(ctx context.Context, id int64) (json.RawMessage, error) {
	x, err := s.Get(ctx, id)
	if err == nil && absent(x.Summary) {
		err = errorf(Conflict, "the extraction is %s; it has no summary yet", x.State)
	}
	return x.Summary, err
}
