package appraise

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"excavate/core/distinct"
	"excavate/core/geom"
	"excavate/core/nearest"
	"excavate/core/scene"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// Comparison is how two scenes differ. Lengths are metres where both units are
// known, otherwise the first scene's units.
type Comparison struct {
	Figures   []Row        `json:"figures"`
	Bones     []Row        `json:"bones"`
	Materials []Row        `json:"materials"`
	Sets      []Row        `json:"sets"`
	Motions   []Row        `json:"motions"`
	Things    []Row        `json:"things"` // cameras, lights, weights, terms, and what makes an avatar
	Pictures  []PictureRow `json:"pictures"`
	Surface   Surface      `json:"surface"`
	Tolerance float64      `json:"tolerance"`
	Same      bool         `json:"same"`
	Verdict   string       `json:"verdict"`
	// NotCompared names what was not looked at.
	NotCompared []string `json:"notCompared"`
}

// Row is one thing of both; it is empty where one has none.
type Row struct {
	Name   string `json:"name"`
	A      string `json:"a"`
	B      string `json:"b"`
	Differ bool   `json:"differ"`
}

// Surface is how far the surfaces are from each other: the distance from each
// vertex of one to the nearest point of the other, both ways.
type Surface struct {
	Most    float64 `json:"most"` // the Hausdorff distance, over vertices
	Mean    float64 `json:"mean"`
	P95     float64 `json:"p95"`
	Known   bool    `json:"known"`   // both have surfaces
	Sampled bool    `json:"sampled"` // not every vertex was looked at
	Unit    string  `json:"unit"`
	// Moved is set where b is a's shape elsewhere: what a is moved by.
	Moved *[3]float64 `json:"moved,omitempty"`
}

// vertexMost bounds the vertices of each scene that are measured, evenly.
const vertexMost = 200_000

