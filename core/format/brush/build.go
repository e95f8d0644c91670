package brush

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"image"
	_ "image/jpeg" // sizes of pictures
	_ "image/png"
	"maps"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/parallel"
	"excavate/core/scene"
)

// builder makes a scene of a level.
type builder struct {
	ctx       context.Context
	file      format.File
	level     *level
	s         *scene.Scene
	solved    [][]solved // by entity and solid
	materials map[string]int
	sizes     [][2]float64 // texels of each material's picture
	unsized   int          // pictures whose size is not known
	hull      *hull
	far       geom.Vec3 // where the level lies, if that is far from the origin
	unseen    int       // faces that the inside does not see
	shifted   int       // faces whose UVs were moved by whole repeats
	wild      int       // faces whose UVs are no numbers
}

func build(ctx context.Context, f format.File, l *level) (*scene.Scene, error) {
	name := strings.TrimSuffix(path.Base(strings.ReplaceAll(f.Name, "\\", "/")), path.Ext(f.Name))
	b := &builder{ctx: ctx, file: f, level: l, materials: map[string]int{}, s: &scene.Scene{Name: name,
		Basis: geom.Basis{Up: geom.PlusZ, Front: geom.PlusX, Handed: geom.Right}}}
	if err := b.solve(); err != nil {
		return nil, err
	}
	b.gatherMaterials()
	b.tellFaults()
	b.tellKinds()
	solids := b.choose(solidsChoice, "what becomes of the solids of an entity", together, each)
	curves := fine(b.choose(curvesChoice, "how finely curved patches are cut, by the edges along a piece", fineness...))
	shading := b.choose(shadingChoice, "how curved patches are shaded", smooth, flat)
	outer := b.choose(hullChoice, "faces of the outer hull, and where the level leaks", allFaces, seenFaces, showLeak)
	if err := b.affordable(curves); err != nil {
		return nil, err
	}
	b.far = b.farFrom()
	leak := b.look()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for i := range l.entities {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		b.entity(i, solids == each, curves, shading == smooth, outer == seenFaces)
	}
	if outer == showLeak && leak != nil {
		b.show(leak)
	}
	format.PlaceFar(b.s, b.far)
	if b.unseen > 0 {
		b.note("%s left out that nothing within sees", format.Counted(b.unseen, "face is", "faces are"))
	}
	if b.unsized > 0 {
		b.note("the size of %s is not known: their UVs are as for 64 × 64 texels until they are found",
			format.Counted(b.unsized, "picture", "pictures"))
	}
	if b.wild > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "the projection of " +
			format.Counted(b.wild, "face", "faces") + " gives no numbers: their UVs are 0", Loss: true})
	}
	if b.shifted > 0 {
		b.note("the UVs of %s were moved by whole repeats, so that they are exact",
			format.Counted(b.shifted, "face far from the origin", "faces far from the origin"))
	}
	if len(b.s.Nodes) > limit.Nodes {
		return nil, fmt.Errorf("the level would have more than %d nodes", limit.Nodes)
	}
	return b.s, nil
}

func (b *builder) note(msg string, a ...any) {
	b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf(msg, a...)})
}

func (b *builder) lose(line int, msg string, a ...any) {
	b.s.Notes = append(b.s.Notes,
		scene.Note{Text: fmt.Sprintf(msg, a...), Where: fmt.Sprintf("line %d", line), Loss: true})
}

// choose is what is chosen of some options, the first unless something is.
func (b *builder) choose(name, about string, options ...string) string {
	c := scene.Choice{Name: name, About: about, Options: options}
	c.Chosen = options[max(0, slices.Index(options, b.file.Readings[name]))]
	b.s.Choices = append(b.s.Choices, c)
	return c.Chosen
}

func fine(option string) int {
	n, _ := strconv.Atoi(option[:strings.IndexByte(option, ' ')])
	return n
}

