package project

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/scene"
	"excavate/internal/store/db"
)

// end is the end of another chain of the project, that a step takes.
type end struct {
	chain   db.Chain
	find    db.Find
	doc     *chain.Chain
	outside *beyond // what its own steps take; knows the chains on the way here
}

// endOf is the chain of a name. It refuses names that several chains have, and
// a chain that leads back to one on the way to it.
func (b *beyond) endOf(ctx context.Context, name string) (*end, error) {
	list, err := b.s.store.ListChains(ctx, b.project)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(c db.Chain) bool { return c.Name != name })
	switch {
	case len(list) == 0:
		return nil, fmt.Errorf("there is no chain %q in this project", name)
	case len(list) > 1:
		return nil, fmt.Errorf("%d chains are called %q: give the one that is meant a name of its own",
			len(list), name)
	}
	e := &end{chain: list[0]}
	if slices.Contains(b.via, e.chain.ID) {
		return nil, fmt.Errorf("the chain %q leads back to itself", name)
	}
	if e.find, err = b.s.store.GetFind(ctx, e.chain.FindID); err != nil {
		return nil, err
	}
	if e.find.Scene == "" {
		return nil, fmt.Errorf("the find of the chain %q is not decoded", name)
	}
	if e.doc, err = b.s.steps(ctx, e.chain); err != nil {
		return nil, err
	}
	inner := *b
	inner.via = append(slices.Clone(b.via), e.chain.ID)
	e.outside = &inner
	return e, nil
}

// key is that of the chain's last band.
func (e *end) key(ctx context.Context) (string, error) {
	if key, ok := e.outside.keys[e.chain.ID]; ok {
		return key, nil
	}
	key := e.find.Scene
	for _, st := range e.doc.Steps {
		if st.Off {
			continue
		}
		var err error
		if key, err = chain.Key(ctx, key, st, e.outside); err != nil {
			return "", err
		}
	}
	e.outside.keys[e.chain.ID] = key
	return key, nil
}

// bands runs the chain, as far as its results are not kept.
func (e *end) bands(ctx context.Context) ([]chain.Band, error) {
	in, err := e.outside.s.scenes.Get(e.find.Scene)
	if err != nil {
		return nil, err
	}
	bands, err := chain.Run(ctx, e.find.Scene, in, e.doc, e.outside, results{e.outside.s.scenes, ctx}, nil)
	if err != nil {
		return nil, err
	}
	if b := chain.Failed(bands); b != nil {
		return nil, fmt.Errorf("the chain %q: %w", e.chain.Name, b.Err)
	}
	return bands, nil
}

// scene is what the chain ends with.
func (e *end) scene(ctx context.Context) (*scene.Scene, error) {
	bands, err := e.bands(ctx)
	if err != nil {
		return nil, err
	}
	return chain.Last(bands).Scene, nil
}

// origins are those of the chain's find and of what its steps took.
func (e *end) origins(ctx context.Context) ([]find.Origin, error) {
	list, err := e.outside.s.OriginsOf(ctx, e.find)
	if err != nil {
		return nil, err
	}
	bands, err := e.bands(ctx)
	if err != nil {
		return nil, err
	}
	asks, err := e.doc.Asks()
	if err != nil {
		return nil, err
	}
	more, err := e.outside.Origins(ctx, asks, chain.Took(bands))
	return find.Joined(list, more), err
}