// Compare measures b against a. tolerance is the largest distance at which
// surfaces count as the same; 0 takes a thousandth of a's size.
func Compare(a, b *scene.Scene, tolerance float64) Comparison {
	a, b = upright(a), upright(b)
	sa, sb := a.Stats(), b.Stats()
	out := Comparison{Figures: []Row{}, Bones: []Row{}, Materials: []Row{}, Sets: []Row{}, Motions: []Row{}, NotCompared: NotCompared}
	count := func(name string, x, y int) {
		out.Figures = append(out.Figures, Row{name, fmt.Sprint(x), fmt.Sprint(y), x != y})
	}
	count("triangles", sa.Triangles, sb.Triangles)
	count("vertices", sa.Vertices, sb.Vertices)
	count("meshes", sa.Meshes, sb.Meshes)
	count("parts", sa.Parts, sb.Parts)
	count("materials", sa.Materials, sb.Materials)
	count("pictures", sa.Pictures, sb.Pictures)
	count("pictures missing", sa.Missing, sb.Missing)
	count("bones", sa.Bones, sb.Bones)
	count("morph targets", sa.Morphs, sb.Morphs)
	count("motions", sa.Motions, sb.Motions)
	count("cameras", sa.Cameras, sb.Cameras)
	count("lights", sa.Lights, sb.Lights)
	count("lines", sa.Lines, sb.Lines)
	count("points", sa.Points, sb.Points)
	metres, square := "", "" // of the unit, where both are known
	if a.Basis.MetresPerUnit > 0 && b.Basis.MetresPerUnit > 0 {
		metres, square = ", m", ", m²"
	}
	size := math.Max(geom.Vec3(sa.Max).Sub(sa.Min).Len(), 1e-9)
	for i, axis := range "XYZ" {
		x, y := sa.Max[i]-sa.Min[i], sb.Max[i]-sb.Min[i]
		out.Figures = append(out.Figures, Row{"size along " + string(axis) + metres, fmt.Sprintf("%.4g", x), fmt.Sprintf("%.4g", y), math.Abs(x-y) > size/1000})
	}
	out.Figures = append(out.Figures, Row{"surface" + square, fmt.Sprintf("%.5g", sa.Area), fmt.Sprintf("%.5g", sb.Area), math.Abs(sa.Area-sb.Area) > 1e-3*math.Max(sa.Area, 1e-12)})
	if tolerance <= 0 {
		tolerance = size / 1000
	}
	out.Bones = bones(a, b, size)
	out.Materials = rows(materials(a), materials(b))
	out.Sets = setRows(sets(a, size, tolerance), sets(b, size, tolerance))
	out.Motions = motionRows(a, b, size)
	out.Things = rows(things(a, size), things(b, size))
	out.Pictures = pictures(a, b)
	out.Tolerance = tolerance
	out.Surface = surfaces(a, b, tolerance)
	if a.Basis.MetresPerUnit > 0 && b.Basis.MetresPerUnit > 0 {
		out.Surface.Unit = "m"
	}
	length := func(v float64) string {
		switch {
		case out.Surface.Unit != "m":
			return fmt.Sprintf("%.3g units", v)
		case math.Abs(v) < 1:
			return fmt.Sprintf("%.3g mm", v*1000)
		}
		return fmt.Sprintf("%.3g m", v)
	}
	differing := 0
	for _, list := range [][]Row{out.Bones, out.Materials, out.Sets, out.Motions, out.Things, out.Figures} {
		for _, r := range list {
			if r.Differ && !shared[r.Name] {
				differing++
			}
		}
	}
	for _, r := range out.Pictures {
		if r.Differ {
			differing++
		}
	}
	switch {
	case !out.Surface.Known:
		out.Verdict = "one of them has no surface to compare"
	case out.Surface.Most <= tolerance && differing == 0:
		out.Same = true
		out.Verdict = fmt.Sprintf("the same within %s: no point is farther from the other surface than %s", length(tolerance), length(out.Surface.Most))
	case out.Surface.Most <= tolerance:
		out.Verdict = fmt.Sprintf("the same shape within %s, but %d of their bones, materials, sets, motions, pictures and other things differ", length(tolerance), differing)
	case out.Surface.Moved != nil:
		m := out.Surface.Moved
		out.Verdict = fmt.Sprintf("the same shape within %s, but moved as a whole by %s, %s, %s along X, Y, Z", length(tolerance), length(m[0]), length(m[1]), length(m[2]))
	default:
		out.Verdict = fmt.Sprintf("not the same: up to %s apart, more than the %s that would pass", length(out.Surface.Most), length(tolerance))
	}
	return out
}

// shared are figures that depend on how a format shares and cuts things; what
// they mean is compared one by one.
var shared = map[string]bool{"triangles": true, "vertices": true, "meshes": true, "parts": true, "materials": true, "pictures": true, "bones": true, "morph targets": true,
	"motions": true, "size along X": true, "size along Y": true, "size along Z": true, "size along X, m": true, "size along Y, m": true, "size along Z, m": true, "surface": true, "surface, m²": true}

// upright is a scene in glTF's axes and metres, as far as its basis is known.
func upright(s *scene.Scene) *scene.Scene {
	full := *s
	full.Basis = s.Basis.Or(geom.GLTF)
	if t, err := full.InBasis(geom.GLTF); err == nil {
		t.Basis.MetresPerUnit = s.Basis.MetresPerUnit
		if t.Basis.MetresPerUnit > 0 {
			t.Basis.MetresPerUnit = 1
		}
		return t
	}
	return s
}

// trait is what is said of a thing. Two are the same if their words are, and
// their numbers and how they lie are no farther apart than the slack.
type trait struct {
	text, words string
	numbers     []float64
	lies        []float64 // over the surface; of this the text says nothing
	slack       float64
}

func (t *trait) differs(o *trait) bool {
	return t == nil || o == nil || t.words != o.words || apart(t.numbers, o.numbers, math.Max(t.slack, o.slack))
}

func apart(a, b []float64, slack float64) bool {
	if len(a) != len(b) {
		return true
	}
	for i, x := range a {
		if math.Abs(x-b[i]) > slack {
			return true
		}
	}
	return false
}