// farFrom is where the level lies that places are kept relative to; see format.Far.
func (b *builder) farFrom() geom.Vec3 {
	box := geom.EmptyBox()
	for i := range b.solved {
		for k := range b.solved[i] {
			for f := range b.solved[i][k].faces {
				for _, c := range b.solved[i][k].faces[f].corners {
					box.Add(c)
				}
			}
		}
		for k := range b.level.entities[i].patches {
			for _, c := range b.level.entities[i].patches[k].places {
				box.Add(c)
			}
		}
	}
	if box.Empty() {
		return geom.Vec3{}
	}
	return format.Far(box.Min, box.Max)
}

// mostCurved bounds the vertices of all curved patches.
const mostCurved = 16 << 20

// affordable refuses curves that would be cut too finely to be held.
func (b *builder) affordable(curves int) error {
	total := 0
	for i := range b.level.entities {
		for k := range b.level.entities[i].patches {
			q := &b.level.entities[i].patches[k]
			if total += ((q.columns-1)/2*curves + 1) * ((q.rows-1)/2*curves + 1); total > mostCurved {
				return format.Errorf(fmt.Sprintf("line %d", q.line),
					"up to this patch curves have more than %d vertices: choose fewer edges with the reading %q", mostCurved, curvesChoice)
			}
		}
	}
	return nil
}

// solve finds the corners of all solids, on all cores.
func (b *builder) solve() error {
	b.solved = make([][]solved, len(b.level.entities))
	type place struct{ entity, solid int }
	var all []place
	for i := range b.level.entities {
		n := len(b.level.entities[i].solids)
		b.solved[i] = make([]solved, n)
		for k := range n {
			all = append(all, place{i, k})
		}
	}
	parallel.Share(len(all), 64, func(from, to int) {
		for i, p := range all[from:to] {
			if i%16 == 0 && b.ctx.Err() != nil {
				return
			}
			b.solved[p.entity][p.solid] = solve(&b.level.entities[p.entity].solids[p.solid])
		}
	})
	return b.ctx.Err()
}

// gatherMaterials makes a material of every name, with the picture of that name.
func (b *builder) gatherMaterials() {
	use := func(name string) {
		if _, ok := b.materials[name]; ok {
			return
		}
		b.materials[name] = len(b.s.Materials)
		m := scene.NewMaterial(name)
		size := [2]float64{64, 64}
		if !tool(name) {
			ref := name
			if path.Ext(ref) == "" {
				ref += ".png"
			}
			m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: len(b.s.Pictures), Scale: 1}}
			b.s.Pictures = append(b.s.Pictures, scene.Picture{Name: path.Base(name), Ref: ref})
			if w, h, ok := b.sizeOf(ref); ok {
				size = [2]float64{float64(w), float64(h)}
			} else {
				b.unsized++
			}
		}
		b.s.Materials, b.sizes = append(b.s.Materials, m), append(b.sizes, size)
	}
	for i := range b.level.entities {
		e := &b.level.entities[i]
		for k := range e.solids {
			for f := range e.solids[k].faces {
				use(e.solids[k].faces[f].material)
			}
		}
		for k := range e.patches {
			use(e.patches[k].material)
		}
	}
}

func (b *builder) sizeOf(ref string) (w, h int, ok bool) {
	if b.file.Companion == nil {
		return 0, 0, false
	}
	data, _, err := b.file.Companion(ref)
	if err != nil {
		return 0, 0, false
	}
	c, _, err := image.DecodeConfig(bytes.NewReader(data))
	return c.Width, c.Height, err == nil && c.Width > 0 && c.Height > 0
}

// toolWords are what materials are called whose faces nobody sees: they stop
// figures, part space, set things off, mark a pivot.
var toolWords = []string{"clip", "hint", "skip", "trigger", "origin", "tool", "areaportal"}

// tool tells a tool surface by the words of its name.
func tool(material string) bool {
	for _, w := range strings.FieldsFunc(strings.ToLower(material), func(r rune) bool { return r < 'a' || r > 'z' }) {
		if slices.Contains(toolWords, w) || slices.Contains(toolWords, strings.TrimSuffix(w, "s")) {
			return true
		}
	}
	return false
}

