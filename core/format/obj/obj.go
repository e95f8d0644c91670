// Package obj reads and writes Wavefront OBJ with its material library MTL
// (the format as Wavefront's "Object Files" appendix B1 and "MTL material
// format" state it, with the usual extensions: colours after a position, and
// the PBR keys Pr, Pm, map_Pr, map_Pm and norm).
package obj

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/format/corner"
	"excavate/core/limit"
	"excavate/core/numlist"
	"excavate/core/scene"
)

// Format is the reader for the registry.
func Format() format.Reader {
	return format.Reader{Name: "obj", Title: "Wavefront OBJ", Probe: Probe, Read: Read, Ending: ".obj", May: may}
}

// statements are all that the format has and this reader knows of.
var statements = map[string]bool{"v": true, "vn": true, "vt": true, "vp": true, "f": true, "l": true, "p": true, "g": true, "o": true, "s": true, "mg": true,
	"usemtl": true, "mtllib": true, "usemap": true, "maplib": true, "bevel": true, "c_interp": true, "d_interp": true, "lod": true, "cstype": true, "deg": true}

// may takes a file of the right ending that begins with any statement.
func may(head []byte) bool {
	for line := range bytes.Lines(format.UTF8(head)) {
		word, _, _ := bytes.Cut(bytes.TrimSpace(line), []byte(" "))
		if len(word) > 0 && word[0] != '#' {
			return statements[string(word)]
		}
	}
	return false
}

// Probe looks for a statement of the format among the first lines; comments
// and blank lines may stand before it.
func Probe(head []byte) bool {
	head, _ = format.DecimalCommas(format.UTF8(head), false, "v", "vt", "vn")
	seen := false
	for line := range bytes.Lines(head) {
		if line[len(line)-1] != '\n' && len(head) >= 512 {
			break // cut off
		}
		word, rest, _ := bytes.Cut(bytes.TrimSpace(line), []byte(" "))
		rest = bytes.TrimSpace(rest)
		switch string(word) {
		case "":
			continue
		case "v", "vn", "vt":
			if n := numbers(rest); n < 2 || string(word) == "v" && n < 3 {
				return false
			}
			return true
		case "mtllib", "usemtl", "o", "g", "s":
			if len(rest) == 0 && word[0] != 'g' { // a bare g is the default group
				return false
			}
			seen = seen || word[0] == 'm' || word[0] == 'u'
		default:
			if word[0] != '#' {
				return false
			}
		}
	}
	return seen // a library or a material, and no more was seen
}

func numbers(b []byte) (n int) {
	for {
		_, rest, ok := format.Float(b)
		if !ok {
			return n
		}
		n, b = n+1, rest
	}
}

// reader is the state between the lines of a file.
type reader struct {
	format.File
	src       corner.Source
	far       [3]float64 // where the positions are relative to
	s         *scene.Scene
	materials map[string]int
	pictures  map[string]int
	libs      []string
	parts     map[partKey]*corner.Part
	order     []partKey
	cur       *corner.Part
	key       partKey
	smooth    int
	batch     *batch // what was read of faces and is not built
	builder   *builder
	line      int
	unknown   map[string]int
	missing   map[string]bool // materials that no library has
	more      int             // lines with more than their numbers
	moreAt    string          // the first of them
	odd       int             // statements of a library whose numbers cannot be read
	oddAt     string
}

type partKey struct {
	mesh, material string
	surface        bool // else it holds lines and points, which have no normals
}

// Read decodes a file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	r := &reader{File: f, s: &scene.Scene{}, materials: map[string]int{}, pictures: map[string]int{}, parts: map[partKey]*corner.Part{}, unknown: map[string]int{}, missing: map[string]bool{}, key: partKey{surface: true},
		batch: &batch{}, builder: newBuilder(len(f.Data))}
	data, commas := format.DecimalCommas(format.UTF8(f.Data), false, "v", "vt", "vn", "vp")
	if commas > 0 {
		r.s.Notes = append(r.s.Notes, scene.Note{Text: format.CommasNote})
	}
	r.far = far(data)
	err := r.lines(ctx, data)
	r.hand()
	r.builder.wait()
	if err != nil {
		return nil, err
	}
	return r.finish()
}

// hand gives what was read of faces to the builder.
func (r *reader) hand() {
	r.batch.src = r.src
	r.batch = r.builder.swap(r.batch)
}

