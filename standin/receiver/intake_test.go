package receiver

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"slices"
	"strings"
	"testing"
)

// made is a model put together by hand: a plate of one square metre on the floor
// that looks up, with normals, UVs and a picture.
type made struct {
	doc   map[string]any
	bin   bytes.Buffer
	files map[string][]byte
}

type obj = map[string]any

func (m *made) list(key string) []any {
	l, _ := m.doc[key].([]any)
	return l
}

func (m *made) add(key string, x any) int {
	m.doc[key] = append(m.list(key), x)
	return len(m.list(key)) - 1
}

func (m *made) at(key string, i int) obj { return m.list(key)[i].(obj) }

// numbers adds an accessor of floats or bytes.
func (m *made) numbers(kind string, data any) int {
	from := m.bin.Len()
	binary.Write(&m.bin, binary.LittleEndian, data)
	per := map[string]int{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}[kind]
	component, n := 5126, 0
	switch d := data.(type) {
	case []float32:
		n = len(d) / per
	case []uint8:
		component, n = 5121, len(d)/per
	}
	view := m.add("bufferViews", obj{"byteOffset": from, "byteLength": m.bin.Len() - from})
	for m.bin.Len()%4 != 0 {
		m.bin.WriteByte(0)
	}
	return m.add("accessors", obj{"bufferView": view, "componentType": component, "count": n, "type": kind})
}

func (m *made) primitive() obj {
	return m.at("meshes", 0)["primitives"].([]any)[0].(obj)
}

func (m *made) attributes() obj { return m.primitive()["attributes"].(obj) }

func (m *made) glb(t *testing.T) []byte {
	t.Helper()
	text, err := json.Marshal(m.doc)
	if err != nil {
		t.Fatal(err)
	}
	return glb(string(text), m.bin.Bytes())
}

// pngOf is a PNG of one colour.
func pngOf(w, h int, c color.Color) []byte {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		img.Set(i%w, i/w, c)
	}
	var b bytes.Buffer
	png.Encode(&b, img)
	return b.Bytes()
}

var opaque = color.NRGBA{90, 120, 60, 255}

func plate() *made {
	m := &made{doc: obj{"asset": obj{"version": "2.0"}}, files: map[string][]byte{"m/w.png": pngOf(8, 4, opaque)}}
	pos := m.numbers("VEC3", []float32{-.5, 0, -.5, -.5, 0, .5, .5, 0, .5, -.5, 0, -.5, .5, 0, .5, .5, 0, -.5})
	nrm := m.numbers("VEC3", []float32{0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0})
	uv := m.numbers("VEC2", []float32{0, 0, 0, 1, 1, 1, 0, 0, 1, 1, 1, 0})
	m.add("images", obj{"uri": "w.png", "name": "w"})
	m.add("textures", obj{"source": 0})
	m.add("materials", obj{"name": "boards",
		"pbrMetallicRoughness": obj{"baseColorTexture": obj{"index": 0}}})
	m.add("meshes", obj{"primitives": []any{obj{"attributes": obj{"POSITION": pos, "NORMAL": nrm, "TEXCOORD_0": uv},
		"material": 0}}})
	m.add("nodes", obj{"name": "plate", "mesh": 0})
	return m
}

// skinned is the plate on two bones, an end one among them if it is asked for.
func skinned(weights []float32, end bool) *made {
	m := plate()
	joints := make([]uint8, 24)
	for v := range 6 {
		joints[4*v+1] = 1 // the first weight on bone 0, the second on bone 1
	}
	all := make([]float32, 0, 24)
	for range 6 {
		all = append(all, weights...)
	}
	m.attributes()["JOINTS_0"], m.attributes()["WEIGHTS_0"] = m.numbers("VEC4", joints), m.numbers("VEC4", all)
	root := m.add("nodes", obj{"name": "hips", "children": []int{2}})
	arm := m.add("nodes", obj{"name": "arm"})
	list := []int{root, arm}
	if end {
		m.at("nodes", arm)["children"] = []int{3}
		list = append(list, m.add("nodes", obj{"name": "arm_end"}))
	}
	m.add("skins", obj{"joints": list})
	m.at("nodes", 0)["skin"] = 0
	return m
}