// closing tells whether a solid closes the level: the world's own do, and
// those of groups, but for tool surfaces all round. Doors and the like open.
func (b *builder) closing(i int, s *solid) bool {
	e := &b.level.entities[i]
	if i > 0 && !strings.Contains(strings.ToLower(e.prop("classname")), "group") {
		return false
	}
	return slices.ContainsFunc(s.faces, func(f face) bool { return !tool(f.material) })
}

// tellFaults says which solids are left out, by what is wrong with them.
func (b *builder) tellFaults() {
	type count struct{ n, line int }
	faults := map[fault]*count{}
	var turned, lined count
	note := func(c *count, line, n int) {
		if c.n == 0 {
			c.line = line
		}
		c.n += n
	}
	for i := range b.solved {
		for k := range b.solved[i] {
			s, line := &b.solved[i][k], b.level.entities[i].solids[k].line
			if s.fault != sound {
				if faults[s.fault] == nil {
					faults[s.fault] = &count{}
				}
				note(faults[s.fault], line, 1)
			}
			if s.turned {
				note(&turned, line, 1)
			}
			if s.lined > 0 {
				note(&lined, line, s.lined)
			}
		}
	}
	for _, f := range slices.Sorted(maps.Keys(faults)) {
		b.lose(faults[f].line, "%s left out, %s", format.Counted(faults[f].n, "solid is", "solids are"), f)
	}
	if lined.n > 0 {
		b.lose(lined.line, "%s left out whose three points lie on one line", format.Counted(lined.n, "face is", "faces are"))
	}
	if turned.n > 0 {
		b.note("the faces of %s look inward: they were turned round", format.Counted(turned.n, "solid", "solids"))
	}
	b.tellLeftOut()
	kinds := slices.Sorted(maps.Keys(b.level.strange))
	n := 0
	for _, k := range kinds {
		n += b.level.strange[k]
	}
	if n > 0 {
		b.lose(b.level.at, "%s of a form that is not read (%s)", format.Counted(n, "solid is", "solids are"),
			strings.Join(kinds, ", "))
	}
}

// tellLeftOut says what stands in the file and has no place in a scene, and what
// entities say of themselves that cannot be read.
func (b *builder) tellLeftOut() {
	lose := func(n int, one, many, what string) {
		if n > 0 {
			b.s.Notes = append(b.s.Notes, scene.Note{Text: what + " of " + format.Counted(n, one, many) + " is left out", Loss: true})
		}
	}
	lose(b.level.flagged, "face", "faces", "what stands behind the projection")
	lose(b.level.coloured, "control point", "control points", "what stands behind the UV")
	places, turns, models, lights := 0, 0, 0, 0
	for i := range b.level.entities {
		e := &b.level.entities[i]
		if _, ok := numbers(e.prop("origin"), 3); !ok && e.prop("origin") != "" {
			places++
		}
		_, three := numbers(e.prop("angles"), 3)
		_, one := numbers(e.prop("angle"), 1)
		if e.prop("angles")+e.prop("angle") != "" && !three && !one {
			turns++
		}
		if m := e.prop("model"); m != "" && !strings.HasPrefix(m, "*") {
			models++
		}
		if e.isLight() && e.prop("light") != "" {
			lights++
		}
	}
	tell := func(n int, one, many, what string) {
		if n > 0 {
			b.note("%s %s", format.Counted(n, one, many), what)
		}
	}
	tell(places, "entity has an origin", "entities have an origin", "that is not three numbers: taken as 0")
	tell(turns, "entity has angles", "entities have angles", "that are not one number or three: not turned")
	tell(models, "entity places a model", "entities place models", "by the key model, which stays a prop: assemble puts them there")
	tell(lights, "light has", "lights have", "a brightness that has no unit: it is taken as candela")
}