func (r *reader) lines(ctx context.Context, data []byte) error {
	var joined []byte
	for len(data) > 0 {
		if r.line&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		r.line++
		end := bytes.IndexByte(data, '\n')
		line := data
		if end < 0 {
			data = nil
		} else {
			line, data = data[:end], data[end+1:]
		}
		if n := len(line); n > 0 && line[n-1] == '\r' {
			line = line[:n-1]
		}
		if n := len(line); n > 0 && line[n-1] == '\\' { // it goes on in the next
			joined = append(append(joined, line[:n-1]...), ' ')
			continue
		}
		if joined != nil {
			line, joined = append(joined, line...), nil
		}
		if err := r.statement(line); err != nil {
			return err
		}
	}
	return r.statement(joined) // the last line went on
}

func (r *reader) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", r.line), msg, a...)
}

func (r *reader) statement(line []byte) error {
	for len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
		line = line[1:]
	}
	if len(line) == 0 || line[0] == '#' {
		return nil
	}
	if len(line) > 2 && line[0] == 'v' && line[1] == ' ' {
		return r.position(line[2:])
	}
	if len(line) > 2 && line[0] == 'f' && line[1] == ' ' {
		return r.face(line[2:])
	}
	word, rest := line, []byte(nil)
	if i := bytes.IndexAny(line, " \t"); i >= 0 {
		word, rest = line[:i], line[i+1:]
	}
	switch string(word) {
	case "v":
		return r.position(rest)
	case "vt":
		err := r.vector(&r.src.UVs, rest, 1, 2, "texture coordinate")
		if n := len(r.src.UVs); err == nil {
			r.src.UVs[n-1] = 1 - r.src.UVs[n-1] // OBJ counts v from below
		}
		return err
	case "vn":
		return r.vector(&r.src.Normals, rest, 3, 3, "normal")
	case "f", "fo":
		return r.face(rest)
	case "l", "p":
		if word[0] == 'p' {
			return r.thin(rest, kindPoints)
		}
		return r.thin(rest, kindLine)
	case "o", "g":
		if name := text(rest); name != "" || string(word) == "g" {
			r.key.mesh, r.cur = name, nil
		}
	case "usemtl":
		r.key.material, r.cur = text(rest), nil
	case "mtllib":
		r.library(text(rest))
	case "s":
		r.smooth = 0
		if n, err := strconv.Atoi(text(rest)); err == nil {
			r.smooth = n
		} else if text(rest) != "off" && text(rest) != "" {
			r.smooth = 1
		}
	default:
		if len(r.unknown) < 64 {
			r.unknown[string(word)]++
		}
	}
	return nil
}

func text(b []byte) string { return strings.ToValidUTF8(string(bytes.TrimSpace(b)), "\ufffd") }

// samples is how many places of a file are looked at before it is read.
const samples = 512

// far is where the file's positions lie if that is far from the origin, by
// those that follow places evenly over the file: faces are cut while the rest
// is read, so that it must be known before.
func far(data []byte) [3]float64 {
	var low, high [3]float64
	seen := false
	for i := range samples {
		b := data[len(data)*i/samples:]
		if i > 0 || !bytes.HasPrefix(b, []byte("v ")) {
			at := bytes.Index(b[:min(len(b), 1<<16)], []byte("\nv "))
			if at < 0 {
				continue
			}
			b = b[at+1:]
		}
		b = b[1:]
		var p [3]float64
		for k := range p {
			x, rest, ok := format.Float(b)
			if !ok {
				return [3]float64{}
			}
			p[k], b = x, rest
		}
		if !seen {
			low, high, seen = p, p, true
		}
		for k, x := range p {
			low[k], high[k] = min(low[k], x), max(high[k], x)
		}
	}
	return format.Far(low, high)
}

func (r *reader) position(b []byte) error {
	if len(r.src.Positions) >= 3*limit.Vertices {
		return r.errorf("more than %d positions", limit.Vertices)
	}
	var v [8]float32
	n := 0
	for n < 8 {
		x, rest, ok := format.Float(b)
		if !ok {
			break
		}
		if n < 3 {
			x -= r.far[n]
		}
		if v[n], ok = format.Finite32(x); !ok {
			return r.errorf("position %d: %g is no finite number", len(r.src.Positions)/3+1, x)
		}
		n, b = n+1, rest
	}
	if n < 3 {
		return r.errorf("a position has three numbers, this has %d", n)
	}
	r.left(b)
	r.src.Positions = append(r.src.Positions, v[:3]...)
	if n >= 6 { // x y z r g b, or x y z w r g b is not written by anybody
		if r.src.Colours == nil {
			r.src.Colours = make([]float32, 0, cap(r.src.Positions)/3*4)
		}
		for k := len(r.src.Colours) / 4; k < len(r.src.Positions)/3-1; k++ {
			r.src.Colours = append(r.src.Colours, 1, 1, 1, 1)
		}
		r.src.Colours = append(r.src.Colours, format.Linear(float64(v[3])), format.Linear(float64(v[4])), format.Linear(float64(v[5])), 1)
	}
	return nil
}