// traits are those of things by name; a name that stands again has a number.
type traits struct {
	by    map[string]*trait
	order []string
	names distinct.Names
}

func (t *traits) add(name string, x trait) {
	if t.by == nil {
		t.by = map[string]*trait{}
	}
	name = t.names.Name(name, " ")
	t.by[name] = &x
	t.order = append(t.order, name)
}

func rows(a, b traits) []Row {
	names := map[string]bool{}
	for n := range a.by {
		names[n] = true
	}
	for n := range b.by {
		names[n] = true
	}
	out := []Row{}
	for n := range names {
		x, y := a.by[n], b.by[n]
		row := Row{Name: n, Differ: x.differs(y)}
		if x != nil {
			row.A = x.text
		}
		if y != nil {
			row.B = y.text
		}
		if !row.Differ && apart(x.lies, y.lies, math.Max(x.slack, y.slack)) {
			row.Differ = true
			row.B += ", lying otherwise on the surface"
		}
		out = append(out, row)
	}
	sort.Slice(out, func(i, k int) bool { return out[i].Name < out[k].Name })
	return out
}

// colourSlack is what eight bits of a colour as screens show it may lose.
const colourSlack = 0.006

func materials(s *scene.Scene) (out traits) {
	for i := range s.Materials {
		m := &s.Materials[i]
		x := trait{slack: colourSlack}
		words := []string{string(m.Alpha)}
		t := []string{fmt.Sprintf("colour %.2f %.2f %.2f %.2f", m.BaseColour[0], m.BaseColour[1], m.BaseColour[2], m.BaseColour[3]), fmt.Sprintf("metal %.2f, rough %.2f", m.Metallic, m.Roughness)}
		for _, c := range m.BaseColour {
			x.numbers = append(x.numbers, float64(c))
		}
		x.numbers = append(x.numbers, float64(m.Metallic), float64(m.Roughness))
		for _, c := range m.Emissive {
			x.numbers = append(x.numbers, float64(c))
		}
		if m.Emissive != [3]float32{} {
			t = append(t, fmt.Sprintf("emits %.2f %.2f %.2f", m.Emissive[0], m.Emissive[1], m.Emissive[2]))
		}
		if m.TwoSided {
			words = append(words, "two-sided")
		}
		if m.Unlit {
			words = append(words, "unlit")
		}
		if m.Alpha == scene.Cutout {
			x.numbers = append(x.numbers, float64(m.Cutoff))
			t = append(t, fmt.Sprintf("cut at %.2f", m.Cutoff))
		}
		for _, k := range textured(m.Textures) {
			p := &s.Pictures[k.Picture]
			size := fmt.Sprintf("%d × %d", p.Width, p.Height)
			if p.Missing() {
				size = "missing"
			}
			words = append(words, fmt.Sprintf("%s %s%s", k.Role, size, used(&k, &x)))
		}
		layered(m, &x, &t, &words)
		x.words = strings.Join(words, ", ")
		x.text = strings.Join(append(t, words...), ", ")
		out.add(m.Name, x)
	}
	return out
}

// textured is a material's textures in the order of their roles.
func textured(list []scene.Texture) []scene.Texture {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b scene.Texture) int {
		return slices.Index(scene.Roles, a.Role) - slices.Index(scene.Roles, b.Role)
	})
	return out
}

