package project

import (
	"context"
	"fmt"
	"sync"

	"excavate/core/blocks"
	"excavate/core/unfold"
)

// papers keeps the sheets that were made last: a page, its ground and its file
// are asked for one after the other.
type papers struct {
	mu    sync.Mutex
	order []string
	made  map[string]*unfold.Sheet
}

const papersInMemory = 6

func (p *papers) get(key string) *unfold.Sheet {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.made[key]
}

func (p *papers) put(key string, s *unfold.Sheet) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.made == nil {
		p.made = map[string]*unfold.Sheet{}
	}
	if _, ok := p.made[key]; !ok {
		p.order = append(p.order, key)
	}
	p.made[key] = s
	if len(p.order) > papersInMemory {
		delete(p.made, p.order[0])
		p.order = p.order[1:]
	}
}

// Paper unfolds a scene, turned as the 3D view has it.
func (s *Scenes) Paper(ctx context.Context, digest string, o unfold.Options) (*unfold.Sheet, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, err
	}
	key := fmt.Sprintf("%s %+v", digest, o)
	if made := s.papers.get(key); made != nil {
		return made, nil
	}
	made, err := unfold.Of(ctx, forView(sc), o)
	if err != nil {
		if ctx.Err() != nil {
			return nil, err
		}
		return nil, errorf(Unusable, "%v", err)
	}
	s.papers.put(key, made)
	return made, nil
}

// Blocks is how a scene's voxels are built of blocks.
func (s *Scenes) Blocks(digest string) (*blocks.Build, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, err
	}
	b, err := blocks.Of(sc)
	if err != nil {
		return nil, errorf(Unusable, "%v", err)
	}
	return b, nil
}
