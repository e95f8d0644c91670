package receiver

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"path"
	"strings"
)

// This file reads binary glTF 2.0 (Khronos, sections 3 and 4), as much of it as
// a receiver needs: nodes, triangles, skins, materials, pictures, colliders.

type vec [3]float64

func (a vec) add(b vec) vec     { return vec{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a vec) sub(b vec) vec     { return vec{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a vec) mul(s float64) vec { return vec{a[0] * s, a[1] * s, a[2] * s} }
func (a vec) dot(b vec) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a vec) len() float64      { return math.Sqrt(a.dot(a)) }
func (a vec) cross(b vec) vec {
	return vec{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// mat is a 4 by 4 matrix, column-major.
type mat [16]float64

var unit = mat{1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}

func (a mat) mul(b mat) (c mat) {
	for i := range 4 {
		for j := range 4 {
			for k := range 4 {
				c[4*j+i] += a[4*k+i] * b[4*j+k]
			}
		}
	}
	return c
}

func (a mat) point(v vec) vec {
	return vec{a[0]*v[0] + a[4]*v[1] + a[8]*v[2] + a[12], a[1]*v[0] + a[5]*v[1] + a[9]*v[2] + a[13], a[2]*v[0] +
		a[6]*v[1] + a[10]*v[2] + a[14]}
}

type document struct {
	Nodes       []node
	Meshes      []mesh
	Materials   []map[string]any
	Textures    []struct{ Source *int }
	Images      []picture
	Skins       []skin
	Animations  []struct{ Name string }
	Accessors   []accessor
	BufferViews []view
	Extensions  struct {
		Shapes struct{ Shapes []shape } `json:"KHR_implicit_shapes"`
		VRM    *struct {
			Meta struct {
				Authors    []string `json:"authors"`
				LicenseURL string   `json:"licenseUrl"`
			} `json:"meta"`
		} `json:"VRMC_vrm"`
		Variants *struct{ Variants []any } `json:"KHR_materials_variants"`
	}

	bin   []byte
	world []mat
	up    []int // the parent of each node, or -1
}

// view is a range of the file's numbers.
type view struct{ ByteOffset, ByteLength, ByteStride int }

type node struct {
	Name                         string
	Children                     []int
	Mesh, Skin, Camera           *int
	Matrix                       []float64
	Translation, Rotation, Scale []float64
	Extensions                   struct {
		Light *struct{} `json:"KHR_lights_punctual"`
		Body  *struct {
			Collider *struct {
				Geometry struct {
					Shape, Mesh *int
					ConvexHull  bool
				}
			}
		} `json:"KHR_physics_rigid_bodies"`
	}
}

type mesh struct {
	Name       string
	Primitives []struct {
		Attributes map[string]int
		Indices    *int
		Material   *int
		Mode       *int
		Targets    []map[string]int
	}
}

type picture struct {
	Name, URI, MimeType string
	BufferView          *int
}

type skin struct {
	Joints              []int
	InverseBindMatrices *int
}

type accessor struct {
	BufferView                       *int
	ByteOffset, ComponentType, Count int
	Type                             string
	Normalized                       bool
}

type shape struct {
	Type    string
	Box     *struct{ Size []float64 }
	Sphere  *struct{ Radius *float64 }
	Capsule *struct {
		RadiusBottom, RadiusTop, Height *float64
	}
}

const mostNodes = 1 << 20

// readGLB reads a binary glTF.
func readGLB(b []byte) (*document, error) {
	if len(b) < 20 || string(b[:4]) != "glTF" || binary.LittleEndian.Uint32(b[4:]) != 2 {
		return nil, fmt.Errorf("not a binary glTF 2.0")
	}
	d := &document{}
	for at := 12; at+8 <= len(b); {
		n, kind := int(binary.LittleEndian.Uint32(b[at:])), string(b[at+4:at+8])
		at += 8
		if n < 0 || n > len(b)-at {
			return nil, fmt.Errorf("chunk at %d runs over the end", at-8)
		}
		switch kind {
		case "JSON":
			if err := json.Unmarshal(b[at:at+n], d); err != nil {
				return nil, fmt.Errorf("JSON chunk: %v", err)
			}
		case "BIN\x00":
			d.bin = b[at : at+n]
		}
		at += (n + 3) &^ 3
	}
	return d, d.place()
}

// place works out the parents and the transforms of nodes.
func (d *document) place() error {
	n := len(d.Nodes)
	if n > mostNodes {
		return fmt.Errorf("%d nodes", n)
	}
	d.up, d.world = make([]int, n), make([]mat, n)
	for i := range d.up {
		d.up[i] = -1
	}
	for i := range d.Nodes {
		for _, c := range d.Nodes[i].Children {
			if c < 0 || c >= n || d.up[c] >= 0 || c == i {
				return fmt.Errorf("node %d: child %d is no child of it alone", i, c)
			}
			d.up[c] = i
		}
	}
	done := make([]bool, n)
	seen := 0
	var queue []int
	for i := range d.up {
		if d.up[i] < 0 {
			queue = append(queue, i)
		}
	}
	for len(queue) > 0 {
		i := queue[0]
		queue = queue[1:]
		done[i] = true
		seen++
		d.world[i] = d.Nodes[i].local()
		if p := d.up[i]; p >= 0 {
			d.world[i] = d.world[p].mul(d.world[i])
		}
		queue = append(queue, d.Nodes[i].Children...)
	}
	if seen != n {
		return fmt.Errorf("nodes hang on each other in a circle")
	}
	return nil
}

func (n *node) local() mat {
	if len(n.Matrix) == 16 {
		return mat(n.Matrix)
	}
	t, q, s := vec{}, [4]float64{0, 0, 0, 1}, vec{1, 1, 1}
	if len(n.Translation) == 3 {
		t = vec(n.Translation)
	}
	if len(n.Rotation) == 4 {
		q = [4]float64(n.Rotation)
	}
	if len(n.Scale) == 3 {
		s = vec(n.Scale)
	}
	x, y, z, w := q[0], q[1], q[2], q[3]
	return mat{
		(1 - 2*(y*y+z*z)) * s[0], 2 * (x*y + z*w) * s[0], 2 * (x*z - y*w) * s[0], 0,
		2 * (x*y - z*w) * s[1], (1 - 2*(x*x+z*z)) * s[1], 2 * (y*z + x*w) * s[1], 0,
		2 * (x*z + y*w) * s[2], 2 * (y*z - x*w) * s[2], (1 - 2*(x*x+y*y)) * s[2], 0,
		t[0], t[1], t[2], 1}
}

var widths = map[string]int{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}

// numbers are the values of an accessor, one after the other.
func (d *document) numbers(i int) ([]float64, int, error) {
	if i < 0 || i >= len(d.Accessors) {
		return nil, 0, fmt.Errorf("no accessor %d", i)
	}
	a := d.Accessors[i]
	w := widths[a.Type]
	size := map[int]int{5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}[a.ComponentType]
	if w == 0 || size == 0 || a.Count < 0 || a.BufferView == nil || *a.BufferView < 0 ||
		*a.BufferView >= len(d.BufferViews) {
		return nil, 0, fmt.Errorf("accessor %d is of a kind that is not read", i)
	}
	v := d.BufferViews[*a.BufferView]
	step := v.ByteStride
	if step == 0 {
		step = w * size
	}
	start := v.ByteOffset + a.ByteOffset
	if a.Count > 0 && (v.ByteOffset < 0 || a.ByteOffset < 0 || step < 0 || step > 1<<16 ||
		a.Count > len(d.bin) || start < 0 || start > len(d.bin) || start+(a.Count-1)*step+w*size > len(d.bin)) {
		return nil, 0, fmt.Errorf("accessor %d runs over the end", i)
	}
	out := make([]float64, 0, a.Count*w)
	for k := range a.Count {
		for j := range w {
			b := d.bin[start+k*step+j*size:]
			out = append(out, component(b, a.ComponentType, a.Normalized))
		}
	}
	return out, w, nil
}

func component(b []byte, kind int, normalized bool) float64 {
	over := 1.0
	var v float64
	switch kind {
	case 5120:
		v, over = float64(int8(b[0])), 127
	case 5121:
		v, over = float64(b[0]), 255
	case 5122:
		v, over = float64(int16(binary.LittleEndian.Uint16(b))), 32767
	case 5123:
		v, over = float64(binary.LittleEndian.Uint16(b)), 65535
	case 5125:
		return float64(binary.LittleEndian.Uint32(b))
	default:
		return float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))
	}
	if normalized {
		return v / over
	}
	return v
}

// triangle is a face in the world.
type triangle struct {
	at       [3]vec
	node     int
	material int // or -1
}

// triangles are the faces of a mesh as a node shows it at rest.
func (d *document) triangles(n, m int) (out []triangle, err error) {
	if m < 0 || m >= len(d.Meshes) {
		return nil, fmt.Errorf("node %d shows no mesh %d", n, m)
	}
	for _, p := range d.Meshes[m].Primitives {
		if p.Mode != nil && *p.Mode != 4 {
			continue
		}
		at, ok := p.Attributes["POSITION"]
		if !ok {
			continue
		}
		flat, w, err := d.numbers(at)
		if err != nil || w != 3 {
			return nil, fmt.Errorf("positions of mesh %d: %v", m, err)
		}
		places := make([]vec, len(flat)/3)
		for i := range places {
			places[i] = d.world[n].point(vec(flat[3*i : 3*i+3]))
		}
		if s := d.Nodes[n].Skin; s != nil && *s >= 0 && *s < len(d.Skins) {
			if err := d.skinned(places, flat, *s, p.Attributes); err != nil {
				return nil, err
			}
		}
		order := make([]float64, len(places))
		for i := range order {
			order[i] = float64(i)
		}
		if p.Indices != nil {
			if order, _, err = d.numbers(*p.Indices); err != nil {
				return nil, err
			}
		}
		mat := -1
		if p.Material != nil {
			mat = *p.Material
		}
		for k := 0; k+2 < len(order); k += 3 {
			t := triangle{node: n, material: mat}
			for j := range 3 {
				v := int(order[k+j])
				if v >= len(places) {
					return nil, fmt.Errorf("mesh %d: no vertex %d", m, v)
				}
				t.at[j] = places[v]
				if l := places[v].len(); math.IsNaN(l) || math.IsInf(l, 0) {
					return nil, fmt.Errorf("mesh %d: vertex %d is nowhere", m, v)
				}
			}
			out = append(out, t)
		}
	}
	return out, nil
}

// skinned moves places to where their joints hold them.
func (d *document) skinned(places []vec, flat []float64, s int, attributes map[string]int) error {
	joints := d.Skins[s].Joints
	bind := make([]mat, len(joints))
	var inverse []float64
	if k := d.Skins[s].InverseBindMatrices; k != nil {
		var err error
		if inverse, _, err = d.numbers(*k); err != nil {
			return err
		}
	}
	for i, j := range joints {
		if j < 0 || j >= len(d.Nodes) {
			return fmt.Errorf("skin %d: no joint %d", s, j)
		}
		bind[i] = d.world[j]
		if len(inverse) >= 16*(i+1) {
			bind[i] = bind[i].mul(mat(inverse[16*i : 16*i+16]))
		}
	}
	sums := make([]vec, len(places))
	whole := make([]float64, len(places))
	for set := 0; ; set++ {
		ji, ok := attributes[fmt.Sprintf("JOINTS_%d", set)]
		wi, too := attributes[fmt.Sprintf("WEIGHTS_%d", set)]
		if !ok || !too {
			break
		}
		jl, _, err := d.numbers(ji)
		if err != nil {
			return err
		}
		wl, _, err := d.numbers(wi)
		if err != nil {
			return err
		}
		for i := 0; i < len(jl) && i < len(wl) && i/4 < len(places); i++ {
			if w := wl[i]; w != 0 && int(jl[i]) < len(bind) {
				v := i / 4
				sums[v] = sums[v].add(bind[int(jl[i])].point(vec(flat[3*v : 3*v+3])).mul(w))
				whole[v] += w
			}
		}
	}
	for v := range places {
		if whole[v] > 0 {
			places[v] = sums[v].mul(1 / whole[v])
		}
	}
	return nil
}

// bytesOf are a picture's bytes, within the model or beside it; folder is where
// the model lies.
func (d *document) bytesOf(p *picture, files map[string][]byte, folder string) []byte {
	if p.BufferView != nil && *p.BufferView >= 0 && *p.BufferView < len(d.BufferViews) {
		v := d.BufferViews[*p.BufferView]
		if v.ByteOffset >= 0 && v.ByteOffset <= len(d.bin) && v.ByteLength >= 0 &&
			v.ByteLength <= len(d.bin)-v.ByteOffset {
			return d.bin[v.ByteOffset : v.ByteOffset+v.ByteLength]
		}
		return nil
	}
	if p.URI == "" || strings.Contains(p.URI, "://") {
		return nil
	}
	return files[path.Join(folder, p.URI)]
}