// used is how a picture is used, where that is not the usual way.
func used(k *scene.Texture, x *trait) (says string) {
	if k.UVSet != 0 {
		says += fmt.Sprintf(" by UV set %d", k.UVSet+1)
	}
	for i, w := range []scene.Wrap{k.WrapU, k.WrapV} {
		if w != scene.Repeat {
			says += fmt.Sprintf(" %s along %c", w, "UV"[i])
		}
	}
	if k.Nearest {
		says += " unfiltered"
	}
	scale := k.Scale
	if k.Role != scene.RoleNormal && k.Role != scene.RoleOcclusion && k.Role != scene.RoleClearcoatNormal {
		scale = 1
	}
	x.numbers = append(x.numbers, float64(scale))
	if scale != 1 {
		says += fmt.Sprintf(" at %.2f", scale)
	}
	t := scene.UVTransform{Scale: [2]float32{1, 1}}
	if k.Transform != nil {
		t = *k.Transform
		if t != (scene.UVTransform{Scale: [2]float32{1, 1}}) {
			says += " moved"
		}
	}
	// Whole turns of the picture show nothing.
	for _, v := range []float32{t.Offset[0], t.Offset[1], t.Rotation, t.Scale[0], t.Scale[1]} {
		x.numbers = append(x.numbers, float64(v))
	}
	return says
}

// layered tells of coats above a surface, and of toon surfaces.
func layered(m *scene.Material, x *trait, t, words *[]string) {
	say := func(name string, v ...float32) {
		*words = append(*words, name)
		*t = append(*t, fmt.Sprintf("%s %.2f", name, v))
		for _, n := range v {
			x.numbers = append(x.numbers, float64(n))
		}
	}
	if l := m.Layers; l != nil {
		for _, k := range []struct {
			name string
			v    *float32
		}{{"index of refraction", l.IOR}, {"clearcoat", l.Clearcoat}, {"clearcoat roughness", l.ClearcoatRoughness}, {"specular", l.Specular}, {"transmission", l.Transmission}, {"sheen roughness", l.SheenRoughness}} {
			if k.v != nil {
				say(k.name, *k.v)
			}
		}
		if l.SpecularColour != nil {
			say("specular colour", l.SpecularColour[:]...)
		}
		if l.SheenColour != nil {
			say("sheen colour", l.SheenColour[:]...)
		}
	}
	if o := m.Toon; o != nil {
		*words = append(*words, "outline "+o.OutlineMode)
		if o.TransparentDepth {
			*words = append(*words, "writes depth")
		}
		say("toon", append(append(append(o.ShadeColour[:], o.RimColour[:]...), o.OutlineColour[:]...), o.ShadingShift, o.ShadingToony, o.GIEqualisation, o.RimFresnel/10, o.RimLift, o.OutlineWidth)...)
	}
}

// setRows pair sets by their names, and those that are left by their order:
// many formats cannot hold the names.
func setRows(a, b traits) []Row {
	for _, kind := range []string{"UV set ", "colour set "} {
		left := func(x, y traits) (out []string) {
			for _, n := range x.order {
				if strings.HasPrefix(n, kind) && y.by[n] == nil {
					out = append(out, n)
				}
			}
			return out
		}
		onlyA, onlyB := left(a, b), left(b, a)
		for i := range min(len(onlyA), len(onlyB)) {
			t := b.by[onlyB[i]]
			t.text += ", called " + strings.TrimPrefix(onlyB[i], kind)
			b.by[onlyA[i]] = t
			delete(b.by, onlyB[i])
		}
	}
	return rows(a, b)
}

// spread is how up to four numbers lie over a surface: their least and most,
// their means by area, and how they go along with the place (covariances, over
// the size of the scene). None depends on how faces share vertices or are cut.
type spread struct {
	triangles   int
	least, most [4]float64
	area        float64
	value       [4]float64
	place       geom.Vec3
	both        [4]geom.Vec3
}

// add counts a triangle: its corners, and the values there, per each. Products
// are quadratic, for which the middles of the edges are exact (Strang and Fix,
// "An Analysis of the Finite Element Method", 1973).
func (d *spread) add(corner [3]geom.Vec3, value [3][]float32) {
	if d.triangles++; d.triangles == 1 {
		for k, x := range value[0] {
			d.least[k], d.most[k] = float64(x), float64(x)
		}
	}
	for _, v := range value {
		for k, x := range v {
			d.least[k], d.most[k] = math.Min(d.least[k], float64(x)), math.Max(d.most[k], float64(x))
		}
	}
	third := corner[1].Sub(corner[0]).Cross(corner[2].Sub(corner[0])).Len() / 6
	for i := range 3 {
		j := (i + 1) % 3
		at := corner[i].Add(corner[j]).Mul(0.5)
		d.area += third
		d.place = d.place.Add(at.Mul(third))
		for k := range value[i] {
			v := third * float64(value[i][k]+value[j][k]) / 2
			d.value[k] += v
			d.both[k] = d.both[k].Add(at.Mul(v))
		}
	}
}