// tellKinds counts entities by class, and faces of tool surfaces by material.
func (b *builder) tellKinds() {
	classes, tools := map[string]int{}, map[string]int{}
	for i := range b.level.entities {
		e := &b.level.entities[i]
		classes[cmp.Or(e.prop("classname"), "(no class)")]++
		for k := range e.solids {
			for f := range e.solids[k].faces {
				if m := e.solids[k].faces[f].material; tool(m) {
					tools[m]++
				}
			}
		}
	}
	b.note("entities: %s", listed(classes))
	if len(tools) > 0 {
		b.note("tool surfaces: faces of %s", listed(tools))
	}
}

// listed are counts by name, the most first, at most twelve of them.
func listed(counts map[string]int) string {
	names := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	var out []string
	for _, n := range names[:min(len(names), 12)] {
		out = append(out, fmt.Sprintf("%d %s", counts[n], n))
	}
	if more := len(names) - len(out); more > 0 {
		out = append(out, fmt.Sprintf("%d more", more))
	}
	return strings.Join(out, ", ")
}

// numbers reads some numbers of a value.
func numbers(s string, n int) (v []float64, ok bool) {
	for _, w := range strings.Fields(s) {
		x, err := strconv.ParseFloat(w, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) || math.Abs(x) > mostPlace {
			return nil, false
		}
		v = append(v, x)
	}
	return v, len(v) == n
}

// origin is where an entity stands that is a point.
func (e *entity) origin() (at geom.Vec3, ok bool) {
	v, ok := numbers(e.prop("origin"), 3)
	if !ok || len(e.solids)+len(e.patches) > 0 {
		return at, false
	}
	return geom.Vec3(v), true
}

// turn is how an entity is turned: "angles" are degrees downward, to the left
// and to the right side; "angle" is degrees to the left, -1 is up and -2 down.
func (e *entity) turn() geom.Quat {
	about := func(axis geom.Vec3, degrees float64) geom.Quat { return geom.AxisAngle(axis, degrees*math.Pi/180) }
	x, y, z := geom.Vec3{1, 0, 0}, geom.Vec3{0, 1, 0}, geom.Vec3{0, 0, 1}
	if v, ok := numbers(e.prop("angles"), 3); ok {
		return about(z, v[1]).Mul(about(y, v[0])).Mul(about(x, v[2]))
	}
	v, ok := numbers(e.prop("angle"), 1)
	switch {
	case !ok:
		return geom.Quat{0, 0, 0, 1}
	case v[0] == -1:
		return about(y, -90)
	case v[0] == -2:
		return about(y, 90)
	}
	return about(z, v[0])
}

// entity makes the nodes of one.
func (b *builder) entity(i int, each bool, curves int, smooth, seen bool) {
	e := &b.level.entities[i]
	n := scene.NewNode(cmp.Or(e.prop("targetname"), e.prop("classname"), "entity"))
	n.Props = e.props
	if at, ok := e.origin(); ok {
		n.Put(at, e.turn(), geom.Vec3{1, 1, 1})
		b.light(e, &n)
	}
	root := len(b.s.Nodes)
	if len(e.solids)+len(e.patches) == 0 {
		b.s.Nodes = append(b.s.Nodes, n)
		return
	}
	if !each {
		parts := b.newParts()
		for k := range e.solids {
			b.solid(parts, i, k, seen)
		}
		for k := range e.patches {
			b.patch(parts, &e.patches[k], curves, smooth, seen)
		}
		n.Mesh = b.mesh(n.Name, parts)
		b.s.Nodes = append(b.s.Nodes, n)
		return
	}
	b.s.Nodes = append(b.s.Nodes, n)
	var names distinct.Names
	add := func(kind string, fill func(*parts)) {
		parts := b.newParts()
		fill(parts)
		if len(parts.order) == 0 {
			return
		}
		kid := scene.NewNode(names.Name(kind, " "))
		kid.Parent = root
		kid.Mesh = b.mesh(n.Name+" "+kid.Name, parts)
		b.s.Nodes = append(b.s.Nodes, kid)
	}
	for k := range e.solids {
		add("solid", func(p *parts) { b.solid(p, i, k, seen) })
	}
	for k := range e.patches {
		add("patch", func(p *parts) { b.patch(p, &e.patches[k], curves, smooth, seen) })
	}
}

