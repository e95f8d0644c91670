package target

import (
	"fmt"
	"strings"
)

// Lines states the sheet's rules for people: what, and its value.
func (s *Sheet) Lines() (out [][2]string) {
	add := func(what, f string, a ...any) { out = append(out, [2]string{what, fmt.Sprintf(f, a...)}) }
	if s.Basis != nil {
		if b, err := s.Basis.Basis(); err == nil {
			text := b.String()
			i := strings.LastIndex(text, ", ")
			add("Basis", "%s", text[:i])
			add("Unit", "%s", text[i+2:])
		}
	}
	add("Format", "%s", strings.ToUpper(s.Format))
	if s.Size != nil {
		add("Size", "%g to %g m", s.Size.Least, s.Size.Most)
	}
	if s.Fraction > 0 {
		add("Shown at", "%g of its size", s.Fraction)
	}
	if s.RootBone != "" {
		add("Root bone", "%s", s.RootBone)
	}
	if k := s.Skeleton; k != nil {
		if k.Like != "" {
			add("Skeleton", "of %s", k.Like)
		} else {
			add("Skeleton", "%d bones by name", len(k.Bones))
		}
	}
	if s.JointsPerVertex > 0 {
		add("Joints", "%d per vertex", s.JointsPerVertex)
	}
	if l := s.limits(); l != "" {
		add("At most", "%s", l)
	}
	if p := s.Pictures; p != nil {
		add("Pictures", "%s", p.says())
	}
	if m := s.Materials; m != nil && len(m.There) > 0 {
		add("Materials", "%s are there", few(m.There))
	}
	if c := s.Colliders; c != nil {
		add("Colliders", "%s", c.says())
	}
	if without := s.without(); without != nil {
		add("Without", "%s", strings.Join(without, ", "))
	}
	if n := s.Names; n != nil {
		add("Names", "%s", n.says())
	}
	switch {
	case s.Centred:
		add("Stands", "on the ground, over the origin")
	case s.Ground:
		add("Stands", "on the ground")
	}
	if b := s.Solid; b != nil {
		if text := b.says(); text != "" {
			add("Body", "%s", text)
		}
	}
	if s.Transparency {
		add("Alpha", "as the pictures call for")
	}
	if l := s.Licence; l != nil {
		if l.Avatar {
			add("Licence", "an avatar's licence block")
		} else {
			add("Licence", "owner and licence told")
		}
	}
	for _, o := range s.Rules {
		add("Own rule", "%s", o.Rule)
	}
	if d := s.Delivery; d != nil && d.Folder != "" {
		add("Goes into", "%s", d.Folder)
	}
	return out
}

func (s *Sheet) limits() string {
	var out []string
	for _, l := range []struct {
		n    int
		what string
	}{{s.Limits.Triangles, "triangles"}, {s.Limits.Meshes, "meshes"}, {s.Limits.Nodes, "nodes"},
		{s.Limits.Materials, "materials"},
		{s.Limits.Bones, "bones"}, {s.Limits.Morphs, "morph targets"}, {s.Limits.UVSets, "UV sets"},
		{s.Limits.ColourSets, "colour sets"}} {
		if l.n > 0 {
			out = append(out, thousands(l.n)+" "+l.what)
		}
	}
	if s.Limits.Texels > 0 {
		out = append(out, fmt.Sprintf("%g MB of pictures", s.Limits.Texels))
	}
	return strings.Join(out, ", ")
}

// thousands sets a comma every three digits.
func thousands(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func (p *Pictures) says() string {
	var out []string
	if p.Required {
		out = append(out, "every one found")
	}
	if p.Largest > 0 {
		out = append(out, fmt.Sprintf("to %d px", p.Largest))
	}
	if p.Powers {
		out = append(out, "sides powers of two")
	}
	if len(p.Formats) > 0 {
		out = append(out, strings.ToUpper(strings.Join(p.Formats, " or ")))
	}
	return strings.Join(out, ", ")
}

func (c *Colliders) says() string {
	how := map[string]string{"": "as the format tells them", "extension": "as the format tells them",
		"ending": "meshes that end in " + c.Ending, "none": "made over there"}[c.As]
	if len(c.Shapes) > 0 {
		how = strings.Join(c.Shapes, ", ") + "; " + how
	}
	return how
}

func (n *Names) says() string {
	var out []string
	if n.Unique {
		out = append(out, "unique")
	}
	if n.Pattern != "" {
		out = append(out, n.Pattern)
	}
	if n.Longest > 0 {
		out = append(out, fmt.Sprintf("to %d letters", n.Longest))
	}
	return strings.Join(out, ", ")
}

func (s *Sheet) without() (out []string) {
	for _, x := range []struct {
		name  string
		allow *bool
	}{{"cameras", s.Cameras}, {"lights", s.Lights}, {"helpers", s.Helpers}, {"end bones", s.EndBones}} {
		if x.allow != nil && !*x.allow {
			out = append(out, x.name)
		}
	}
	if s.Motions != nil && s.Motions.None {
		out = append(out, "motions")
	}
	if s.Variants == "one" {
		out = append(out, "other looks")
	}
	return out
}

func (b *Solid) says() string {
	var out []string
	if b.Closed {
		out = append(out, "closed all round")
	}
	if b.Wall > 0 {
		out = append(out, fmt.Sprintf("walls of %.4g mm", b.Wall*1000))
	}
	if len(b.Bed) == 3 {
		out = append(out, fmt.Sprintf("within %.4g × %.4g × %.4g mm", b.Bed[0]*1000, b.Bed[1]*1000, b.Bed[2]*1000))
	}
	return strings.Join(out, ", ")
}
