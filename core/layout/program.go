package layout

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/scene"

	"go.starlark.net/starlark"
)

// A program reads models that are no tables but lists of commands, as
// consoles draw them: load these vertices into those slots, draw three slots,
// go on at that address. The script says what each command means and where
// the lists begin; the lists themselves are run here, not in the script.
type programMap struct {
	n         *node
	script    *script
	vertices  vertexMap
	stride    *formula
	slots     int
	clockwise bool
	local     bool // vertices are in the space of the bone that they hang on
}

var programNames = starlark.StringDict{
	"bits": starlark.NewBuiltin("bits", builtinBits), "commands": starlark.NewBuiltin("commands", builtinCommands),
	"vertices": commandMaker(opLoad, "at", "count", "to"), "draw": starlark.NewBuiltin("draw", builtinDraw), "call": commandMaker(opCall, "at"),
	"jump": commandMaker(opJump, "at"), "bone": commandMaker(opBone, "bone"), "material": commandMaker(opMaterial, "material"),
	"end": commandMaker(opEnd), "skip": commandMaker(opSkip),
	"number": starlark.NewBuiltin("number", builtinNumber),
}

func (c *compiler) program(n *node, sc *scope) *programMap {
	c.keys(n, "slots", "stride", "attributes", "winding", "space", "script")
	if c.err != nil {
		return nil
	}
	m := &programMap{n: n, stride: c.needFormula(n, "stride", sc), slots: 64}
	if v := n.get("slots"); v != nil {
		if m.slots = int(c.whole(v)); m.slots < 1 || m.slots > 1<<16 {
			c.fail(v, "1 to 65536 slots for vertices")
		}
	}
	at := &node{line: n.line, col: n.col, mapping: true, pairs: []pair{{key: "at", value: &node{scalar: true, text: "0", line: n.line, col: n.col}}, {key: "stride", value: n.get("stride")}}}
	m.vertices = c.vertices(at, c.need(n, "attributes"), sc, []string{"position", "normal", "tangent", "uv", "colour"})
	if c.err == nil && !m.vertices.has("position") {
		c.fail(n.get("attributes"), "attributes name no position")
	}
	m.clockwise = c.optionalOf(n, "winding", "counter-clockwise", "counter-clockwise", "clockwise") == "clockwise"
	m.local = c.optionalOf(n, "space", "model", "model", "bone") == "bone"
	m.script = c.script(c.need(n, "script"), "build", programNames)
	return m
}

// bitsExpr is a number that stands in a command: some of its bits, shifted
// and scaled.
type bitsExpr struct {
	frozen
	bits            bitRange
	signed          bool
	times, over, by int64 // value * times / over + by
}

func (b *bitsExpr) String() string { return fmt.Sprintf("bits(%d, %d)", b.bits.low, b.bits.count) }
func (b *bitsExpr) Type() string   { return "bits" }

func (b *bitsExpr) of(w uint64) int64 {
	if b.bits.count == 0 {
		return b.by
	}
	v := b.bits.of(w)
	if b.signed && v>>(b.bits.count-1) != 0 {
		v -= 1 << b.bits.count
	}
	if b.over == 1 {
		return v*b.times + b.by
	}
	return v*b.times/b.over + b.by
}

func builtinBits(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	b := &bitsExpr{times: 1, over: 1}
	var low, count int
	if err := starlark.UnpackArgs("bits", args, kw, "low", &low, "count", &count, "signed?", &b.signed, "times?", &b.times, "over?", &b.over, "add?", &b.by); err != nil {
		return nil, err
	}
	if low < 0 || count < 1 || count > 62 || low+count > 64 || b.over == 0 || b.times > 1<<32 || b.times < -1<<32 {
		return nil, fmt.Errorf("bits(%d, %d): from the lowest bit up, at most 62 of the 64 bits of a command", low, count)
	}
	b.bits = bitRange{uint(low), uint(count)}
	return b, nil
}

func asBits(v starlark.Value) (*bitsExpr, error) {
	switch v := v.(type) {
	case *bitsExpr:
		return v, nil
	case starlark.Int:
		if i, ok := v.Int64(); ok {
			return &bitsExpr{by: i, times: 1, over: 1}, nil
		}
	}
	return nil, fmt.Errorf("bits(...) or a number is expected, not %s", v.Type())
}

