package gltf

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/format/gltf/meshopt"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/numlist"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Readers are GLB and glTF JSON.
func Readers() []format.Reader {
	return []format.Reader{
		{Name: "glb", Title: "glTF 2.0 binary", Read: Read, Probe: func(h []byte) bool { return bytes.HasPrefix(h, []byte("glTF")) }},
		{Name: "gltf", Title: "glTF 2.0 JSON", Read: Read, Probe: func(h []byte) bool {
			t := bytes.TrimLeft(bytes.TrimPrefix(h, []byte("\xef\xbb\xbf")), " \t\r\n")
			return len(t) > 0 && t[0] == '{' && (bytes.Contains(h, []byte(`"asset"`)) || bytes.Contains(h, []byte(`"accessors"`)) || bytes.Contains(h, []byte(`"bufferViews"`)))
		}},
	}
}

// known are the extensions whose data is read, or may be left out without
// changing geometry; anything else that a file requires is an error.
var known = map[string]bool{"KHR_lights_punctual": true, "KHR_materials_unlit": true, "KHR_mesh_quantization": true, "KHR_texture_transform": true,
	"KHR_materials_emissive_strength": true, "EXT_texture_webp": true, "KHR_materials_ior": true, "KHR_materials_clearcoat": true,
	"KHR_materials_specular": true, "KHR_materials_transmission": true, "KHR_materials_sheen": true, "KHR_materials_pbrSpecularGlossiness": true,
	"KHR_materials_variants": true, "KHR_texture_basisu": true, "VRM": true, "VRMC_vrm": true, "VRMC_springBone": true, "VRMC_materials_mtoon": true,
	packing: true}

type reader struct {
	ctx      context.Context
	file     format.File
	doc      document
	bin      []byte
	binAt    int64
	buffers  map[int][]byte
	unpacked map[int][]byte    // buffer views that were packed
	decoded  map[int][]float32 // accessors; several parts may name one
	checked  map[int]bool      // accessors whose numbers are known to be finite
	beside   int64             // bytes of buffers beside the file
	made     int64             // bytes that are in neither
	s        *scene.Scene
	format.Losses
	variant int   // chosen of KHR_materials_variants, or -1
	at      []int // the scene's node of each of the document's, or None
}

