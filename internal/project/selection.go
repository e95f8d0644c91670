package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

	"excavate/core/catalog"
	"excavate/core/link"
	"excavate/core/naming"
	"excavate/core/source"
	"excavate/core/terms"
	"excavate/internal/store/db"
)

// Filter is what the entry table is narrowed to.
type Filter struct {
	Text    string `json:"q,omitempty"`
	Kind    string `json:"kind,omitempty"`
	Source  int64  `json:"source,omitempty"`
	Folder  string `json:"folder,omitempty"`
	Set     string `json:"set,omitempty"` // a set's name
	MinSize int64  `json:"min,omitempty"` // bytes
	MaxSize int64  `json:"max,omitempty"` // bytes
}

// Selection is a choice of entries: those that are named, those that fit a
// filter, those of folders and sets, without some, and perhaps with all that
// they need.
type Selection struct {
	IDs     []int64  `json:"ids,omitempty"`
	Filter  *Filter  `json:"filter,omitempty"` // an empty one is everything
	Folders []string `json:"folders,omitempty"`
	Sets    []string `json:"sets,omitempty"`
	Except  []int64  `json:"except,omitempty"`
	Needs   bool     `json:"needs,omitempty"`   // with all that they need
	Winners bool     `json:"winners,omitempty"` // of several entries of one path only the one that wins
}

// Selected is what a selection comes to.
type Selected struct {
	Rows    []int32  // of the catalog, in search order
	Bytes   int64    // unpacked
	Missing []string // needed, and not found
	Catalog *catalog.Catalog
}

// query makes a catalog's query of a filter.
func (s *Sources) query(ctx context.Context, project int64, f Filter) (catalog.Query, error) {
	q := catalog.Query{Text: f.Text, Kind: f.Kind, Source: f.Source, Folder: f.Folder, MinSize: f.MinSize, MaxSize: f.MaxSize}
	if f.Set != "" {
		g, c, err := s.Links(ctx, project)
		if err != nil {
			return q, err
		}
		q.IDs = []int64{}
		for _, r := range g.Set(f.Set) {
			e, _ := c.Entry(r)
			q.IDs = append(q.IDs, e.ID)
		}
	}
	return q, nil
}

// Find lists the rows that fit a filter.
func (s *Sources) Find(
	ctx context.Context, project int64, f Filter, sort string,
) (*catalog.Catalog, catalog.Query, error) {
	c, err := s.Catalog(ctx, project)
	if err != nil {
		return nil, catalog.Query{}, err
	}
	q, err := s.query(ctx, project, f)
	q.Sort = sort
	if err != nil {
		return nil, q, err
	}
	if _, err := c.Rows(q); err != nil {
		return nil, q, errorf(Invalid, "%v", err)
	}
	return c, q, nil
}

// Select finds out what a selection comes to now.
func (s *Sources) Select(ctx context.Context, project int64, sel Selection) (*Selected, error) {
	g, c, err := s.Links(ctx, project)
	if err != nil {
		return nil, err
	}
	chosen := map[int32]bool{}
	take := func(q catalog.Query) error {
		rows, err := c.Rows(q)
		if err != nil {
			return errorf(Invalid, "%v", err)
		}
		for _, r := range rows {
			chosen[r] = true
		}
		return nil
	}
	if sel.Filter != nil {
		q, err := s.query(ctx, project, *sel.Filter)
		if err != nil {
			return nil, err
		}
		if err := take(q); err != nil {
			return nil, err
		}
	}
	for _, f := range sel.Folders {
		if err := take(catalog.Query{Folder: f}); err != nil {
			return nil, err
		}
	}
	for _, k := range sel.Sets {
		for _, r := range g.Set(k) {
			chosen[r] = true
		}
	}
	if len(sel.IDs) > 0 {
		if err := take(catalog.Query{IDs: sel.IDs}); err != nil {
			return nil, err
		}
	}
	if len(sel.Except) > 0 {
		rows, err := c.Rows(catalog.Query{IDs: sel.Except})
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			delete(chosen, r)
		}
	}
	out := &Selected{Catalog: c}
	if sel.Needs {
		var ids []int64
		rowOf := map[int64]int32{}
		for r := range chosen {
			e, _ := c.Entry(r)
			ids = append(ids, e.ID)
			rowOf[e.ID] = r
		}
		slices.Sort(ids)
		rows, missing := g.Closure(ids, func(id int64) (int32, bool) {
			if r, ok := rowOf[id]; ok {
				return r, true
			}
			rows, err := c.Rows(catalog.Query{IDs: []int64{id}})
			if err != nil || len(rows) == 0 {
				return 0, false
			}
			return rows[0], true
		})
		for _, r := range rows {
			chosen[r] = true
		}
		out.Missing = missing
	}
	for r := range chosen {
		if sel.Winners && c.Winner(r) != r {
			continue
		}
		out.Rows = append(out.Rows, r)
	}
	slices.Sort(out.Rows)
	for _, r := range out.Rows {
		e, _ := c.Entry(r)
		out.Bytes += max(0, e.Size)
	}
	return out, nil
}

// mostSelected is how many entries a selection may name; filters have no such
// bound.
const mostSelected = 100_000

// KeepSelection gives a selection an address that stays.
func (s *Sources) KeepSelection(ctx context.Context, project int64, sel Selection) (string, error) {
	if len(sel.IDs) > mostSelected || len(sel.Except) > mostSelected {
		return "", errorf(Invalid, "a selection names at most %d entries; choose by a filter instead", mostSelected)
	}
	slices.Sort(sel.IDs)
	sel.IDs = slices.Compact(sel.IDs)
	slices.Sort(sel.Except)
	slices.Sort(sel.Folders)
	slices.Sort(sel.Sets)
	b, err := json.Marshal(sel)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(b)
	d := hex.EncodeToString(sum[:8])
	return d, s.store.PutSelection(ctx, db.PutSelectionParams{ProjectID: project, Digest: d, Spec: b})
}