// left takes note of what stands after a line's numbers.
func (r *reader) left(b []byte) {
	if b = bytes.TrimSpace(b); len(b) == 0 || b[0] == '#' {
		return
	}
	if r.more++; r.more == 1 {
		r.moreAt = fmt.Sprintf("line %d: %q", r.line, short(b))
	}
}

// vector reads least to most numbers; those that are missing are 0.
func (r *reader) vector(to *[]float32, b []byte, least, most int, what string) error {
	n := 0
	for n < most {
		x, rest, ok := format.Float(b)
		if !ok {
			break
		}
		f, ok := format.Finite32(x)
		if !ok {
			return r.errorf("a %s of %g", what, x)
		}
		*to = append(*to, f)
		n, b = n+1, rest
	}
	if n < least {
		return r.errorf("a %s has %d numbers, this has %d", what, least, n)
	}
	if _, rest, ok := format.Float(b); ok && what == "texture coordinate" {
		b = rest // the third is of volumes
	}
	r.left(b)
	for ; n < most; n++ {
		*to = append(*to, 0)
	}
	return nil
}

// index reads a whole number; 0 where none stands.
func index(b []byte) (v int, rest []byte) {
	i, neg := 0, false
	if i < len(b) && b[i] == '-' {
		neg = true
		i++
	}
	for ; i < len(b) && b[i]-'0' < 10; i++ {
		if v < 1<<40 {
			v = 10*v + int(b[i]-'0')
		}
	}
	if neg {
		v = -v
	}
	return v, b[i:]
}

// resolve counts from the end where an index is below 0.
func (r *reader) resolve(v, n int, what string) (int32, error) {
	if v < 0 {
		v += n + 1
	}
	if v < 1 || v > n {
		return 0, r.errorf("a face uses %s %d, and there are %d", what, v, n)
	}
	return int32(v - 1), nil
}

// gather reads the corners of a face, line or points, and says how many.
func (r *reader) gather(b []byte) (n int, err error) {
	if len(r.batch.corners) >= batchCorners {
		r.hand()
	}
	first := len(r.batch.corners)
	nv, nt, nn := len(r.src.Positions)/3, len(r.src.UVs)/2, len(r.src.Normals)/3
	for {
		for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
			b = b[1:]
		}
		if len(b) == 0 || b[0] == '#' {
			break
		}
		c := corner.Ref{T: -1, N: -1}
		v, rest := index(b)
		if len(rest) == len(b) {
			return 0, r.errorf("%q is no corner of a face: write position/texture/normal", short(b))
		}
		if c.V, err = r.resolve(v, nv, "position"); err != nil {
			return 0, err
		}
		c.C = c.V // colours stand with the positions
		b = rest
		if len(b) > 0 && b[0] == '/' {
			if v, b = index(b[1:]); v != 0 {
				if c.T, err = r.resolve(v, nt, "texture coordinate"); err != nil {
					return 0, err
				}
			}
			if len(b) > 0 && b[0] == '/' {
				if v, b = index(b[1:]); v != 0 {
					if c.N, err = r.resolve(v, nn, "normal"); err != nil {
						return 0, err
					}
				}
			}
		}
		if len(b) > 0 && b[0] != ' ' && b[0] != '\t' {
			return 0, r.errorf("%q follows a corner of a face: corners stand apart", short(b))
		}
		r.batch.corners = append(r.batch.corners, c)
		if len(r.batch.corners)-first > 1<<20 {
			return 0, r.errorf("a face of more than %d corners", 1<<20)
		}
	}
	return len(r.batch.corners) - first, nil
}

// thin reads a line through points, or points.
func (r *reader) thin(b []byte, kind kind) error {
	n, err := r.gather(b)
	if err != nil {
		return err
	}
	was := r.cur
	r.key.surface, r.cur = false, nil
	r.batch.shapes = append(r.batch.shapes, shape{r.part(), n, 0, kind})
	r.key.surface, r.cur = true, was
	return nil
}

func (r *reader) face(b []byte) error {
	n, err := r.gather(b)
	if err != nil {
		return err
	}
	if n < 3 {
		return r.errorf("a face of %d corners", n)
	}
	r.batch.shapes = append(r.batch.shapes, shape{r.part(), n, r.smooth, kindFace})
	return nil
}