func (e *entity) isLight() bool {
	return strings.HasPrefix(strings.ToLower(e.prop("classname")), "light")
}

// light gives an entity whose class is a light one: its brightness has no unit
// that files tell.
func (b *builder) light(e *entity, n *scene.Node) {
	if !e.isLight() {
		return
	}
	l := scene.Light{Name: n.Name, Type: "point", Colour: [3]float32{1, 1, 1}, Intensity: 1}
	if v, ok := numbers(e.prop("light"), 1); ok && v[0] > 0 {
		l.Intensity = float32(v[0])
	}
	for _, key := range []string{"_color", "color"} {
		if v, ok := numbers(e.prop(key), 3); ok {
			for k := range 3 {
				l.Colour[k] = format.Linear(v[k])
			}
		}
	}
	n.Light = len(b.s.Lights)
	b.s.Lights = append(b.s.Lights, l)
}

// parts are a mesh in the making, a part a material.
type parts struct {
	of    map[int]*scene.Part
	order []int
}

func (b *builder) newParts() *parts { return &parts{of: map[int]*scene.Part{}} }

func (p *parts) part(material int) *scene.Part {
	x := p.of[material]
	if x == nil {
		x = &scene.Part{Material: material, UVs: []scene.AttrSet{{Name: "uv"}}}
		p.of[material], p.order = x, append(p.order, material)
	}
	return x
}

func (b *builder) mesh(name string, p *parts) int {
	if len(p.order) == 0 {
		return scene.None
	}
	m := scene.Mesh{Name: name}
	for _, k := range p.order {
		m.Parts = append(m.Parts, *p.of[k])
	}
	b.s.Meshes = append(b.s.Meshes, m)
	return len(b.s.Meshes) - 1
}

// solid adds the faces of one: fans of triangles, each corner its own vertex.
func (b *builder) solid(p *parts, entity, k int, seen bool) {
	s := &b.solved[entity][k]
	for f := range s.faces {
		o := &s.faces[f]
		if len(o.corners) == 0 {
			continue
		}
		if seen && b.hull != nil && !b.hull.sees(*o) {
			b.unseen++
			continue
		}
		from := &b.level.entities[entity].solids[k].faces[f]
		m := b.materials[from.material]
		part := p.part(m)
		first := uint32(part.Vertices())
		uvs := b.texels(from, o, b.sizes[m])
		for c, at := range o.corners {
			for d := range 3 {
				part.Positions = append(part.Positions, float32(at[d]-b.far[d]))
				part.Normals = append(part.Normals, float32(o.normal[d]))
			}
			part.UVs[0].Data = append(part.UVs[0].Data, float32(uvs[c][0]), float32(uvs[c][1]))
			if c >= 2 {
				part.Triangles = append(part.Triangles, first, first+uint32(c)-1, first+uint32(c))
			}
		}
	}
}

// texels are the UVs of a face's corners.
func (b *builder) texels(f *face, o *outline, size [2]float64) [][2]float64 {
	v := f.texture.vectors(o.normal)
	out := make([][2]float64, len(o.corners))
	moved, wild := false, false
	for d := range 2 {
		least, most := math.Inf(1), math.Inf(-1)
		for c, at := range o.corners {
			out[c][d] = at.Dot(v[d]) + f.texture.offset[d]
			least, most = min(least, out[c][d]), max(most, out[c][d])
		}
		off := wholeRepeats(least, most, size[d])
		moved = moved || off != 0
		for c := range out {
			out[c][d] = (out[c][d] - off) / size[d]
			wild = wild || !(math.Abs(out[c][d]) < 1e30)
		}
	}
	if wild {
		b.wild++
		return make([][2]float64, len(out))
	}
	if moved {
		b.shifted++
	}
	return out
}