// SelectionAt is the selection at an address.
func (s *Sources) SelectionAt(ctx context.Context, project int64, digest string) (sel Selection, err error) {
	b, err := s.store.GetSelection(ctx, db.GetSelectionParams{ProjectID: project, Digest: digest})
	if err == errNoRows {
		return sel, errorf(NotFound, "there is no selection %s in this project", digest)
	}
	if err != nil {
		return sel, err
	}
	return sel, json.Unmarshal(b, &sel)
}

// SetRules keeps a project's name rules.
func (s *Sources) SetRules(ctx context.Context, project int64, rules naming.Rules) error {
	if len(rules) > 500 {
		return errorf(Invalid, "a project has at most 500 name rules")
	}
	if err := rules.Check(); err != nil {
		return errorf(Invalid, "%v", err)
	}
	if err := s.store.PutRules(ctx, db.PutRulesParams{ProjectID: project, Rules: asJSON(rules)}); err != nil {
		return err
	}
	return s.linksChanged(ctx, project)
}

// Pin makes a name stand for an entry, for all that ask for it.
func (s *Sources) Pin(ctx context.Context, project int64, ref string, entry int64) error {
	if ref == "" || len(ref) > 700 {
		return errorf(Invalid, "a pin needs a name of 1 to 700 letters")
	}
	e, row, _, _, err := s.Entry(ctx, entry)
	if err != nil {
		return err
	}
	if row.ProjectID != project {
		return errorf(NotFound, "entry %d is not in this project", entry)
	}
	pin := db.PutPinParams{ProjectID: project, Ref: ref, SourceLabel: row.Label, EntryPath: e.Path}
	if err := s.store.PutPin(ctx, pin); err != nil {
		return err
	}
	return s.linksChanged(ctx, project)
}

// Unpin lets a name be looked for again.
func (s *Sources) Unpin(ctx context.Context, project int64, ref string) error {
	n, err := s.store.DeletePin(ctx, db.DeletePinParams{ProjectID: project, Ref: ref})
	if err != nil {
		return err
	}
	if n == 0 {
		return errorf(NotFound, "%q is not pinned", ref)
	}
	return s.linksChanged(ctx, project)
}

func (s *Sources) linksChanged(ctx context.Context, project int64) error {
	ids, err := s.store.ReadyFinds(ctx, project)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := s.queueDecode(ctx, project, id, "Looking again for pictures"); err != nil {
			return err
		}
	}
	return s.store.TouchProject(ctx, project)
}

// Proposals are the affixes that the names in a project suggest.
func (s *Sources) Proposals(ctx context.Context, project int64) ([]naming.Proposal, error) {
	c, err := s.Catalog(ctx, project)
	if err != nil {
		return nil, err
	}
	s.shelf.mu.Lock()
	p := s.shelf.proposed[c]
	s.shelf.mu.Unlock()
	if p == nil {
		p = naming.Propose(c.Names)
		s.shelf.mu.Lock()
		s.shelf.proposed = map[*catalog.Catalog][]naming.Proposal{c: p}
		s.shelf.mu.Unlock()
	}
	return p, nil
}

// RuleCounts tells how many names each rule fits.
func (s *Sources) RuleCounts(ctx context.Context, project int64, rules naming.Rules) ([]int, error) {
	c, err := s.Catalog(ctx, project)
	if err != nil {
		return nil, err
	}
	out := make([]int, len(rules))
	for i, r := range rules {
		rows, err := c.Rows(catalog.Query{Text: r.Glob()})
		if err != nil {
			return nil, err
		}
		out[i] = len(rows)
	}
	return out, nil
}

// Sets gathers the entries that fit a filter into sets.
func (s *Sources) Sets(ctx context.Context, project int64, f Filter) ([]link.Set, *catalog.Catalog, error) {
	g, c, err := s.Links(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	q, err := s.query(ctx, project, f)
	if err != nil {
		return nil, nil, err
	}
	rows, err := c.Rows(q)
	if err != nil {
		return nil, nil, errorf(Invalid, "%v", err)
	}
	return g.Sets(rows), c, nil
}

// SetTerms keeps terms that the porter states.
func (s *Sources) SetTerms(ctx context.Context, id int64, t terms.Terms) error {
	row, err := s.store.GetSource(ctx, id)
	if row, err = Known(row, err, "source", id); err != nil {
		return err
	}
	if err := t.Check(); err != nil {
		return errorf(Invalid, "%v", err)
	}
	if p := t.Permission; p != nil {
		switch {
		case p.Data != nil:
			if p.SHA256, err = s.blobs.Put(p.Data); err != nil {
				return err
			}
		case p.SHA256 != "" && !s.blobs.Has(p.SHA256):
			return errorf(Invalid, "the file of the permission is not here any more: choose it again")
		}
	}
	if err := s.store.SetRights(ctx, db.SetRightsParams{Rights: asJSON(t), ID: id}); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, row.ProjectID)
}

// TermsOfEntry are an entry's own terms, if its file carries any, or those of
// its source.
func (s *Sources) TermsOfEntry(row db.Source, src *source.Source, i int, format string) terms.Terms {
	var t terms.Terms
	json.Unmarshal(row.Rights, &t)
	if src != nil && carriesTerms(format) && !t.ByHand {
		if own, err := entryTerms(src, i, src.Entries()[i].Path); err == nil {
			return own
		}
	}
	return t
}