// means are those of n numbers, and lies how they go along with the place.
func (d *spread) means(n int, size float64) (means, lies []float64) {
	if d.area == 0 {
		return nil, nil
	}
	for k := range n {
		m := d.value[k] / d.area
		c := d.both[k].Mul(1 / d.area).Sub(d.place.Mul(m / d.area)).Mul(1 / size)
		means, lies = append(means, m), append(lies, c[0], c[1], c[2])
	}
	return means, lies
}

// sets tells of UV and colour sets how they lie, and of morph targets how far
// they move. size is that of the scene.
func sets(s *scene.Scene, size, tolerance float64) (out traits) {
	spreads, farthest := map[string]*spread{}, map[string]float64{}
	var order []string
	strokes := map[string]*stroke{}
	world := s.World()
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		parts := s.Meshes[s.Nodes[i].Mesh].Parts
		for k := range parts {
			p := &parts[k]
			at, normals := s.Posed(i, p, world)
			lay := func(name string, data []float32, per uint32) {
				d := spreads[name]
				if d == nil {
					d = &spread{}
					spreads[name] = d
					order = append(order, name)
				}
				for t := 0; t+2 < len(p.Triangles); t += 3 {
					var corner [3]geom.Vec3
					var value [3][]float32
					for c, v := range p.Triangles[t : t+3] {
						corner[c], value[c] = geom.At(at, v), data[per*v:per*v+per]
					}
					d.add(corner, value)
				}
			}
			for _, m := range p.Morphs {
				name := "morph target " + m.Name
				farthest[name] = math.Max(farthest[name], 0)
				for v := 0; v+2 < len(m.Positions); v += 3 {
					farthest[name] = math.Max(farthest[name], geom.At(m.Positions, uint32(v/3)).Len())
				}
				for what, data := range map[string][]float32{"": m.Positions, " normals": m.Normals, " tangents": m.Tangents} {
					if len(data) > 0 && len(p.Triangles) > 0 && (what == "" || slices.ContainsFunc(data, func(v float32) bool { return v != 0 })) {
						lay("moves of "+name+what, data, 3)
					}
				}
			}
			if normals != nil {
				lay("normals", normals, 3)
			}
			if p.Tangents != nil {
				lay("tangents", p.Tangents, 4)
			}
			lay("facing", faced(at, p), 3)
			if p.Material >= 0 {
				lay("surface of "+s.Materials[p.Material].Name, at, 3)
			}
			material := "none"
			if p.Material >= 0 {
				material = s.Materials[p.Material].Name
			}
			count(strokes, material, p, at)
			for _, u := range p.UVs {
				lay("UV set "+u.Name, u.Data, 2)
			}
			for _, c := range p.Colours {
				lay("colour set "+c.Name, c.Data, 4)
			}
		}
	}
	english := message.NewPrinter(language.English)
	for _, name := range order {
		d := spreads[name]
		t := trait{words: english.Sprintf("%d triangles", d.triangles), slack: colourSlack}
		t.text = t.words
		means, lies := d.means(4, size)
		switch {
		case d.triangles == 0:
		case strings.HasPrefix(name, "UV"):
			t.text += fmt.Sprintf(", U %.2f to %.2f, V %.2f to %.2f", d.least[0], d.most[0], d.least[1], d.most[1])
			t.numbers, t.slack = []float64{d.least[0], d.most[0], d.least[1], d.most[1]}, 1e-3
			t.lies = append(lies, means...)
		case strings.HasPrefix(name, "moves of "):
			if t.lies, t.slack, t.words = append(lies, means...), 1e-3*farthest[strings.TrimPrefix(name, "moves of ")]+1e-6, ""; strings.HasSuffix(name, "normals") || strings.HasSuffix(name, "tangents") {
				t.slack = 5e-3
			}
		case strings.HasPrefix(name, "surface of "):
			t.words, t.slack = "", 5e-3+2*tolerance/size
			t.text = fmt.Sprintf("%.3g of the whole", d.area/size/size)
			for _, m := range means { // places
				t.lies = append(t.lies, m/size)
			}
			t.lies = append(append(t.lies, d.area/size/size), lies[:min(len(lies), 9)]...)
			for k := len(means) + 1; k < len(t.lies); k++ {
				t.lies[k] /= size
			}
		case name == "normals" || name == "tangents" || name == "facing":
			t.lies, t.slack, t.words = append(append(lies, means...), d.area/size/size), 5e-3+2*tolerance/size, ""
		case means != nil:
			t.text += fmt.Sprintf(", on average %.2f %.2f %.2f %.2f", means[0], means[1], means[2], means[3])
			t.numbers, t.lies = means, lies
		}
		out.add(name, t)
	}
	unit := "units"
	if s.Basis.MetresPerUnit > 0 {
		unit = "m"
	}
	for name, k := range strokes {
		if k.n > 0 {
			c := k.middle.Mul(1 / math.Max(k.size, 1e-12) / size)
			out.add(name, trait{text: fmt.Sprintf("%d", k.n), numbers: []float64{c[0], c[1], c[2]}, slack: 2e-3, lies: []float64{k.size / math.Max(k.size, size)}})
			if strings.HasPrefix(name, "lines") {
				x := out.by[name]
				x.text, x.numbers = fmt.Sprintf("%.4g long", k.size), append(x.numbers, k.size/size)
			}
		}
	}
	for name, far := range farthest {
		out.add(name, trait{text: fmt.Sprintf("moves up to %.3g %s", far, unit), numbers: []float64{far}, slack: 1e-3*far + 1e-6})
	}
	return out
}