func (b *builder) patch(p *parts, q *patch, curves int, smooth, seen bool) {
	made := q.curved(curves, smooth, b.far)
	if seen && b.hull != nil && !b.reached(&made) {
		b.unseen += len(made.Triangles) / 3
		return
	}
	to := p.part(b.materials[q.material])
	first := uint32(to.Vertices())
	to.Positions, to.Normals = append(to.Positions, made.Positions...), append(to.Normals, made.Normals...)
	to.UVs[0].Data = append(to.UVs[0].Data, made.UVs[0].Data...)
	for _, v := range made.Triangles {
		to.Triangles = append(to.Triangles, first+v)
	}
}

// reached tells whether a vertex of a patch lies where the inside gets to.
func (b *builder) reached(p *scene.Part) bool {
	for v := range p.Vertices() {
		if b.hull.cells[b.hull.cell(geom.At(p.Positions, uint32(v)).Add(b.far))].reached {
			return true
		}
	}
	return false
}

// way is a path out of the level.
type way struct {
	from string
	at   []geom.Vec3
}

// look asks whether the level is closed, and says it.
func (b *builder) look() *way {
	var blocks []block
	var points []geom.Vec3
	var who []string
	for i := range b.level.entities {
		e := &b.level.entities[i]
		if at, ok := e.origin(); ok {
			points, who = append(points, at), append(who, cmp.Or(e.prop("targetname"), e.prop("classname"), "entity"))
		}
		for k := range e.solids {
			if s := &b.solved[i][k]; s.fault == sound && b.closing(i, &e.solids[k]) {
				blocks = append(blocks, blockOf(s))
			}
		}
	}
	if len(blocks) == 0 {
		return nil
	}
	if len(points) == 0 {
		b.note("whether the level is closed is not told: no entity stands at a point within")
		return nil
	}
	h := newHull(b.ctx, blocks, points)
	if h == nil {
		b.note("whether the level is closed is not told: its solids part space into too many cells")
		return nil
	}
	b.hull = h
	var cells, of []int
	buried := 0
	for i, p := range points {
		if c := h.cell(p); h.cells[c].solid {
			buried++
		} else {
			cells, of = append(cells, c), append(of, i)
		}
	}
	if buried > 0 {
		b.note("%s within solids", format.Counted(buried, "entity stands", "entities stand"))
	}
	if len(cells) == 0 {
		return nil
	}
	if !h.reach(cells) {
		b.note("closed: none of %s gets outside", format.Counted(len(cells), "entity", "entities"))
		return nil
	}
	start, at := h.leak(cells)
	i := of[start]
	at = append([]geom.Vec3{points[i]}, at...)
	b.note("leaks, from %s at %s to the outside through %s", who[i], told3(points[i]), told3(h.through(at)))
	return &way{who[i], at}
}

func told3(p geom.Vec3) string {
	var out []string
	for _, v := range p {
		out = append(out, strconv.FormatFloat(math.Round(v*1000)/1000+0, 'f', -1, 64))
	}
	return strings.Join(out, " ")
}

// blockOf is a solid as the hull takes it.
func blockOf(s *solved) block {
	k := block{bounds: geom.EmptyBox()}
	for i := range s.faces {
		o := &s.faces[i]
		if len(o.corners) == 0 {
			continue
		}
		k.planes = append(k.planes, flatPlane{o.normal, o.normal.Dot(o.corners[0])})
		k.corners = append(k.corners, o.corners...)
		for _, c := range o.corners {
			k.bounds.Add(c)
		}
	}
	return k
}

// show adds the way out as a line.
func (b *builder) show(w *way) {
	m := scene.NewMaterial("leak")
	m.BaseColour, m.Unlit = [4]float32{0.6, 0.05, 0.03, 1}, true
	p := scene.Part{Material: len(b.s.Materials)}
	for i, at := range w.at {
		for d, x := range at {
			p.Positions = append(p.Positions, float32(x-b.far[d]))
		}
		if i > 0 {
			p.Lines = append(p.Lines, uint32(i-1), uint32(i))
		}
	}
	n := scene.NewNode("leak from " + w.from)
	n.Mesh = len(b.s.Meshes)
	b.s.Materials, b.s.Nodes = append(b.s.Materials, m), append(b.s.Nodes, n)
	b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: "leak", Parts: []scene.Part{p}})
}
