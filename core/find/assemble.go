package find

import (
	"context"
	"fmt"
	"path"
	"strings"

	"excavate/core/assembly"
	"excavate/core/limit"
	"excavate/core/scene"
	"excavate/core/source"
)

// assemblyName is what an assembly is called where formats are.
const assemblyName = "assembly"

// assemble reads an assembly and decodes what it names: beside it first, then
// through the stack.
func (l *Library) assemble(ctx context.Context, in Input) (*scene.Scene, error) {
	doc, err := assembly.Parse(in.Data)
	if err != nil {
		return nil, err
	}
	if in.namesOnly {
		s := &scene.Scene{Name: doc.Name}
		for _, e := range doc.Entries {
			if in.asked != nil {
				in.asked(e.From)
			}
		}
		return s, nil
	}
	if in.depth >= limit.MountDepth {
		return nil, fmt.Errorf("assemblies lie within assemblies more than %d deep; does one name itself?",
			limit.MountDepth)
	}
	return doc.Build(ctx, func(from string) (*scene.Scene, error) { return l.part(ctx, in, from) })
}

// part decodes one asset of an assembly.
func (l *Library) part(ctx context.Context, in Input, from string) (*scene.Scene, error) {
	model := func(s *source.Source, i int) bool {
		head, err := s.Head(i, HeadBytes)
		if err != nil {
			return false
		}
		kind, _ := l.KindOf(s.Entries()[i].Path, head)
		return kind == Model
	}
	beside := path.Join(path.Dir(strings.ReplaceAll(in.Name, "\\", "/")), strings.ReplaceAll(from, "\\", "/"))
	hit, ok, looked := in.finder().Resolve(beside, model)
	if !ok {
		if hit, ok, _ = in.finder().Resolve(from, model); !ok {
			return nil, &missing{from, looked}
		}
	}
	in.used(hit)
	if in.Known != nil {
		if s, err := in.Known(hit); s != nil || err != nil {
			return s, err
		}
	}
	data, err := hit.Source.Read(hit.Entry)
	if err != nil {
		return nil, err
	}
	s, _, err := l.Decode(ctx, Input{Name: hit.Path(), Data: data, From: hit.Source.Label, Finder: in.finder(), Used: in.Used, Known: in.Known, depth: in.depth + 1})
	return s, err
}