// stroke is how long lines are, or how many points there are, and where their
// middle lies.
type stroke struct {
	n      int
	size   float64
	middle geom.Vec3
}

func count(to map[string]*stroke, material string, p *scene.Part, at []float32) {
	of := func(what string) *stroke {
		k := to[what+" of "+material]
		if k == nil {
			k = &stroke{}
			to[what+" of "+material] = k
		}
		return k
	}
	for k := 0; k+1 < len(p.Lines); k += 2 {
		a, b := geom.At(at, p.Lines[k]), geom.At(at, p.Lines[k+1])
		l := b.Sub(a).Len()
		x := of("lines")
		x.n++
		x.size += l
		x.middle = x.middle.Add(a.Add(b).Mul(l / 2))
	}
	for _, v := range p.Points {
		x := of("points")
		x.n++
		x.size++
		x.middle = x.middle.Add(geom.At(at, v))
	}
}

// faced is the direction to which each triangle shows its front, at its
// corners; where triangles share a vertex, their mean by area.
func faced(at []float32, p *scene.Part) []float32 {
	out := make([]float32, len(at))
	for t := 0; t+2 < len(p.Triangles); t += 3 {
		a, b, c := geom.At(at, p.Triangles[t]), geom.At(at, p.Triangles[t+1]), geom.At(at, p.Triangles[t+2])
		n := b.Sub(a).Cross(c.Sub(a))
		for _, v := range p.Triangles[t : t+3] {
			for k := range 3 {
				out[3*v+uint32(k)] += float32(n[k])
			}
		}
	}
	for v := 0; v+2 < len(out); v += 3 {
		n := geom.At(out, uint32(v/3)).Norm()
		out[v], out[v+1], out[v+2] = float32(n[0]), float32(n[1]), float32(n[2])
	}
	return out
}