type opcode uint8

const (
	opNone opcode = iota
	opLoad
	opDraw
	opCall
	opJump
	opBone
	opMaterial
	opEnd
	opSkip
	opScript
)

// command is what one kind of command does.
type command struct {
	frozen
	op   opcode
	args []*bitsExpr
	fn   starlark.Callable
}

func (c *command) String() string { return "a command" }
func (c *command) Type() string   { return "command" }

func commandMaker(op opcode, names ...string) *starlark.Builtin {
	return starlark.NewBuiltin("command", func(_ *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
		values := make([]starlark.Value, len(names))
		pairs := make([]any, 0, 2*len(names))
		for i, n := range names {
			pairs = append(pairs, n, &values[i])
		}
		if err := starlark.UnpackArgs("command", args, kw, pairs...); err != nil {
			return nil, err
		}
		c := &command{op: op}
		for _, v := range values {
			x, err := asBits(v)
			if err != nil {
				return nil, err
			}
			c.args = append(c.args, x)
		}
		return c, nil
	})
}

// builtinDraw takes three slots a triangle.
func builtinDraw(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	if len(args) == 0 || len(args)%3 != 0 || len(kw) > 0 || len(args) > 24 {
		return nil, errors.New("draw takes three slots for each triangle")
	}
	c := &command{op: opDraw}
	for _, a := range args {
		x, err := asBits(a)
		if err != nil {
			return nil, err
		}
		c.args = append(c.args, x)
	}
	return c, nil
}

// commandSet is the commands of a machine: how long they are, which of their
// bits say what they do, and what that is.
type commandSet struct {
	frozen
	size  int
	order byteOrder
	code  bitRange
	table []*command // by code
	other *command
}

func (c *commandSet) String() string { return "commands" }
func (c *commandSet) Type() string   { return "commands" }

func asCommand(v starlark.Value) (*command, error) {
	switch v := v.(type) {
	case *command:
		return v, nil
	case starlark.Callable:
		return &command{op: opScript, fn: v}, nil
	}
	return nil, fmt.Errorf("a command is vertices, draw, call, jump, bone, material, end, skip or a function, not %s", v.Type())
}

