package project

import (
	"context"
	"database/sql"
	"errors"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/step"
	"excavate/internal/store/db"
)

// beyond is what the steps of a project's chains take from outside their
// scene: its entries, and where one of them is a find, that find as it was
// decoded by the porter's decisions.
type beyond struct {
	find.Beyond
	s       *Finds
	project int64
	ids     map[*source.Source]int64
	via     []int64          // the chains whose ends are being taken
	keys    map[int64]string // of ends that are known: chains may take one many times over
}

// beyondOf makes ready what a chain's steps may take from outside. It is nil if
// they take nothing.
func (s *Finds) beyondOf(ctx context.Context, project int64, doc *chain.Chain) (chain.Beyond, error) {
	asks, err := doc.Asks()
	if err != nil || len(asks) == 0 {
		return nil, err
	}
	return s.beyondAll(ctx, project)
}

// beyondAll is what lies outside of any chain's scenes.
func (s *Finds) beyondAll(ctx context.Context, project int64) (chain.Beyond, error) {
	f, err := s.sources.finder(ctx, project)
	if err != nil {
		return nil, err
	}
	lib, err := s.libraries.Of(ctx, project)
	if err != nil {
		return nil, err
	}
	b := &beyond{Beyond: find.Beyond{Lib: lib, Finder: f, Stack: f.stack}, s: s, project: project,
		ids: map[*source.Source]int64{}, keys: map[int64]string{}}
	for id, src := range f.byID {
		b.ids[src] = id
	}
	return b, nil
}

// decoded is the find that is made of a model, if there is one and it is ready.
func (b *beyond) decoded(ctx context.Context, from string) (string, error) {
	hit, err := b.AssetHit(from)
	if err != nil {
		return "", err
	}
	id, ok := b.ids[hit.Source]
	if !ok {
		return "", nil
	}
	f, err := b.s.store.FindOfEntry(ctx, db.FindOfEntryParams{
		ProjectID: b.project, SourceID: nullInt(id), EntryPath: hit.Path()})
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return f.Scene, err
}

// Asset is the end of that chain, the find of that model, or the model as it is
// read.
func (b *beyond) Asset(ctx context.Context, from string) (*scene.Scene, error) {
	if name, ok := step.EndOf(from); ok {
		e, err := b.endOf(ctx, name)
		if err != nil {
			return nil, err
		}
		return e.scene(ctx)
	}
	digest, err := b.decoded(ctx, from)
	if err != nil {
		return nil, err
	}
	if digest != "" {
		return b.s.scenes.Get(digest)
	}
	return b.Beyond.Asset(ctx, from)
}

// Mark changes whenever what the ask would get changes.
func (b *beyond) Mark(ctx context.Context, a step.Ask) (string, error) {
	if name, ok := step.EndOf(a.Asset); ok {
		e, err := b.endOf(ctx, name)
		if err == nil {
			return e.key(ctx)
		}
		if ctx.Err() != nil {
			return "", err
		}
		return err.Error(), nil // the step itself will fail by it
	}
	if a.Asset != "" {
		if digest, err := b.decoded(ctx, a.Asset); err == nil && digest != "" {
			return digest, nil
		}
	}
	return b.Beyond.Mark(ctx, a)
}

// Origins lists where what steps took from outside comes from.
func (b *beyond) Origins(ctx context.Context, asks []step.Ask, took []string) ([]find.Origin, error) {
	var out []find.Origin
	var entries []step.Ask
	for _, a := range asks {
		name, ok := step.EndOf(a.Asset)
		if !ok {
			entries = append(entries, a)
			continue
		}
		e, err := b.endOf(ctx, name)
		if err != nil {
			return nil, err
		}
		list, err := e.origins(ctx)
		if err != nil {
			return nil, err
		}
		out = find.Joined(out, list)
	}
	list, err := b.Beyond.Origins(entries, took)
	return find.Joined(out, list), err
}

// broughtIn adds what a chain's steps took from outside to where an asset came
// from: of pictures those that the steps took.
func (s *Finds) broughtIn(ctx context.Context, project int64, doc *chain.Chain, took []string,
	origins []find.Origin) ([]find.Origin, error) {
	out, err := s.beyondOf(ctx, project, doc)
	if err != nil || out == nil {
		return origins, err
	}
	asks, err := doc.Asks()
	if err != nil {
		return nil, err
	}
	list, err := out.(*beyond).Origins(ctx, asks, took)
	if err != nil {
		return nil, err
	}
	if err := s.stated(ctx, project, list); err != nil {
		return nil, err
	}
	return find.Joined(origins, list), nil
}