func motions(s *scene.Scene) (out traits) {
	for i := range s.Motions {
		m := &s.Motions[i]
		nodes := fmt.Sprintf("%d nodes", len(m.ByNode()))
		out.add(m.Name, trait{text: fmt.Sprintf("%.2f s, %s", m.Seconds(), nodes), words: nodes, numbers: []float64{m.Seconds()}, slack: 0.006})
	}
	return out
}

// bones compares bones of the same name by where they stand at rest.
func bones(a, b *scene.Scene, size float64) []Row {
	turns := [2]map[string]standing{{}, {}}
	gather := func(s *scene.Scene, turn map[string]standing) (map[string]geom.Vec3, map[string]string, []string) {
		at, parent := map[string]geom.Vec3{}, map[string]string{}
		var order []string
		world := s.World()
		for i, is := range s.Bones() {
			if is {
				n := s.Nodes[i].Name
				if _, twice := at[n]; !twice {
					order = append(order, n)
				}
				at[n] = world[i].Point(geom.Vec3{})
				_, q, scale, _ := world[i].Decompose()
				turn[n] = standing{scale, q}
				if p := s.Nodes[i].Parent; p >= 0 {
					parent[n] = s.Nodes[p].Name
				}
			}
		}
		return at, parent, order
	}
	pa, ha, order := gather(a, turns[0])
	pb, hb, more := gather(b, turns[1])
	for _, n := range more {
		if _, ok := pa[n]; !ok {
			order = append(order, n)
		}
	}
	out := []Row{}
	place := func(v geom.Vec3, parent string) string {
		t := fmt.Sprintf("%.3f %.3f %.3f", v[0], v[1], v[2])
		if parent != "" {
			t += " on " + parent
		}
		return t
	}
	for _, n := range order {
		x, inA := pa[n]
		y, inB := pb[n]
		r := Row{Name: n}
		// Parents are told where they differ.
		onA, onB := ha[n], hb[n]
		if onA == onB {
			onA, onB = "", ""
		}
		if inA {
			r.A = place(x, onA)
		}
		if inB {
			r.B = place(y, onB)
		}
		// The parent of a root may be any node of the file.
		_, boneA := pa[ha[n]]
		_, boneB := pb[hb[n]]
		r.Differ = !inA || !inB || x.Sub(y).Len() > size/1000 || ha[n] != hb[n] && (boneA || boneB)
		if inA && inB && !r.Differ {
			p, q := turns[0][n], turns[1][n]
			if angle := between(p.turn, q.turn); angle > turnSlack {
				r.Differ = true
				r.B += fmt.Sprintf(", turned by %.1f°", angle*180/math.Pi)
			} else if d := p.at.Sub(q.at).Len(); d > 1e-3*p.at.Len() {
				r.Differ = true
				r.B += fmt.Sprintf(", scaled %.3g beside %.3g", q.at, p.at)
			}
		}
		out = append(out, r)
	}
	return out
}

func triangles(s *scene.Scene) (tri []geom.Vec3, verts []geom.Vec3) {
	world := s.World()
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		for k := range s.Meshes[s.Nodes[i].Mesh].Parts {
			p := s.Meshes[s.Nodes[i].Mesh].Parts[k]
			p.Normals = nil
			pos, _ := s.Posed(i, &p, world)
			at := func(v uint32) geom.Vec3 {
				return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
			}
			used := make([]bool, p.Vertices())
			for _, v := range p.Triangles {
				tri = append(tri, at(v))
				if !used[v] {
					used[v] = true
					verts = append(verts, at(v))
				}
			}
		}
	}
	return tri, verts
}

func sparse(v []geom.Vec3) ([]geom.Vec3, bool) {
	if len(v) <= vertexMost {
		return v, false
	}
	out := make([]geom.Vec3, 0, vertexMost)
	for i := range vertexMost {
		out = append(out, v[i*len(v)/vertexMost])
	}
	return out, true
}