// collides gives the first node a collider of a shape.
func (m *made) collides(shape obj) {
	geometry := obj{"shape": 0}
	m.at("nodes", 0)["extensions"] = obj{"KHR_physics_rigid_bodies": obj{"collider": obj{"geometry": geometry}}}
	m.doc["extensions"] = obj{"KHR_implicit_shapes": obj{"shapes": []any{shape}}}
}

// Each objection an engine may have: it is made of the model that breaks the
// rule, and not of the one beside it that just keeps it.
func TestEveryObjection(t *testing.T) {
	half := []float32{.5, .5, 0, 0}
	for _, c := range []struct {
		code, level, sheet string
		keeps, breaks      func() *made
		thing              string
	}{
		{"GE01", "error", "limits: {triangles: 2}", plate, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "again", "mesh": 0})
			return m
		}, ""},
		{"GE02", "warning", "normals: true", plate, func() *made {
			m := plate()
			delete(m.attributes(), "NORMAL")
			return m
		}, "plate"},
		{"GE03", "error", "", plate, func() *made {
			m := plate()
			m.attributes()["TEXCOORD_0"] = m.numbers("VEC2", []float32{.5, .5, .5, .5, .5, .5, .5, .5, .5, .5, .5, .5})
			return m
		}, "plate"},
		{"GE03", "error", "", func() *made { // without a picture none are missed
			m := plate()
			delete(m.attributes(), "TEXCOORD_0")
			delete(m.at("materials", 0), "pbrMetallicRoughness")
			return m
		}, func() *made {
			m := plate()
			delete(m.attributes(), "TEXCOORD_0")
			return m
		}, "plate"},
		{"GE04", "error", "limits: {uv_sets: 1}", plate, func() *made {
			m := plate()
			m.attributes()["TEXCOORD_1"] = m.attributes()["TEXCOORD_0"]
			return m
		}, ""},
		{"GE05", "error", "limits: {colour_sets: 1}", func() *made {
			m := plate()
			m.attributes()["COLOR_0"] = m.attributes()["POSITION"]
			return m
		}, func() *made {
			m := plate()
			m.attributes()["COLOR_0"] = m.attributes()["POSITION"]
			m.attributes()["COLOR_1"] = m.attributes()["POSITION"]
			return m
		}, ""},
		{"SZ01", "error", "size: {least: 1, most: 2}", plate, func() *made {
			m := plate()
			m.at("nodes", 0)["scale"] = []float64{0.98, 0.98, 0.98}
			return m
		}, ""},
		{"SZ01", "error", "size: {least: 0.1, most: 1}", plate, func() *made {
			m := plate()
			m.at("nodes", 0)["scale"] = []float64{1, 1, 1.02}
			return m
		}, ""},
		// The numbers are read in the sheet's unit: of centimetres the plate is one.
		{"SZ01", "error", "size: {least: 0.9, most: 2}", plate, func() *made {
			m := plate()
			m.doc["unit"] = "centimetres"
			return m
		}, ""},
		{"PV01", "warning", "ground: true", func() *made {
			m := plate()
			m.at("nodes", 0)["translation"] = []float64{3, 0.001, 0}
			return m
		}, func() *made {
			m := plate()
			m.at("nodes", 0)["translation"] = []float64{0, -0.004, 0}
			return m
		}, ""},
		{"PV02", "warning", "centred: true", func() *made {
			m := plate()
			m.at("nodes", 0)["translation"] = []float64{0, 5, 0}
			return m
		}, func() *made {
			m := plate()
			m.at("nodes", 0)["translation"] = []float64{0.004, 0, 0}
			return m
		}, ""},
		{"CM01", "warning", "cameras: false", plate, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "eye", "camera": 0})
			return m
		}, "eye"},
		{"LT01", "warning", "lights: false", plate, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "lamp", "extensions": obj{"KHR_lights_punctual": obj{"light": 0}}})
			return m
		}, "lamp"},
		// A node above what is seen is no helper, nor is a bone.
		{"EM01", "warning", "helpers: false", func() *made {
			m := skinned(half, false)
			m.add("nodes", obj{"name": "group", "children": []int{m.add("nodes", obj{"name": "in", "mesh": 0})}})
			return m
		}, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "group", "children": []int{m.add("nodes", obj{"name": "nothing"})}})
			return m
		}, "nothing"},
		{"OB01", "error", "limits: {nodes: 1}", plate, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "two", "mesh": 0})
			return m
		}, ""},
		{"NM01", "warning", "names: {pattern: '^[a-z]+$'}", plate, func() *made {
			m := plate()
			m.at("materials", 0)["name"] = "Boards"
			return m
		}, "Boards"},
		{"NM02", "warning", "names: {unique: true}", func() *made { // a node and a material may share one
			m := plate()
			m.at("materials", 0)["name"] = "plate"
			return m
		}, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "plate", "mesh": 0})
			return m
		}, "plate"},
		{"NM03", "warning", "names: {longest: 6}", plate, func() *made { // counted in letters
			m := plate()
			m.at("nodes", 0)["name"] = "plättchen"
			return m
		}, "plättchen"},
		{"SK01", "error", "root_bone: hips", func() *made { return skinned(half, false) }, func() *made {
			m := skinned(half, false)
			m.at("nodes", 1)["name"] = "Hips"
			return m
		}, "Hips"},
		{"SK01", "error", "root_bone: hips", plate, func() *made { // two roots
			m := skinned(half, false)
			delete(m.at("nodes", 1), "children")
			return m
		}, "hips"},
		{"SK02", "error", "skeleton: {bones: [{name: hips}, {name: arm, parent: hips}]}",
			func() *made { return skinned(half, false) }, func() *made { return skinned(half, true) }, "arm_end"},
		{"SK02", "error", "skeleton: {bones: [{name: hips}, {name: arm, parent: hips}]}",
			func() *made { return skinned(half, false) }, func() *made { // another parent
				m := skinned(half, false)
				delete(m.at("nodes", 1), "children")
				return m
			}, "arm"},
		{"SK02", "error", "skeleton: {bones: [{name: hips}, {name: arm, parent: hips}]}",
			func() *made { return skinned(half, false) }, func() *made {
				m := skinned(half, false)
				m.at("skins", 0)["joints"] = []int{1}
				return m
			}, "arm"},
		{"SK03", "warning", "joints_per_vertex: 2", func() *made { return skinned(half, false) }, func() *made {
			return skinned([]float32{.4, .4, .2, 0}, false)
		}, ""},
		{"SK04", "warning", "", func() *made { return skinned([]float32{.5, .498, 0, 0}, false) }, func() *made {
			return skinned([]float32{.5, .49, 0, 0}, false)
		}, ""},
		{"SK04", "warning", "", plate, func() *made { // it hangs on nothing
			m := skinned(half, false)
			delete(m.attributes(), "WEIGHTS_0")
			return m
		}, ""},
		{"SK04", "warning", "", func() *made { return skinned(half, false) }, func() *made { // nothing hangs on it
			m := skinned(half, false)
			delete(m.at("nodes", 0), "skin")
			delete(m.attributes(), "JOINTS_0")
			return m
		}, ""},
		{"SK05", "error", "end_bones: false", func() *made { return skinned(half, false) }, func() *made {
			return skinned(half, true)
		}, "arm_end"},
		{"SK06", "error", "limits: {bones: 2}", func() *made { return skinned(half, false) }, func() *made {
			return skinned(half, true)
		}, ""},
		{"PX01", "error", "pictures: {required: true}", plate, func() *made {
			m := plate()
			delete(m.files, "m/w.png")
			return m
		}, "w"},
		{"PX02", "warning", "pictures: {largest: 8}", plate, func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(4, 9, opaque)
			return m
		}, "w"},
		{"PX03", "warning", "pictures: {powers_of_two: true}", plate, func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(8, 6, opaque)
			return m
		}, "w"},
		// 512 × 512 texels of four bytes, and a third of that for smaller ones: 1.4 MB.
		{"PX04", "error", "limits: {picture_memory: 1.4}", func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(512, 512, opaque)
			return m
		}, func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(512, 520, opaque)
			return m
		}, ""},
		{"MT01", "warning", "materials: {once: true}", func() *made {
			m := plate()
			m.add("materials", obj{"name": "other", "alphaMode": "MASK",
				"pbrMetallicRoughness": obj{"baseColorTexture": obj{"index": 0}}})
			return m
		}, func() *made {
			m := plate()
			m.add("materials", obj{"name": "other", "pbrMetallicRoughness": obj{"baseColorTexture": obj{"index": 0}}})
			return m
		}, "other"},
		// Without a picture the name is what tells them apart, but for a number.
		{"MT01", "warning", "materials: {once: true}", func() *made {
			m := plate()
			m.add("materials", obj{"name": "glass"})
			m.add("materials", obj{"name": "water"})
			return m
		}, func() *made {
			m := plate()
			m.add("materials", obj{"name": "glass"})
			m.add("materials", obj{"name": "glass.001"})
			return m
		}, "glass.001"},
		{"MT02", "error", "limits: {materials: 1}", plate, func() *made {
			m := plate()
			m.add("materials", obj{"name": "glass"})
			return m
		}, ""},
		{"MT03", "warning", "materials: {there: [boards]}", plate, func() *made {
			m := plate()
			m.at("materials", 0)["name"] = "Boards_01"
			return m
		}, "Boards_01"},
		{"TR01", "warning", "transparency: true", func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(8, 4, color.NRGBA{1, 2, 3, 250}) // as good as opaque
			return m
		}, func() *made {
			m := plate()
			m.files["m/w.png"] = pngOf(8, 4, color.NRGBA{1, 2, 3, 100})
			return m
		}, "boards"},
		{"TR02", "warning", "transparency: true", func() *made {
			m := plate()
			m.at("materials", 0)["alphaMode"] = "BLEND"
			m.files["m/w.png"] = pngOf(8, 4, color.NRGBA{1, 2, 3, 100})
			return m
		}, func() *made {
			m := plate()
			m.at("materials", 0)["alphaMode"] = "BLEND"
			return m
		}, "boards"},
		{"TR01", "warning", "transparency: true", plate, func() *made {
			m := plate()
			m.at("materials", 0)["pbrMetallicRoughness"].(obj)["baseColorFactor"] = []float64{1, 1, 1, 0.5}
			return m
		}, "boards"},
		{"CO01", "warning", "colliders: {as: physics}", func() *made {
			m := plate()
			m.collides(obj{"type": "box", "box": obj{"size": []float64{1, 1, 1}}})
			return m
		}, plate, "plate"},
		{"CO01", "warning", "colliders: {as: ending, ending: _solid}", func() *made {
			m := plate()
			m.add("nodes", obj{"name": "plate_solid", "mesh": 0})
			return m
		}, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "other_solid", "mesh": 0})
			return m
		}, "plate"},
		{"CO02", "warning", "colliders: {as: physics, shapes: [box]}", func() *made {
			m := plate()
			m.collides(obj{"type": "box", "box": obj{"size": []float64{1, 1, 1}}})
			return m
		}, func() *made {
			m := plate()
			m.collides(obj{"type": "sphere", "sphere": obj{"radius": 1}})
			return m
		}, "plate"},
		{"CO03", "warning", "colliders: {as: ending, ending: _solid, without: {node: '*door*'}}", func() *made {
			m := plate()
			m.add("nodes", obj{"name": "door", "mesh": 0})
			m.add("nodes", obj{"name": "plate_solid", "mesh": 0})
			return m
		}, func() *made {
			m := plate()
			m.add("nodes", obj{"name": "door", "mesh": 0})
			m.add("nodes", obj{"name": "door_solid", "mesh": 0})
			return m
		}, "door_solid"},
		{"AN01", "warning", "motions: {none: true}", plate, func() *made {
			m := plate()
			m.add("animations", obj{"name": "sway"})
			return m
		}, "sway"},
		{"VR01", "warning", "variants: one", plate, func() *made {
			m := plate()
			two := []any{obj{"name": "a"}, obj{"name": "b"}}
			m.doc["extensions"] = obj{"KHR_materials_variants": obj{"variants": two}}
			return m
		}, ""},
		{"LC01", "error", "licence: {avatar: true}", func() *made {
			m := plate()
			m.doc["extensions"] = obj{"VRMC_vrm": obj{"meta": obj{"authors": []string{"Wren"}, "licenseUrl": "x"}}}
			return m
		}, func() *made {
			m := plate()
			m.doc["extensions"] = obj{"VRMC_vrm": obj{"meta": obj{"authors": []string{}, "licenseUrl": "x"}}}
			return m
		}, ""},
		{"OW01", "error", "rules: [{rule: tools, where: {material: 'tool_*'}}]", plate, func() *made {
			m := plate()
			m.at("materials", 0)["name"] = "tool_clip"
			return m
		}, "tool_clip"},
	} {
		lines := func(m *made) (out []Line) {
			text := "target: x\nformat: glb\n" + c.sheet + "\n"
			if m.doc["unit"] == "centimetres" {
				text += "basis: {up: +y, front: +z, handedness: right, metres_per_unit: 0.01}\n"
				delete(m.doc, "unit")
			}
			s, err := parseSheet("x", []byte(text))
			if err != nil {
				t.Fatal(err)
			}
			files := map[string][]byte{"m/m.glb": m.glb(t)}
			for p, b := range m.files {
				files[p] = b
			}
			for _, l := range take(s, files, "m/m.glb").Log {
				if strings.HasPrefix(l.Code, "RD") {
					t.Errorf("%s: %s", c.code, l.Text)
				}
				if l.Code == c.code {
					out = append(out, l)
				}
			}
			return out
		}
		if l := lines(c.keeps()); l != nil {
			t.Errorf("%s, %s: what keeps the rule is objected to: %+v", c.code, c.sheet, l)
		}
		l := lines(c.breaks())
		if len(l) != 1 || l[0].Level != c.level || l[0].Thing != c.thing {
			t.Errorf("%s, %s: %+v, want one %s about %q", c.code, c.sheet, l, c.level, c.thing)
		}
	}
}