func short(b []byte) string { return string(b[:min(len(b), 24)]) }

func (r *reader) part() *corner.Part {
	if r.cur != nil {
		return r.cur
	}
	p := r.parts[r.key]
	if p == nil {
		p = &corner.Part{Material: scene.None}
		if name := r.key.material; name != "" {
			k, ok := r.materials[name]
			if !ok {
				k = len(r.s.Materials)
				r.materials[name] = k
				r.s.Materials = append(r.s.Materials, scene.NewMaterial(name))
				r.missing[name] = true
			}
			p.Material = k
		}
		r.parts[r.key] = p
		r.order = append(r.order, r.key)
	}
	r.cur = p
	return p
}

// library reads material libraries: one name with blanks, or several names.
func (r *reader) library(names string) {
	if r.Companion == nil {
		r.libs = append(r.libs, names)
		return
	}
	try := func(name string) bool {
		name = strings.Trim(name, `"`)
		b, found, err := r.Companion(name)
		if err != nil {
			return false
		}
		if base := path.Base(strings.ReplaceAll(name, "\\", "/")); found != "" && !strings.EqualFold(path.Base(found), base) {
			r.s.Notes = append(r.s.Notes, scene.Note{Text: fmt.Sprintf("the material library %s was not found; %s was read instead", base, found)})
		}
		r.readMTL(b)
		return true
	}
	if try(names) {
		return
	}
	list := strings.Fields(names)
	if len(list) < 2 {
		r.libs = append(r.libs, names)
		return
	}
	for _, n := range list {
		if !try(n) {
			r.libs = append(r.libs, n)
		}
	}
}

func (r *reader) finish() (*scene.Scene, error) {
	if len(r.src.Positions) == 0 {
		return nil, errors.New("it has no positions")
	}
	if r.src.Colours != nil {
		for k := len(r.src.Colours) / 4; k < len(r.src.Positions)/3; k++ {
			r.src.Colours = append(r.src.Colours, 1, 1, 1, 1)
		}
	}
	meshes := map[string]int{}
	note := func(msg string, a ...any) {
		r.s.Notes = append(r.s.Notes, scene.Note{Text: fmt.Sprintf(msg, a...), Loss: true})
	}
	partUV, partNormal := 0, 0
	for _, key := range r.order {
		p := r.parts[key]
		if p.Empty() {
			continue
		}
		part, lackUV, lackNormal := p.Scene(&r.src)
		partUV += btoi(lackUV)
		partNormal += btoi(lackNormal)
		name := key.mesh
		if name == "" {
			name = "mesh"
		}
		k, ok := meshes[name]
		if !ok {
			k = len(r.s.Meshes)
			meshes[name] = k
			r.s.Meshes = append(r.s.Meshes, scene.Mesh{Name: name})
			n := scene.NewNode(name)
			n.Mesh = k
			r.s.Nodes = append(r.s.Nodes, n)
		}
		r.s.Meshes[k].Parts = append(r.s.Meshes[k].Parts, part)
	}
	if len(r.s.Meshes) == 0 {
		cloud := scene.Part{Material: scene.None, Positions: r.src.Positions, Points: numlist.Upto(len(r.src.Positions) / 3)}
		if r.src.Colours != nil {
			cloud.Colours = []scene.AttrSet{{Name: "colour", Data: r.src.Colours}}
		}
		n := scene.NewNode("points")
		n.Mesh = 0
		r.s.Meshes, r.s.Nodes = []scene.Mesh{{Name: "points", Parts: []scene.Part{cloud}}}, []scene.Node{n}
		r.s.Notes = append(r.s.Notes, scene.Note{Text: fmt.Sprintf("it has no faces: its %d positions are points", len(cloud.Points))})
	}
	format.PlaceFar(r.s, r.far)
	if partUV > 0 {
		note("%d parts have texture coordinates at some corners only; the others are 0, 0", partUV)
	}
	if partNormal > 0 {
		note("%d parts have normals at some faces only; those of the others were computed", partNormal)
	}
	for word, n := range r.unknown {
		note("%d statements %q are not read", n, word)
	}
	if r.more > 0 {
		note("%d lines of positions, normals or texture coordinates go on with what is no part of them and is not read (first %s)", r.more, r.moreAt)
	}
	if r.odd > 0 {
		note("%d statements of the material library lack their numbers and are left out (first %s)", r.odd, r.oddAt)
	}
	for _, l := range r.libs {
		note("the material library %s was not found", l)
	}
	if len(r.missing) > 0 {
		note("%d materials are in no library and are plain", len(r.missing))
	}
	return r.s, r.s.Validate()
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
