package find

import (
	"context"

	"excavate/core/link"
	"excavate/core/scene"
)

// RoleFile is the role of a companion that is not a picture, such as a buffer.
const RoleFile = "file"

// Asks lists what a model asks for, as it names it: its pictures with what
// they are for, and its companions. Entry of the asks is left at 0.
func (l *Library) Asks(ctx context.Context, in Input) ([]link.Ask, error) {
	var out []link.Ask
	seen := map[string]bool{}
	note := func(ref, role string) {
		if ref != "" && len(ref) <= 700 && !seen[ref] {
			seen[ref] = true
			out = append(out, link.Ask{Ref: ref, Role: role})
		}
	}
	in.asked = func(ref string) { note(ref, RoleFile) }
	in.namesOnly = true
	s, _, err := l.Decode(ctx, in)
	if err != nil {
		return out, err
	}
	for i := range s.Pictures {
		p := &s.Pictures[i]
		if p.Ref == "" || p.In != "" { // a file that is asked for as such
			continue
		}
		role := roleOf(s, i)
		if seen[p.Ref] { // the reader asked for it by itself
			for k := range out {
				if out[k].Ref == p.Ref {
					out[k].Role = role
				}
			}
		}
		note(p.Ref, role)
	}
	return out, nil
}

// roleOf is the first role that a picture has in a material.
func roleOf(s *scene.Scene, picture int) string {
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			if t.Picture == picture {
				return string(t.Role)
			}
		}
	}
	return "picture"
}
