package find

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"strings"

	"excavate/core/pick"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/step"
)

// Beyond is what steps of a chain take from outside their scene: the entries
// of sources, decoded by a library.
type Beyond struct {
	Lib    *Library
	Finder Finder       // finds what a name stands for
	Stack  source.Stack // whose pictures are looked through for globs
	Used   func(source.Hit)
}

// mostPictures is how many pictures one glob may stand for.
const mostPictures = 20_000

// Asset decodes the model that a name stands for.
func (b *Beyond) Asset(ctx context.Context, from string) (*scene.Scene, error) {
	hit, err := b.AssetHit(from)
	if err != nil {
		return nil, err
	}
	data, err := hit.Source.Read(hit.Entry)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	s, _, err := b.Lib.Decode(ctx, Input{Name: hit.Path(), Data: data, From: hit.Source.Label, Finder: b.Finder, Used: b.Used})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	b.used(hit)
	return s, nil
}

// AssetHit is the entry of the model that a name stands for.
func (b *Beyond) AssetHit(from string) (source.Hit, error) {
	if name, ok := step.EndOf(from); ok {
		return source.Hit{}, fmt.Errorf("%s: the end of a chain is there within a project; here, name the file that %q wrote",
			from, name)
	}
	model := func(s *source.Source, i int) bool {
		head, err := s.Head(i, HeadBytes)
		if err != nil {
			return false
		}
		kind, _ := b.Lib.KindOf(s.Entries()[i].Path, head)
		return kind == Model
	}
	hit, ok, looked := b.Finder.Resolve(from, model)
	if !ok {
		return hit, fmt.Errorf("no model %s was found; looked for %s", from, strings.Join(looked, ", "))
	}
	return hit, nil
}

// Pictures lists the pictures that fit a glob, with their ending or without, as
// paths in their sources. What
// a source before another holds by the same path hides the other's.
func (b *Beyond) Pictures(ctx context.Context, glob string) ([]string, error) {
	hits, err := b.pictures(ctx, glob)
	out := make([]string, len(hits))
	for i, h := range hits {
		out[i] = h.Path()
	}
	return out, err
}

func (b *Beyond) pictures(ctx context.Context, glob string) (out []source.Hit, err error) {
	glob = strings.ToLower(strings.ReplaceAll(glob, `\`, "/"))
	whole := strings.Contains(glob, "/")
	seen := map[string]bool{}
	for _, s := range b.Stack {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for i, e := range s.Entries() {
			name := strings.ToLower(e.Path)
			short := name
			if !whole {
				short = path.Base(name)
			}
			fits := pick.Fits(glob, short) || pick.Fits(glob, strings.TrimSuffix(short, path.Ext(short)))
			if seen[name] || !fits || !b.Lib.IsPicture(s, i) {
				continue
			}
			if seen[name] = true; len(out) == mostPictures {
				return nil, fmt.Errorf("more than %d pictures fit %q; say more of their names",
					mostPictures, glob)
			}
			out = append(out, source.Hit{Source: s, Entry: i})
		}
	}
	return out, nil
}

// Picture decodes the picture that a name stands for.
func (b *Beyond) Picture(ctx context.Context, name string) (scene.Picture, error) {
	p := scene.Picture{Name: path.Base(strings.ReplaceAll(name, `\`, "/")), Ref: name}
	b.Lib.seek(ctx, Input{Name: name, Finder: b.Finder, Used: b.Used}, &p)
	if p.Missing() {
		return p, fmt.Errorf("no picture %s was found; looked for %s", name, strings.Join(p.Looked, ", "))
	}
	return p, nil
}

func (b *Beyond) used(h source.Hit) {
	if b.Used != nil {
		b.Used(h)
	}
}

// Hits lists the entries that an ask would be answered from; none if there is
// nothing.
func (b *Beyond) Hits(ctx context.Context, a step.Ask) ([]source.Hit, error) {
	switch {
	case a.Asset != "":
		if hit, err := b.AssetHit(a.Asset); err == nil {
			return []source.Hit{hit}, nil
		}
	case a.Pictures != "":
		return b.pictures(ctx, a.Pictures)
	case a.Picture != "":
		if hit, ok, _ := b.Finder.Resolve(a.Picture, b.Lib.IsPicture); ok {
			return []source.Hit{hit}, nil
		}
	}
	return nil, nil
}

// Mark changes whenever what the ask would get changes, as far as sources know
// that they have changed. For globs it changes with any of the sources: to look
// through them all would take longer than the step may.
func (b *Beyond) Mark(ctx context.Context, a step.Ask) (string, error) {
	if a.Pictures != "" {
		h := sha256.New()
		for _, s := range b.Stack {
			fmt.Fprintf(h, "%q %d %s\n", s.Label, len(s.Entries()), s.Stamp)
		}
		return hex.EncodeToString(h.Sum(nil)), nil
	}
	hits, err := b.Hits(ctx, a)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	for _, x := range hits {
		fmt.Fprintf(h, "%q %q %d %s\n",
			x.Source.Label, x.Path(), x.Source.Entries()[x.Entry].Size, x.Source.Stamp)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Origins lists where what steps took from outside comes from: every asset that
// they asked for, and the pictures that reports name as taken.
func (b *Beyond) Origins(asks []step.Ask, took []string) ([]Origin, error) {
	var out []Origin
	add := func(h source.Hit, data []byte) {
		var o Origins
		o.Add(h)
		out = Joined(out, o.List(h.Path(), data))
	}
	for _, a := range asks {
		if a.Asset == "" {
			continue
		}
		h, err := b.AssetHit(a.Asset)
		if err != nil {
			return nil, err
		}
		data, err := h.Source.Read(h.Entry) // it may carry terms of its own
		if err != nil {
			return nil, err
		}
		add(h, data)
	}
	for _, t := range took {
		for _, s := range b.Stack {
			path, ok := strings.CutPrefix(t, s.Label+": ")
			if i := s.Lookup(path); ok && i >= 0 {
				add(source.Hit{Source: s, Entry: i}, nil)
				break
			}
		}
	}
	return out, nil
}