func builtinCommands(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	c := &commandSet{}
	var code *bitsExpr
	var do *starlark.Dict
	var other starlark.Value
	order := ""
	if err := starlark.UnpackArgs("commands", args, kw, "size", &c.size, "code", &code, "do", &do, "order?", &order, "other?", &other); err != nil {
		return nil, err
	}
	switch order {
	case "big":
		c.order = bigEndian
	case "little", "":
	default:
		return nil, fmt.Errorf("order is little or big, not %q", order)
	}
	if c.size != 1 && c.size != 2 && c.size != 4 && c.size != 8 {
		return nil, fmt.Errorf("a command has 1, 2, 4 or 8 bytes, not %d", c.size)
	}
	if c.code = code.bits; c.code.count > 16 || int(c.code.low+c.code.count) > 8*c.size {
		return nil, fmt.Errorf("the code of a command is at most 16 of its %d bits", 8*c.size)
	}
	c.table = make([]*command, 1<<c.code.count)
	for _, it := range do.Items() {
		k, err := starlark.AsInt32(it[0])
		if err != nil || k < 0 || k >= len(c.table) {
			return nil, fmt.Errorf("%s is no code of %d bits", it[0], c.code.count)
		}
		if c.table[k], err = asCommand(it[1]); err != nil {
			return nil, err
		}
	}
	if other != nil {
		var err error
		if c.other, err = asCommand(other); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// builtinNumber reads one number at a place.
func builtinNumber(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var typ string
	var at starlark.Value
	if err := starlark.UnpackPositionalArgs("number", args, kw, 2, &typ, &at); err != nil {
		return nil, err
	}
	p, ok := primitives[typ]
	if !ok {
		return nil, fmt.Errorf("%q is no type of number", typ)
	}
	r, err := runOf(th)
	if err != nil {
		return nil, err
	}
	src, off, err := r.placeOf(at)
	if err != nil {
		return nil, err
	}
	b, err := src.in.Bytes(off, int64(p.size))
	if err != nil {
		r.cur, r.at = src, off
		return nil, err
	}
	return p.number(b, r.layout.order).starlark(), nil
}

// placeOf is where a value leads.
func (r *run) placeOf(v starlark.Value) (*opened, int64, error) {
	switch v := v.(type) {
	case *place:
		if v.of.err != nil {
			return nil, 0, &MissingError{Space: v.of.space, Ref: v.of.ref, At: v.off, Err: v.of.err}
		}
		return v.of, v.off - v.of.base, nil
	case starlark.Int:
		if i, ok := v.Int64(); ok {
			return r.self, i, nil
		}
	}
	return nil, 0, fmt.Errorf("%s is no place", v.Type())
}

// machine is what a program draws with. It is the m of build(m, f).
type machine struct {
	frozen
	b      *builder
	m      *programMap
	e      *env
	pool   scene.Part // every vertex that was loaded
	hangs  []int32    // the bone of each, or -1
	slots  []int32    // vertices of the pool, -1 empty
	parts  []*drawn
	byKey  map[drawnKey]*drawn
	cur    *drawn
	key    drawnKey
	bone   int32
	uv     [2]float32
	world  []geom.Mat4
	ran    int64
	depth  int
	th     *starlark.Thread
	drawnN int64
}

type drawnKey struct {
	mesh     string
	material int
}

type drawn struct {
	drawnKey
	triangles []uint32 // of the pool
}

func (m *machine) String() string { return "the machine" }
func (m *machine) Type() string   { return "machine" }

var machineMethods = map[string]func(m *machine, th *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error){
	"mesh":     machineMesh,
	"bone":     machineBone,
	"material": machineMaterial,
	"picture":  machinePicture,
	"uv":       machineUV,
	"run":      machineRun,
	"vertices": machineLoad,
	"draw":     machineDraw,
}

func (m *machine) Attr(name string) (starlark.Value, error) {
	f := machineMethods[name]
	if f == nil {
		return nil, nil
	}
	return starlark.NewBuiltin(name, func(th *starlark.Thread, b *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
		return f(m, th, b, args, kw)
	}), nil
}

func (m *machine) AttrNames() []string {
	return []string{"bone", "draw", "material", "mesh", "picture", "run", "uv", "vertices"}
}

// machineMesh has what follows drawn into a mesh.
func machineMesh(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name string
	if err := starlark.UnpackPositionalArgs("mesh", args, kw, 1, &name); err != nil {
		return nil, err
	}
	m.key.mesh, m.cur = name, nil
	return starlark.None, nil
}

// machineBone hangs what is loaded from now on on a bone; -1 is none.
func machineBone(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var k int
	if err := starlark.UnpackPositionalArgs("bone", args, kw, 1, &k); err != nil {
		return nil, err
	}
	return starlark.None, m.setBone(int64(k))
}

func (m *machine) setBone(k int64) error {
	if k < -1 || k >= int64(len(m.b.bones)) {
		return fmt.Errorf("bone %d, and there are %d", k, len(m.b.bones))
	}
	m.bone = int32(k)
	return nil
}

// machineUV scales the UVs of what is loaded from now on.
func machineUV(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var u, v starlark.Value
	if err := starlark.UnpackPositionalArgs("uv", args, kw, 2, &u, &v); err != nil {
		return nil, err
	}
	for i, x := range []starlark.Value{u, v} {
		f, err := fromStarlark(x).float()
		if err != nil {
			return nil, err
		}
		m.uv[i] = float32(f)
	}
	return starlark.None, nil
}

// machineMaterial makes a material, or finds the one of that name, and draws
// with it from now on.
func machineMaterial(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name, alpha string
	picture := scene.None
	var two, unlit bool
	if err := starlark.UnpackArgs("material", args, kw, "name", &name, "colour?", &picture, "alpha?", &alpha, "two_sided?", &two, "unlit?", &unlit); err != nil {
		return nil, err
	}
	if picture < scene.None || picture >= len(m.b.s.Pictures) {
		return nil, fmt.Errorf("picture %d, and there are %d", picture, len(m.b.s.Pictures))
	}
	for i := range m.b.s.Materials {
		if m.b.s.Materials[i].Name == name {
			m.key.material, m.cur = i, nil
			return starlark.MakeInt(i), nil
		}
	}
	if len(m.b.s.Materials) >= 1<<16 {
		return nil, errors.New("more than 65536 materials")
	}
	mat := scene.NewMaterial(name)
	switch scene.AlphaMode(alpha) {
	case "":
	case scene.Opaque, scene.Cutout, scene.Blend:
		mat.Alpha = scene.AlphaMode(alpha)
	default:
		return nil, fmt.Errorf("alpha is opaque, cutout or blend, not %q", alpha)
	}
	mat.TwoSided, mat.Unlit = two, unlit
	if picture >= 0 {
		mat.Textures = append(mat.Textures, scene.Texture{Role: scene.RoleColour, Picture: picture, Scale: 1})
	}
	m.key.material, m.cur = len(m.b.s.Materials), nil
	m.b.s.Materials = append(m.b.s.Materials, mat)
	return starlark.MakeInt(m.key.material), nil
}

// machinePicture decodes texels and returns the picture's number. One that
// lies in a space that is bound to nothing is a missing picture.
func machinePicture(m *machine, th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var name, format, paletteFormat string
	var at, palette starlark.Value
	var w, h, count int
	bottomUp := false
	if err := starlark.UnpackArgs("picture", args, kw, "name", &name, "at", &at, "width", &w, "height", &h, "format", &format, "palette?", &palette, "palette_count?", &count, "palette_format?", &paletteFormat, "bottom_up?", &bottomUp); err != nil {
		return nil, err
	}
	b := m.b
	for i := range b.s.Pictures {
		if b.s.Pictures[i].Name == name {
			return starlark.MakeInt(i), nil
		}
	}
	if len(b.s.Pictures) >= 1<<16 {
		return nil, errors.New("more than 65536 pictures")
	}
	f := pixel.Format(format)
	size, err := f.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	pic := scene.Picture{Name: name, Found: "inside the file"}
	read := func(v starlark.Value, n int64, what string) ([]byte, error) {
		src, off, err := b.placeOf(v)
		if err != nil {
			return nil, err
		}
		if !src.main() {
			pic.In, pic.Ref = src.ref, fmt.Sprintf("0x%x in %s", off+src.base, src.ref)
			pic.Found = pic.Ref
		}
		return b.read(&formula{line: m.m.n.line, col: m.m.n.col}, src, off, n, what)
	}
	decode := func() error {
		var o pixel.Options
		o.BigEndian = bool(b.layout.order)
		if f.Indexed() {
			pf := pixel.Format(paletteFormat)
			if palette == nil || count < 1 || count > 1<<16 {
				return errors.New("indexed texels need palette, palette_count and palette_format")
			}
			n, err := pf.Bytes(count, 1)
			if err != nil {
				return err
			}
			data, err := read(palette, n, "palette")
			if err != nil {
				return err
			}
			if o.Palette, err = pixel.PaletteWith(pf, data, count, o.BigEndian); err != nil {
				return err
			}
		}
		data, err := read(at, size, "texels")
		if err != nil {
			return err
		}
		img, err := pixel.DecodeWith(f, data, w, h, o)
		if err != nil {
			return err
		}
		if bottomUp {
			pixel.FlipRows(img)
		}
		pic.MIME, pic.Width, pic.Height = "image/png", w, h
		pic.Data, err = pixel.PNG(img)
		return err
	}
	if err := decode(); err != nil {
		gone := missing(err)
		if gone == nil {
			return nil, err
		}
		pic = scene.Picture{Name: name, In: gone.Ref, Ref: fmt.Sprintf("0x%x in %s", gone.At, gone.Ref), Looked: looked(gone)}
	}
	b.s.Pictures = append(b.s.Pictures, pic)
	return starlark.MakeInt(len(b.s.Pictures) - 1), nil
}

// machineLoad and machineDraw do from the script what the commands do.
func machineLoad(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var at starlark.Value
	var count, to int
	if err := starlark.UnpackArgs("vertices", args, kw, "at", &at, "count", &count, "to", &to); err != nil {
		return nil, err
	}
	src, off, err := m.b.placeOf(at)
	if err != nil {
		return nil, err
	}
	return starlark.None, m.load(src, off, int64(count), int64(to))
}

func machineDraw(m *machine, _ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var a, b, c int
	if err := starlark.UnpackPositionalArgs("draw", args, kw, 3, &a, &b, &c); err != nil {
		return nil, err
	}
	return starlark.None, m.draw(int64(a), int64(b), int64(c))
}

// machineRun runs the commands from a place on, to their end.
func machineRun(m *machine, th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var at starlark.Value
	var set *commandSet
	if err := starlark.UnpackArgs("run", args, kw, "at", &at, "commands", &set); err != nil {
		return nil, err
	}
	src, off, err := m.b.placeOf(at)
	if err != nil {
		return nil, err
	}
	was := m.th
	m.th = th
	err = m.run(set, src, off)
	m.th = was
	return starlark.None, err
}

// load decodes vertices into slots.
func (m *machine) load(src *opened, at, n, to int64) error {
	if n < 0 || to < 0 || to+n > int64(len(m.slots)) {
		return fmt.Errorf("%d vertices into slot %d and on, and there are %d slots", n, to, len(m.slots))
	}
	first := m.pool.Vertices()
	if int64(first)+n > limit.Vertices/16 {
		return fmt.Errorf("more than %d vertices are loaded", limit.Vertices/16)
	}
	stride, err := m.m.stride.int(m.e)
	if err != nil {
		return err
	}
	var p scene.Part
	if err := m.b.attributesAt(&m.m.vertices, m.e, &p, int(n), src, at, stride); err != nil {
		return err
	}
	if m.m.local && m.bone >= 0 {
		t := m.world[m.b.bones[m.bone]]
		normal := t.NormalMatrix()
		each3(p.Positions, t.Point)
		each3(p.Normals, normal.Dir)
		unitNormals(p.Normals)
	}
	for i := range p.UVs {
		d := p.UVs[i].Data
		for k := range d {
			d[k] *= m.uv[k&1]
		}
	}
	appendVertices(&m.pool, &p, first)
	for i := int64(0); i < n; i++ {
		m.slots[to+i] = int32(first) + int32(i)
		m.hangs = append(m.hangs, m.bone)
	}
	return nil
}

func each3(d []float32, f func(geom.Vec3) geom.Vec3) {
	for i := 0; i+2 < len(d); i += 3 {
		v := f(geom.Vec3{float64(d[i]), float64(d[i+1]), float64(d[i+2])})
		d[i], d[i+1], d[i+2] = float32(v[0]), float32(v[1]), float32(v[2])
	}
}

// appendVertices adds vertices to a pool that holds n. Sets that come later
// are filled with zeros before.
func appendVertices(pool, p *scene.Part, n int) {
	add := p.Vertices()
	grow := func(to *[]float32, from []float32, each int) {
		if from == nil && *to == nil {
			return
		}
		*to = append(*to, make([]float32, n*each-len(*to))...)
		if from == nil {
			from = make([]float32, add*each)
		}
		*to = append(*to, from...)
	}
	grow(&pool.Positions, p.Positions, 3)
	grow(&pool.Normals, p.Normals, 3)
	grow(&pool.Tangents, p.Tangents, 4)
	sets := func(to *[]scene.AttrSet, from []scene.AttrSet, each int) {
		for i, s := range from {
			if i >= len(*to) {
				*to = append(*to, scene.AttrSet{Name: s.Name})
			}
			grow(&(*to)[i].Data, s.Data, each)
		}
		for i := len(from); i < len(*to); i++ {
			grow(&(*to)[i].Data, nil, each)
		}
	}
	sets(&pool.UVs, p.UVs, 2)
	sets(&pool.Colours, p.Colours, 4)
}

func (m *machine) part() *drawn {
	if m.cur == nil {
		if m.cur = m.byKey[m.key]; m.cur == nil {
			m.cur = &drawn{drawnKey: m.key}
			m.byKey[m.key] = m.cur
			m.parts = append(m.parts, m.cur)
		}
	}
	return m.cur
}

func (m *machine) draw(a, b, c int64) error {
	n := int64(len(m.slots))
	if uint64(a) >= uint64(n) || uint64(b) >= uint64(n) || uint64(c) >= uint64(n) {
		return fmt.Errorf("a triangle of the slots %d, %d and %d, and there are %d", a, b, c, n)
	}
	x, y, z := m.slots[a], m.slots[b], m.slots[c]
	if x < 0 || y < 0 || z < 0 {
		return fmt.Errorf("a triangle of the slots %d, %d and %d, and nothing was loaded into one of them", a, b, c)
	}
	if m.drawnN++; m.drawnN > limit.Vertices/16 {
		return fmt.Errorf("more than %d triangles are drawn", limit.Vertices/16)
	}
	p := m.part()
	p.triangles = append(p.triangles, uint32(x), uint32(y), uint32(z))
	return nil
}

const commandChunk = 4096 // commands that are read at once

// commands is a list of commands that is being run.
type commands struct {
	*machine
	set     *commandSet
	src     *opened
	at      int64 // of the next command
	began   int64 // of the present stretch, for the tracer
	chunk   []byte
	chunkAt int64
	ended   bool
}

// run runs commands until one ends the list.
func (m *machine) run(set *commandSet, src *opened, at int64) error {
	if m.depth++; m.depth > limit.RecordNesting {
		return fmt.Errorf("lists call one another more than %d deep", limit.RecordNesting)
	}
	defer func() { m.depth-- }()
	l := &commands{machine: m, set: set, src: src, at: at, began: at}
	defer l.trace()
	for !l.ended {
		here := l.at
		w, err := l.next()
		if err != nil {
			return l.fail(here, err)
		}
		code := set.code.of(w)
		c := set.table[code]
		if c == nil {
			if c = set.other; c == nil {
				return l.fail(here, fmt.Errorf("the code 0x%x is no command that the layout knows", code))
			}
		}
		if err := l.do(c, w); err != nil {
			return l.fail(here, err)
		}
	}
	return nil
}

// trace tells the tracer what was run in one stretch.
func (l *commands) trace() {
	if t := l.b.run.tracer; t != nil && l.at > l.began {
		t.use(l.src, l.began, l.at-l.began, fmt.Sprintf("%d commands", (l.at-l.began)/int64(l.set.size)),
			l.m.n.line, l.m.n.col, nil)
	}
}

// fail names the command, unless the error has a place of its own.
func (l *commands) fail(at int64, err error) error {
	r := l.b.run
	r.cur, r.at = l.src, at
	var ee *starlark.EvalError
	var le *Error
	ended := errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
	if ended || errors.As(err, &ee) || errors.As(err, &le) || missing(err) != nil {
		return err
	}
	return fmt.Errorf("command at 0x%x: %w", at+l.src.base, err)
}

// next reads a command; many are read from the file at once.
func (l *commands) next() (uint64, error) {
	size := int64(l.set.size)
	o := l.at - l.chunkAt
	if o < 0 || o+size > int64(len(l.chunk)) || l.chunk == nil {
		if err := l.b.run.cancelled(); err != nil {
			return 0, err
		}
		n := min(commandChunk*size, l.src.in.Size()-l.at)
		if l.at < 0 || n < size {
			return 0, fmt.Errorf("the list has no end: the file ends at 0x%x", l.src.in.Size())
		}
		var err error
		if l.chunk, err = l.src.in.Bytes(l.at, n/size*size); err != nil {
			return 0, err
		}
		l.chunkAt, o = l.at, 0
	}
	if l.ran++; l.ran > limit.Commands {
		return 0, fmt.Errorf("more than %d commands", limit.Commands)
	}
	l.at += size
	return word(l.chunk[o:], l.set.size, l.set.order), nil
}

// word is an unsigned number of 1, 2, 4 or 8 bytes.
func word(p []byte, size int, order byteOrder) uint64 {
	var o binary.ByteOrder = binary.LittleEndian
	if order == bigEndian {
		o = binary.BigEndian
	}
	switch size {
	case 8:
		return o.Uint64(p)
	case 4:
		return uint64(o.Uint32(p))
	case 2:
		return uint64(o.Uint16(p))
	}
	return uint64(p[0])
}

// do runs one command.
func (l *commands) do(c *command, w uint64) error {
	switch c.op {
	case opDraw:
		for i := 0; i+2 < len(c.args); i += 3 {
			if err := l.draw(c.args[i].of(w), c.args[i+1].of(w), c.args[i+2].of(w)); err != nil {
				return err
			}
		}
	case opLoad, opCall, opJump:
		to, off, err := l.target(c.args[0].of(w))
		switch {
		case err != nil:
			return err
		case c.op == opLoad:
			return l.load(to, off, c.args[1].of(w), c.args[2].of(w))
		case c.op == opCall:
			return l.run(l.set, to, off)
		}
		l.src, l.at, l.chunk, l.began = to, off, nil, off
	case opBone:
		return l.setBone(c.args[0].of(w))
	case opMaterial:
		k := c.args[0].of(w)
		if k < -1 || k >= int64(len(l.b.s.Materials)) {
			return fmt.Errorf("material %d, and there are %d", k, len(l.b.s.Materials))
		}
		l.key.material, l.cur = int(k), nil
	case opEnd:
		l.ended = true
	case opScript:
		_, err := starlark.Call(l.th, c.fn, starlark.Tuple{starlark.MakeUint64(w)}, nil)
		return err
	}
	return nil
}

// target is where a command's address leads: through the pointer's spaces, or
// into the file itself where the layout has none.
func (m *machine) target(w int64) (*opened, int64, error) {
	r := m.b.run
	if r.layout.pointer == nil {
		return r.self, w, nil
	}
	p, err := r.pointer(uint64(w))
	if err != nil {
		return nil, 0, err
	}
	return r.placeOf(p)
}

func (b *builder) program(e *env) error {
	p := b.m.program
	if p == nil {
		return nil
	}
	m := &machine{b: b, m: p, e: e, slots: make([]int32, p.slots), byKey: map[drawnKey]*drawn{}, bone: -1, uv: [2]float32{1, 1}, world: b.s.World()}
	m.key.material = scene.None
	for i := range m.slots {
		m.slots[i] = -1
	}
	rec := &record{def: b.layout.top, src: b.self, vals: e.slots}
	if err := p.script.call(b.run, programNames, m, rec); err != nil {
		return err
	}
	local := make([]int32, m.pool.Vertices()) // a vertex' number in the part, plus one
	for _, d := range m.parts {
		if len(d.triangles) == 0 {
			continue
		}
		name := d.mesh
		if name == "" {
			name = "mesh"
		}
		k := b.meshNamed(name)
		part := m.compact(d, local)
		b.skinned[k] = b.skinned[k] || part.Joints != nil
		b.s.Meshes[k].Parts = append(b.s.Meshes[k].Parts, *part)
	}
	b.cur, b.at = b.self, -1
	return nil
}

// compact makes a part of the vertices of the pool that its triangles use.
func (m *machine) compact(d *drawn, local []int32) *scene.Part {
	p := &scene.Part{Material: d.material, Triangles: make([]uint32, len(d.triangles))}
	clear(local)
	var used []uint32
	for i, v := range d.triangles {
		if local[v] == 0 {
			used = append(used, v)
			local[v] = int32(len(used))
		}
		p.Triangles[i] = uint32(local[v] - 1)
	}
	if m.m.clockwise != (m.b.s.Basis.Handed == geom.Left) {
		for i := 0; i+2 < len(p.Triangles); i += 3 {
			p.Triangles[i+1], p.Triangles[i+2] = p.Triangles[i+2], p.Triangles[i+1]
		}
	}
	pick := func(from []float32, each int) []float32 {
		if from == nil {
			return nil
		}
		out := make([]float32, 0, len(used)*each)
		for _, v := range used {
			out = append(out, from[int(v)*each:(int(v)+1)*each]...)
		}
		return out
	}
	p.Positions, p.Normals, p.Tangents = pick(m.pool.Positions, 3), pick(m.pool.Normals, 3), pick(m.pool.Tangents, 4)
	for _, s := range m.pool.UVs {
		p.UVs = append(p.UVs, scene.AttrSet{Name: s.Name, Data: pick(s.Data, 2)})
	}
	for _, s := range m.pool.Colours {
		p.Colours = append(p.Colours, scene.AttrSet{Name: s.Name, Data: pick(s.Data, 4)})
	}
	loose := 0
	for i, v := range used {
		k := m.hangs[v]
		if k < 0 {
			loose++
			continue
		}
		if p.Joints == nil {
			hangOn(p, 0)
		}
		p.Joints[i] = uint16(k)
	}
	if p.Joints != nil && loose > 0 {
		m.b.s.Notes = append(m.b.s.Notes, scene.Note{Text: fmt.Sprintf("%d vertices of %s were loaded before any bone was set and follow the first bone", loose, d.mesh)})
	}
	return p
}