// What becomes of materials and skeletons is told by name.
func TestStatesAreTold(t *testing.T) {
	s, err := parseSheet("x", []byte("target: x\nformat: glb\nmaterials: {there: [reed]}\n"+
		"skeleton: {bones: [{name: hips}, {name: arm, parent: hips}]}\n"))
	if err != nil {
		t.Fatal(err)
	}
	m := skinned([]float32{.5, .5, 0, 0}, false)
	m.add("materials", obj{"name": "reed"})
	m.add("materials", obj{"name": "Reed 2"})
	m.add("images", obj{"uri": "gone.png"})
	m.add("textures", obj{"source": 1})
	m.add("materials", obj{"name": "lost", "emissiveTexture": obj{"index": 1}})
	r := take(s, map[string][]byte{"m/m.glb": m.glb(t), "m/w.png": m.files["m/w.png"]}, "m/m.glb")
	want := []MaterialState{{"boards", "made"}, {"reed", "used again"}, {"Reed 2", "made twice"},
		{"lost", "missing picture"}}
	if !slices.Equal(r.Materials, want) || r.Skeleton != "merged" {
		t.Errorf("%+v, the skeleton is %s", r.Materials, r.Skeleton)
	}
	// Its colour is the picture's mean: what has none shows the signal colour.
	c := r.world.colours
	if c[3] != (vec{1, 0.85, 0}) || c[0] == c[3] {
		t.Errorf("%v", c)
	}
	s.Skeleton = nil
	if r := take(s, map[string][]byte{"m/m.glb": m.glb(t)}, "m/m.glb"); r.Skeleton != "made" {
		t.Errorf("the skeleton is %s", r.Skeleton)
	}
	if r := take(s, map[string][]byte{"m/m.glb": plate().glb(t)}, "m/m.glb"); r.Skeleton != "none" {
		t.Errorf("the skeleton is %s", r.Skeleton)
	}
}

// Widths and heights by the heads of compressed pictures.
func TestHeadsOfPictures(t *testing.T) {
	dds := append([]byte("DDS "), make([]byte, 124)...)
	binary.LittleEndian.PutUint32(dds[12:], 16)
	binary.LittleEndian.PutUint32(dds[16:], 32)
	ktx := append([]byte("\xabKTX 20\xbb\r\n\x1a\n"), make([]byte, 68)...)
	binary.LittleEndian.PutUint32(ktx[20:], 64)
	binary.LittleEndian.PutUint32(ktx[24:], 128)
	for name, c := range map[string]struct {
		b    []byte
		w, h int
	}{"dds": {dds, 32, 16}, "ktx2": {ktx, 64, 128}, "png": {pngOf(3, 5, opaque), 3, 5}} {
		if w, h, ok := sizeOf(c.b); !ok || w != c.w || h != c.h {
			t.Errorf("%s: %d × %d, %v", name, w, h, ok)
		}
	}
	for name, b := range map[string][]byte{"nothing": nil, "a short DDS": dds[:100], "a short KTX 2": ktx[:40],
		"text": []byte("picture")} {
		if _, _, ok := sizeOf(b); ok {
			t.Errorf("%s has a size", name)
		}
	}
}