func surfaces(a, b *scene.Scene, tolerance float64) Surface {
	ta, va := triangles(a)
	tb, vb := triangles(b)
	out := Surface{Known: len(ta) > 0 && len(tb) > 0, Unit: "units"}
	if !out.Known {
		return out
	}
	va, s1 := sparse(va)
	vb, s2 := sparse(vb)
	out.Sampled = s1 || s2
	sa, sb := nearest.New(ta), nearest.New(tb)
	d := append(sb.Distances(va), sa.Distances(vb)...)
	sort.Float64s(d)
	sum := 0.0
	for _, x := range d {
		sum += x
	}
	out.Most, out.Mean, out.P95 = d[len(d)-1], sum/float64(len(d)), d[len(d)*95/100]
	if out.Most <= tolerance {
		return out
	}
	// The same shape elsewhere has the same box elsewhere.
	by := middle(tb).Sub(middle(ta))
	shifted := func(list []geom.Vec3, by geom.Vec3) []geom.Vec3 {
		list = slices.Clone(list)
		for i := range list {
			list[i] = list[i].Add(by)
		}
		return list
	}
	if slices.Max(sb.Distances(shifted(va, by))) <= tolerance && slices.Max(sa.Distances(shifted(vb, by.Mul(-1)))) <= tolerance {
		m := [3]float64(by)
		out.Moved = &m
	}
	return out
}

// middle is the middle of the box round points.
func middle(list []geom.Vec3) geom.Vec3 {
	box := geom.EmptyBox()
	for _, p := range list {
		box.Add(p)
	}
	return box.Min.Add(box.Max).Mul(0.5)
}

// Coloured is scene a with its vertices coloured by their distance from b:
// verdigris where they touch, over ochre, to iron at the tolerance times ten
// and beyond.
func Coloured(a, b *scene.Scene, tolerance float64) *scene.Scene {
	a, b = upright(a), upright(b)
	tb, _ := triangles(b)
	out := *a
	m := scene.NewMaterial("distance")
	m.Unlit, m.TwoSided = true, true
	out.Materials = []scene.Material{m}
	out.Pictures, out.Avatar = nil, nil
	if len(tb) == 0 {
		return &out
	}
	s := nearest.New(tb)
	if tolerance <= 0 {
		st := a.Stats()
		tolerance = geom.Vec3(st.Max).Sub(st.Min).Len() / 1000
	}
	world := a.World()
	out.Meshes = slices.Clone(a.Meshes)
	for i := range out.Meshes {
		out.Meshes[i].Parts = slices.Clone(out.Meshes[i].Parts)
	}
	for i := range a.Nodes {
		if a.Nodes[i].Mesh < 0 {
			continue
		}
		parts := out.Meshes[a.Nodes[i].Mesh].Parts
		for k := range parts {
			p := parts[k]
			p.Normals = nil
			pos, _ := a.Posed(i, &p, world)
			points := make([]geom.Vec3, p.Vertices())
			for v := range points {
				points[v] = geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
			}
			c := make([]float32, 0, 4*len(points))
			for _, d := range s.Distances(points) {
				c = append(c, ramp(d/tolerance)...)
			}
			parts[k].Material, parts[k].Colours, parts[k].UVs = 0, []scene.AttrSet{{Name: "distance", Data: c}}, nil
		}
	}
	return &out
}

// ramp is the colour of a distance in tolerances, linear.
func ramp(d float64) []float32 {
	stops := [][3]float32{{0.012, 0.136, 0.107}, {0.32, 0.13, 0.006}, {0.36, 0.05, 0.024}}
	// Up to one tolerance nothing differs; ten times it is far.
	u := math.Max(0, math.Min(math.Log10(math.Max(d, 1e-9))+0.3, 1.3)) / 1.3 * 2
	k := min(int(u), 1)
	f := float32(u - float64(k))
	out := make([]float32, 4)
	for i := range 3 {
		out[i] = stops[k][i] + (stops[k+1][i]-stops[k][i])*f
	}
	out[3] = 1
	return out
}