// Read decodes a GLB or glTF file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	r := &reader{ctx: ctx, file: f, buffers: map[int][]byte{}, unpacked: map[int][]byte{}, decoded: map[int][]float32{}, checked: map[int]bool{}, variant: -1}
	text, base := f.Data, int64(0)
	if bytes.HasPrefix(f.Data, []byte("glTF")) {
		var err error
		if text, base, err = r.chunks(); err != nil {
			return nil, err
		}
	}
	if len(text) > limit.JSONBytes {
		return nil, format.Errorf("", "the JSON has %d bytes, at most %d are read", len(text), limit.JSONBytes)
	}
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	if err := json.Unmarshal(text, &r.doc); err != nil {
		at := ""
		var se *json.SyntaxError
		var te *json.UnmarshalTypeError
		switch {
		case errors.As(err, &se):
			at = fmt.Sprintf("offset %d", base+se.Offset)
		case errors.As(err, &te):
			at = fmt.Sprintf("offset %d", base+te.Offset)
		}
		return nil, format.Errorf(at, "the glTF JSON cannot be read: %v", err)
	}
	if !strings.HasPrefix(r.doc.Asset.Version, "2.") {
		return nil, format.Errorf("asset.version", "glTF version %q; only 2.x is read", r.doc.Asset.Version)
	}
	for _, e := range r.doc.ExtensionsRequired {
		if !known[e] {
			return nil, format.Errorf("extensionsRequired", "the file cannot be read without the extension %s, which Excavate does not know", e)
		}
	}
	r.s = &scene.Scene{Basis: geom.GLTF, Terms: scene.Terms{Owner: r.doc.Asset.Copyright}}
	if x := r.doc.Asset.Extras; x != nil {
		r.s.Terms.Licence, r.s.Terms.Text = x.Licence, x.Terms
	}
	r.s.Name = strings.TrimSuffix(f.Name, ".glb")
	if i := strings.LastIndexAny(r.s.Name, "/\\"); i >= 0 {
		r.s.Name = r.s.Name[i+1:]
	}
	for _, step := range []func() error{r.variants, r.pictures, r.materials, r.meshes, r.nodes, r.skins, r.animations, r.avatar} {
		if err := step(); err != nil {
			return nil, err
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	for _, e := range r.doc.ExtensionsUsed {
		if !known[e] {
			r.Lose("extension %s was left out", e)
		}
	}
	r.s.Notes = append(r.s.Notes, r.Notes()...)
	if err := r.s.Validate(); err != nil {
		if at := r.unsound(); at != nil {
			return nil, at
		}
		return nil, format.Errorf("", "the file makes no sound model: %v", err)
	}
	return r.s, nil
}

// chunks takes a GLB apart, section 4.4.
func (r *reader) chunks() (text []byte, at int64, err error) {
	d := r.file.Data
	if len(d) < 20 {
		return nil, 0, format.Errorf("offset 0", "a GLB of %d bytes: its header alone has 20", len(d))
	}
	if v := binary.LittleEndian.Uint32(d[4:]); v != 2 {
		return nil, 0, format.Errorf("offset 4", "GLB version %d; only 2 is read", v)
	}
	if n := int64(binary.LittleEndian.Uint32(d[8:])); n > int64(len(d)) {
		return nil, 0, format.Errorf("offset 8", "the GLB declares %d bytes and has %d: it is cut off", n, len(d))
	}
	for p, k := int64(12), 0; p+8 <= int64(len(d)); k++ {
		n, kind := int64(binary.LittleEndian.Uint32(d[p:])), string(d[p+4:p+8])
		if n > int64(len(d))-p-8 {
			return nil, 0, format.Errorf(fmt.Sprintf("offset %d", p), "chunk %d declares %d bytes and has %d", k, n, int64(len(d))-p-8)
		}
		body := d[p+8 : p+8+n]
		switch {
		case k == 0 && kind != "JSON":
			return nil, 0, format.Errorf(fmt.Sprintf("offset %d", p+4), "the first chunk is %q, not JSON", kind)
		case k == 0:
			text, at = body, p+8
		case kind == "BIN\x00" && r.bin == nil:
			r.bin, r.binAt = body, p+8
		}
		p += 8 + (n+3)&^3
	}
	return text, at, nil
}

func (r *reader) buffer(i int) ([]byte, error) {
	if b, ok := r.buffers[i]; ok {
		return b, nil
	}
	at := fmt.Sprintf("buffers[%d]", i)
	if i < 0 || i >= len(r.doc.Buffers) {
		return nil, format.Errorf(at, "there are %d buffers", len(r.doc.Buffers))
	}
	var b []byte
	switch uri := r.doc.Buffers[i].URI; {
	case uri == "" && i == 0 && r.bin != nil:
		b = r.bin
	case uri == "":
		return nil, format.Errorf(at, "the buffer has no bytes: neither a URI nor a binary chunk")
	default:
		var err error
		if b, _, err = r.uri(uri); err != nil {
			return nil, format.Errorf(at, "%v", err)
		}
	}
	if n := r.doc.Buffers[i].Length; n > int64(len(b)) {
		return nil, format.Errorf(at, "it declares %d bytes and has %d", n, len(b))
	}
	r.buffers[i] = b
	if r.doc.Buffers[i].URI != "" {
		r.beside += int64(len(b))
	}
	return b, nil
}

func (r *reader) uri(uri string) (data []byte, found string, err error) {
	if data, is, err := format.DataURI(uri); is {
		return data, "inside the file", err
	}
	if p, err := url.PathUnescape(uri); err == nil {
		uri = p
	}
	if strings.Contains(uri, "://") {
		return nil, "", fmt.Errorf("%q lies on a network, where Excavate does not look", uri)
	}
	if r.file.Companion == nil {
		return nil, "", fmt.Errorf("%q lies beside the file, which stands alone here", uri)
	}
	return r.file.Companion(uri)
}

func (r *reader) view(i int) (b []byte, stride int64, err error) {
	at := fmt.Sprintf("bufferViews[%d]", i)
	if i < 0 || i >= len(r.doc.BufferViews) {
		return nil, 0, format.Errorf(at, "there are %d buffer views", len(r.doc.BufferViews))
	}
	v := &r.doc.BufferViews[i]
	if raw, ok := v.Extensions[packing]; ok {
		b, err = r.unpack(i, raw, at)
		return b, v.Stride, err
	}
	buf, err := r.buffer(v.Buffer)
	if err != nil {
		return nil, 0, err
	}
	if v.Offset < 0 || v.Length < 0 || v.Offset > int64(len(buf)) || v.Length > int64(len(buf))-v.Offset {
		return nil, 0, format.Errorf(at, "%d bytes at %d of a buffer of %d", v.Length, v.Offset, len(buf))
	}
	return buf[v.Offset : v.Offset+v.Length], v.Stride, nil
}

const packing = "EXT_meshopt_compression"

// unpack returns a packed buffer view's bytes, which several accessors may
// want. What they may come to in all is bounded.
func (r *reader) unpack(i int, raw []byte, at string) ([]byte, error) {
	if b, ok := r.unpacked[i]; ok {
		return b, nil
	}
	at += ".extensions." + packing
	var p packedView
	if err := json.Unmarshal(raw, &p); err != nil {
		return nil, format.Errorf(at, "%v", err)
	}
	buf, err := r.buffer(p.Buffer)
	if err != nil {
		return nil, err
	}
	if p.Offset < 0 || p.Length < 0 || p.Offset > int64(len(buf)) || p.Length > int64(len(buf))-p.Offset {
		return nil, format.Errorf(at, "%d bytes at %d of a buffer of %d", p.Length, p.Offset, len(buf))
	}
	if err := r.room(at, p.Count, p.Stride); err != nil {
		return nil, err
	}
	b, err := meshopt.Decode(meshopt.View{Mode: p.Mode, Filter: p.Filter, Count: p.Count, Stride: p.Stride}, buf[p.Offset:p.Offset+p.Length])
	if err != nil {
		return nil, format.Errorf(at, "%v", err)
	}
	r.unpacked[i] = b
	return b, nil
}

// room counts what is made beside the file's own bytes, and ends a reading in
// which that is out of all proportion to them.
func (r *reader) room(at string, count, size int64) error {
	const times = 24 // packed and quantised numbers may become as many times larger
	most := limit.MemoryBytes/4 + times*(int64(len(r.file.Data))+r.beside)
	if size > 0 && count > (most-r.made)/size {
		return format.Errorf(at, "with %d elements of %d bytes, what is unpacked comes to more than %d bytes",
			count, size, most)
	}
	r.made += max(count, 0) * max(size, 0)
	return nil
}

// raw returns an accessor's elements, each of size bytes, stride apart.
func (r *reader) raw(i int) (a *accessor, b []byte, stride, n int64, err error) {
	at := fmt.Sprintf("accessors[%d]", i)
	if i < 0 || i >= len(r.doc.Accessors) {
		return nil, nil, 0, 0, format.Errorf(at, "there are %d accessors", len(r.doc.Accessors))
	}
	a = &r.doc.Accessors[i]
	size, n := componentBytes[a.Component], typeCount[a.Type]
	if size == 0 || n == 0 {
		return nil, nil, 0, 0, format.Errorf(at, "component type %d of %q is not in glTF 2.0",
			a.Component, a.Type)
	}
	elem := size * n
	if a.Count < 0 || a.Count > limit.Vertices {
		return nil, nil, 0, 0, format.Errorf(at, "%d elements", a.Count)
	}
	if a.BufferView == nil {
		if err := r.room(at, a.Count, elem); err != nil {
			return nil, nil, 0, 0, err
		}
		return a, make([]byte, a.Count*elem), elem, n, nil
	}
	v, stride, err := r.view(*a.BufferView)
	if err != nil {
		return nil, nil, 0, 0, err
	}
	if stride == 0 {
		stride = elem
	}
	if stride < elem && a.Count > 1 {
		return nil, nil, 0, 0, format.Errorf(at, "elements of %d bytes lie %d bytes apart", elem, stride)
	}
	if a.Offset < 0 || a.Offset > int64(len(v)) || a.Count > 0 && (a.Count-1) > (int64(len(v))-a.Offset-elem)/stride || a.Count > 0 && elem > int64(len(v))-a.Offset {
		return nil, nil, 0, 0, format.Errorf(at, "%d elements of %d bytes, %d apart, from %d of a buffer view of %d bytes",
			a.Count, elem, stride, a.Offset, len(v))
	}
	return a, v[a.Offset:], stride, n, nil
}

// floats reads an accessor as n floats an element, all of them finite.
func (r *reader) floats(i int, types ...string) ([]float32, error) {
	out, err := r.numbers(i, types...)
	if err != nil || r.checked[i] {
		return out, err
	}
	if k := numlist.NotFinite(out); k >= 0 {
		return nil, format.Errorf(fmt.Sprintf("accessors[%d]", i), "element %d holds a number that is not finite", int64(k)/typeCount[r.doc.Accessors[i].Type])
	}
	r.checked[i] = true
	return out, nil
}

// numbers reads an accessor as n floats an element, of whatever value.
func (r *reader) numbers(i int, types ...string) ([]float32, error) {
	if out, ok := r.decoded[i]; ok {
		return out, wantType(&r.doc.Accessors[i], i, types)
	}
	a, b, stride, n, err := r.raw(i)
	if err != nil {
		return nil, err
	}
	if err := wantType(a, i, types); err != nil {
		return nil, err
	}
	size := componentBytes[a.Component]
	own := a.Component == cFloat && stride == size*n && a.Sparse == nil
	if !own {
		if err := r.room(fmt.Sprintf("accessors[%d]", i), a.Count, 4*n); err != nil {
			return nil, err
		}
	}
	var out []float32
	switch {
	case own:
		out = numlist.Of[float32](b[:a.Count*stride])
	case a.Component == cFloat:
		out = make([]float32, 0, a.Count*n)
		for e := int64(0); e < a.Count; e++ {
			for p := b[e*stride:][:4*n]; len(p) > 0; p = p[4:] {
				out = append(out, math.Float32frombits(binary.LittleEndian.Uint32(p)))
			}
		}
	default:
		out = make([]float32, a.Count*n)
		for e := int64(0); e < a.Count; e++ {
			for k := int64(0); k < n; k++ {
				out[e*n+k] = component(b[e*stride+k*size:], a.Component, a.Normalised)
			}
		}
	}
	err = r.sparse(a, i, func(at int64, v []byte) {
		for k := int64(0); k < n; k++ {
			out[at*n+k] = component(v[k*size:], a.Component, a.Normalised)
		}
	})
	if err != nil {
		return nil, err
	}
	r.decoded[i] = out
	return out, nil
}

func wantType(a *accessor, i int, types []string) error {
	for _, t := range types {
		if a.Type == t {
			return nil
		}
	}
	return format.Errorf(fmt.Sprintf("accessors[%d]", i), "its type is %s, and %s is needed", a.Type, strings.Join(types, " or "))
}

// component is one number; normalised integers as in section 3.6.2.2.
func component(b []byte, kind int, norm bool) float32 {
	switch kind {
	case cByte:
		if v := float32(int8(b[0])); norm {
			return max(v/127, -1)
		} else {
			return v
		}
	case cUByte:
		if v := float32(b[0]); norm {
			return v / 255
		} else {
			return v
		}
	case cShort:
		if v := float32(int16(binary.LittleEndian.Uint16(b))); norm {
			return max(v/32767, -1)
		} else {
			return v
		}
	case cUShort:
		if v := float32(binary.LittleEndian.Uint16(b)); norm {
			return v / 65535
		} else {
			return v
		}
	case cUInt:
		return float32(binary.LittleEndian.Uint32(b))
	}
	return math.Float32frombits(binary.LittleEndian.Uint32(b))
}

// ints reads an accessor of unsigned integers.
func (r *reader) ints(i int, types ...string) ([]uint32, error) {
	a, b, stride, n, err := r.raw(i)
	if err != nil {
		return nil, err
	}
	if err := wantType(a, i, types); err != nil {
		return nil, err
	}
	size := componentBytes[a.Component]
	if a.Component == cFloat || a.Component == cByte || a.Component == cShort {
		return nil, format.Errorf(fmt.Sprintf("accessors[%d]", i), "component type %d where whole numbers are needed", a.Component)
	}
	get := func(p []byte) uint32 {
		switch size {
		case 1:
			return uint32(p[0])
		case 2:
			return uint32(binary.LittleEndian.Uint16(p))
		}
		return binary.LittleEndian.Uint32(p)
	}
	if size == 4 && stride == size*n && a.Sparse == nil {
		return numlist.Of[uint32](b[:a.Count*stride]), nil
	}
	if err := r.room(fmt.Sprintf("accessors[%d]", i), a.Count, 4*n); err != nil {
		return nil, err
	}
	out := make([]uint32, a.Count*n)
	for e := int64(0); e < a.Count; e++ {
		for k := int64(0); k < n; k++ {
			out[e*n+k] = get(b[e*stride+k*size:])
		}
	}
	err = r.sparse(a, i, func(at int64, v []byte) {
		for k := int64(0); k < n; k++ {
			out[at*n+k] = get(v[k*size:])
		}
	})
	return out, err
}

// sparse visits the replaced elements of an accessor, section 3.6.2.3.
func (r *reader) sparse(a *accessor, i int, put func(at int64, v []byte)) error {
	if a.Sparse == nil {
		return nil
	}
	sp, at := a.Sparse, fmt.Sprintf("accessors[%d].sparse", i)
	idx, _, err := r.view(sp.Indices.BufferView)
	if err != nil {
		return err
	}
	vals, _, err := r.view(sp.Values.BufferView)
	if err != nil {
		return err
	}
	size := componentBytes[sp.Indices.Component]
	elem := componentBytes[a.Component] * typeCount[a.Type]
	if size == 0 || sp.Indices.Component == cFloat || sp.Count < 0 || sp.Count > a.Count || sp.Indices.Offset < 0 || sp.Values.Offset < 0 ||
		sp.Count*size > int64(len(idx))-sp.Indices.Offset || sp.Count*elem > int64(len(vals))-sp.Values.Offset {
		return format.Errorf(at, "%d replaced elements do not fit their buffer views or the accessor's %d",
			sp.Count, a.Count)
	}
	for k := int64(0); k < sp.Count; k++ {
		p := idx[sp.Indices.Offset+k*size:]
		var v int64
		switch size {
		case 1:
			v = int64(p[0])
		case 2:
			v = int64(binary.LittleEndian.Uint16(p))
		default:
			v = int64(binary.LittleEndian.Uint32(p))
		}
		if v >= a.Count {
			return format.Errorf(at, "element %d of %d is replaced", v, a.Count)
		}
		put(v, vals[sp.Values.Offset+k*elem:])
	}
	return nil
}

func (r *reader) pictures() error {
	for i, im := range r.doc.Images {
		p := scene.Picture{Name: im.Name, Ref: im.URI}
		var data []byte
		var err error
		if im.BufferView != nil {
			if data, _, err = r.view(*im.BufferView); err != nil {
				return err
			}
			p.Found = "inside the file"
		} else {
			if data, p.Found, err = r.uri(im.URI); err != nil {
				p.Looked = []string{err.Error()}
				var miss interface{ Looked() []string }
				if errors.As(err, &miss) {
					p.Looked = miss.Looked()
				}
			}
			if strings.HasPrefix(im.URI, "data:") {
				p.Ref = ""
			}
			if p.Name == "" && p.Ref != "" {
				p.Name = p.Ref[strings.LastIndexAny(p.Ref, "/\\")+1:]
			}
		}
		if p.Name == "" {
			p.Name = fmt.Sprintf("picture %d", i)
		}
		if len(data) > 0 {
			out, mime, from, w, h, err := pixel.Encoded(data)
			if err != nil {
				r.Lose("picture %q: %v", p.Name, err)
				p.Found, p.Looked = "", []string{err.Error()}
			} else {
				p.Data, p.MIME, p.Width, p.Height = out, mime, w, h
				if from != "png" && from != "jpeg" {
					r.s.Notes = append(r.s.Notes, scene.Note{Text: fmt.Sprintf("picture %q was %s and is kept as PNG", p.Name, from)})
				}
			}
		}
		r.s.Pictures = append(r.s.Pictures, p)
	}
	return nil
}

func (r *reader) texture(role scene.Role, ti *textureInfo, where string) (*scene.Texture, error) {
	if ti == nil {
		return nil, nil
	}
	at := where + "." + string(role)
	if ti.Index < 0 || ti.Index >= len(r.doc.Textures) {
		return nil, format.Errorf(at, "texture %d: there are %d", ti.Index, len(r.doc.Textures))
	}
	t := &r.doc.Textures[ti.Index]
	src := t.Source
	if raw, ok := t.Extensions["EXT_texture_webp"]; ok {
		var x struct{ Source *int }
		if json.Unmarshal(raw, &x) == nil && x.Source != nil {
			src = x.Source
		}
	}
	// Basis Universal cannot be decoded; where there is a plain picture too, that one.
	if raw, ok := t.Extensions["KHR_texture_basisu"]; ok && src == nil {
		var x struct{ Source *int }
		if json.Unmarshal(raw, &x) == nil && x.Source != nil {
			src = x.Source
		}
	}
	if src == nil {
		r.Lose("a texture without a picture that can be decoded")
		return nil, nil
	}
	if *src < 0 || *src >= len(r.s.Pictures) {
		return nil, format.Errorf(at, "picture %d: there are %d", *src, len(r.s.Pictures))
	}
	out := &scene.Texture{Role: role, Picture: *src, UVSet: ti.TexCoord, Scale: 1}
	if ti.TexCoord < 0 || ti.TexCoord > 7 {
		return nil, format.Errorf(at, "UV set %d", ti.TexCoord)
	}
	if ti.Scale != nil {
		out.Scale = *ti.Scale
	}
	if ti.Strength != nil {
		out.Scale = *ti.Strength
	}
	if raw := ti.Extensions["KHR_texture_transform"]; len(raw) > 0 {
		var x xTransform
		if err := decode(raw, &x, at); err != nil {
			return nil, err
		}
		out.Transform = &scene.UVTransform{Offset: *or(x.Offset, [2]float32{}), Rotation: x.Rotation, Scale: *or(x.Scale, [2]float32{1, 1})}
		if x.TexCoord != nil {
			out.UVSet = *x.TexCoord
		}
		if out.UVSet < 0 || out.UVSet > 7 {
			return nil, format.Errorf(at, "UV set %d", out.UVSet)
		}
		if *out.Transform == (scene.UVTransform{Scale: [2]float32{1, 1}}) {
			out.Transform = nil
		}
	}
	if t.Sampler != nil && *t.Sampler >= 0 && *t.Sampler < len(r.doc.Samplers) {
		s := r.doc.Samplers[*t.Sampler]
		wrap := func(v int) scene.Wrap {
			switch v {
			case 33071:
				return scene.Clamp
			case 33648:
				return scene.Mirror
			}
			return scene.Repeat
		}
		out.WrapU, out.WrapV, out.Nearest = wrap(s.WrapS), wrap(s.WrapT), s.Mag == 9728
	}
	return out, nil
}

func (r *reader) materials() error {
	for i := range r.doc.Materials {
		g := &r.doc.Materials[i]
		m := scene.NewMaterial(g.Name)
		m.Metallic = 1
		where := fmt.Sprintf("materials[%d]", i)
		p := g.PBR
		if p == nil {
			p = &pbr{}
		}
		if p.Colour != nil {
			m.BaseColour = *p.Colour
		}
		if p.Metallic != nil {
			m.Metallic = *p.Metallic
		}
		if p.Roughness != nil {
			m.Roughness = *p.Roughness
		}
		if g.EmissiveF != nil {
			m.Emissive = *g.EmissiveF
		}
		switch g.AlphaMode {
		case "MASK":
			m.Alpha = scene.Cutout
		case "BLEND":
			m.Alpha = scene.Blend
		}
		if g.AlphaCutoff != nil {
			m.Cutoff = *g.AlphaCutoff
		}
		m.TwoSided = g.DoubleSided
		for _, t := range []struct {
			role scene.Role
			ti   *textureInfo
		}{{scene.RoleColour, p.ColourTex}, {scene.RoleMetalRgh, p.MetalRghTex}, {scene.RoleNormal, g.Normal}, {scene.RoleOcclusion, g.Occlusion}, {scene.RoleEmission, g.Emissive}} {
			tx, err := r.texture(t.role, t.ti, where)
			if err != nil {
				return err
			}
			if tx != nil {
				m.Textures = append(m.Textures, *tx)
			}
		}
		if err := r.layers(&m, g.Extensions, where); err != nil {
			return err
		}
		r.s.Materials = append(r.s.Materials, m)
	}
	return nil
}

func (r *reader) meshes() error {
	for i := range r.doc.Meshes {
		g := &r.doc.Meshes[i]
		m := scene.Mesh{Name: g.Name}
		for j := range g.Primitives {
			p, err := r.primitive(g, j, fmt.Sprintf("meshes[%d].primitives[%d]", i, j))
			if err != nil {
				return err
			}
			if p != nil {
				m.Parts = append(m.Parts, *p)
			}
		}
		r.s.Meshes = append(r.s.Meshes, m)
	}
	return nil
}

// unsound names the first position that is not finite and the first index
// beyond its vertices: primitive takes both as they are, for Validate looks at
// them all.
func (r *reader) unsound() error {
	for i := range r.doc.Meshes {
		for j, pr := range r.doc.Meshes[i].Primitives {
			ai, ok := pr.Attributes["POSITION"]
			if !ok {
				continue
			}
			positions, err := r.floats(ai, "VEC3")
			if err != nil {
				return err
			}
			if pr.Indices == nil {
				continue
			}
			idx, err := r.ints(*pr.Indices, "SCALAR")
			if err != nil {
				return err
			}
			if k := numlist.Beyond(idx, len(positions)/3); k >= 0 {
				return format.Errorf(r.place(*pr.Indices, int64(k)), "meshes[%d].primitives[%d]: index %d is vertex %d, and there are %d", i, j, k, idx[k], len(positions)/3)
			}
		}
	}
	return nil
}

// looks reads which material a part has in which variant.
func (r *reader) looks(p *scene.Part, raw json.RawMessage, at string) error {
	var x xVariants
	if err := decode(raw, &x, at); err != nil {
		return err
	}
	for i, m := range x.Mappings {
		if m.Material < 0 || m.Material >= len(r.doc.Materials) {
			return format.Errorf(fmt.Sprintf("%s.mappings[%d]", at, i), "material %d of %d", m.Material, len(r.doc.Materials))
		}
		for _, v := range m.Variants {
			if v < 0 || v >= len(r.s.Variants) {
				return format.Errorf(fmt.Sprintf("%s.mappings[%d]", at, i), "variant %d of %d", v, len(r.s.Variants))
			}
			for len(p.Variants) <= v {
				p.Variants = append(p.Variants, scene.None)
			}
			p.Variants[v] = m.Material
			if v == r.variant {
				p.Material = m.Material
			}
		}
	}
	return nil
}

// variants keeps the names of KHR_materials_variants and offers the choice
// which of them is shown.
func (r *reader) variants() error {
	x := r.doc.Extensions
	if x == nil || x.Variants == nil || len(x.Variants.Variants) == 0 {
		return nil
	}
	c := scene.Choice{Name: "variant", About: "which of the file's material variants", Options: []string{"as the file shows it"}}
	for _, v := range x.Variants.Variants {
		c.Options = append(c.Options, v.Name)
		r.s.Variants = append(r.s.Variants, v.Name)
	}
	r.variant = r.choose(c) - 1
	return nil
}

// choose adds a choice to the scene and returns which option was asked for.
func (r *reader) choose(c scene.Choice) int {
	k := max(slices.Index(c.Options, r.file.Readings[c.Name]), 0)
	c.Chosen = c.Options[k]
	r.s.Choices = append(r.s.Choices, c)
	return k
}

// whichScene offers the choice between the file's scenes.
func (r *reader) whichScene(usual int) int {
	if len(r.doc.Scenes) < 2 || usual < 0 || usual >= len(r.doc.Scenes) {
		return usual
	}
	c := scene.Choice{Name: "scene", About: "which of the file's scenes"}
	which := []int{usual}
	for i := range r.doc.Scenes {
		if i != usual {
			which = append(which, i)
		}
	}
	for _, i := range which {
		name := r.doc.Scenes[i].Name
		if name == "" || slices.Contains(c.Options, name) {
			name = fmt.Sprintf("scene %d %s", i, name)
		}
		c.Options = append(c.Options, strings.TrimSpace(name))
	}
	return which[r.choose(c)]
}

// place names the byte of an accessor's element, in a GLB its offset in the
// file.
func (r *reader) place(i int, k int64) string {
	a := &r.doc.Accessors[i]
	if a.BufferView == nil {
		return fmt.Sprintf("accessors[%d]", i)
	}
	v := &r.doc.BufferViews[*a.BufferView]
	size := componentBytes[a.Component] * typeCount[a.Type]
	if v.Stride > 0 {
		size = v.Stride
	}
	at := v.Offset + a.Offset + k*size
	if _, is := v.Extensions[packing]; is {
		return fmt.Sprintf("accessors[%d], element %d", i, k)
	}
	if v.Buffer == 0 && r.bin != nil && r.doc.Buffers[0].URI == "" {
		return fmt.Sprintf("offset %d", r.binAt+at)
	}
	return fmt.Sprintf("buffers[%d] offset %d", v.Buffer, at)
}

func (r *reader) skins() error {
	for i := range r.doc.Skins {
		g := &r.doc.Skins[i]
		s := scene.Skin{Name: g.Name, Joints: g.Joints, Root: scene.None}
		if g.Skeleton != nil {
			s.Root = *g.Skeleton
		}
		if g.InverseBind != nil {
			f, err := r.floats(*g.InverseBind, "MAT4")
			if err != nil {
				return err
			}
			if len(f) < 16*len(s.Joints) {
				return format.Errorf(fmt.Sprintf("skins[%d]", i), "%d inverse bind matrices for %d joints", len(f)/16, len(s.Joints))
			}
			s.InverseBind = f[:16*len(s.Joints)]
		} else {
			for range s.Joints {
				s.InverseBind = append(s.InverseBind, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
			}
		}
		r.s.Skins = append(r.s.Skins, s)
	}
	return nil
}

func (r *reader) animations() error {
	for i := range r.doc.Animations {
		g := &r.doc.Animations[i]
		m := scene.Motion{Name: g.Name}
		if m.Name == "" {
			m.Name = fmt.Sprintf("motion%d", i)
		}
		for j := range g.Channels {
			c := &g.Channels[j]
			at := fmt.Sprintf("animations[%d].channels[%d]", i, j)
			if c.Target.Node == nil || *c.Target.Node < 0 {
				r.Lose("a motion channel without a node was left out")
				continue
			}
			if c.Sampler < 0 || c.Sampler >= len(g.Samplers) {
				return format.Errorf(at, "sampler %d: there are %d", c.Sampler, len(g.Samplers))
			}
			sm := &g.Samplers[c.Sampler]
			ch := scene.Channel{Node: *c.Target.Node, Path: scene.Path(c.Target.Path), Interp: scene.Linear}
			switch sm.Interp {
			case "STEP":
				ch.Interp = scene.Step
			case "CUBICSPLINE":
				ch.Interp = scene.Cubic
			}
			var err error
			if ch.Times, err = r.floats(sm.Input, "SCALAR"); err != nil {
				return err
			}
			var types []string
			switch ch.Path {
			case scene.PathTranslation, scene.PathScale:
				types = []string{"VEC3"}
			case scene.PathRotation:
				types = []string{"VEC4"}
			case scene.PathWeights:
				types = []string{"SCALAR"}
			default:
				r.Lose("a motion channel that moves %q was left out", string(ch.Path))
				continue
			}
			if ch.Values, err = r.floats(sm.Output, types...); err != nil {
				return err
			}
			m.Channels = append(m.Channels, ch)
		}
		r.s.Motions = append(r.s.Motions, m)
	}
	return nil
}
