package layout

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image/color"
	"math"
	"strings"
	"testing"

	"excavate/core/scene"
)

// files are the files around one, by name.
type files map[string][]byte

func (f files) around(name string) Surroundings {
	return Surroundings{Name: name, Open: func(ref string) (Input, error) {
		if b, ok := f[ref]; ok {
			return Memory(b), nil
		}
		return nil, errors.New("it is not there")
	}}
}

// writer writes numbers in one byte order.
type writer struct {
	bytes.Buffer
	order binary.ByteOrder
}

func (w *writer) put(values ...any) {
	for _, v := range values {
		if s, ok := v.(string); ok {
			w.WriteString(s)
			continue
		}
		binary.Write(w, w.order, v)
	}
}

func near(a []float32, b ...float64) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range b {
		if math.Abs(float64(a[i])-b[i]) > 1e-3 {
			return false
		}
	}
	return true
}

// The tide mill's archive knows its entries by the hash of their names only;
// folders are records that name their own folder by its number, and a record
// without bytes begins a group.
const tideMill = `layout: tide mill
kind: container
recognise: [{at: 0, ascii: MILL}]
names: {file: '"mill-names.txt"', hash: fnv1a, fold: lower, slash: "\\"}
records:
  item:
    - hash: u32
    - word: {type: u32, bits: {folder: 0+12, kind: 12+4, group: 16+16}}
    - offset: u32
    - size: u32
fields:
  - magic: ascii[4]
  - count: u32
  - items: item[count]
container:
  each: items
  as: i
  name: named(i.hash)
  at: i.offset
  size: i.size
  folder: i.folder - 1
  is_folder: i.kind == 1
`

func TestHashedNamesAndFolderTree(t *testing.T) {
	hash := func(s string) uint32 { // FNV-1a written out
		h := uint32(2166136261)
		for _, c := range []byte(strings.ReplaceAll(strings.ToLower(s), "/", `\`)) {
			h ^= uint32(c)
			h *= 16777619
		}
		return h
	}
	w := &writer{order: binary.LittleEndian}
	w.put("MILL", uint32(5))
	item := func(name string, folder, kind, size int) {
		w.put(hash(name), uint32(folder|kind<<12), uint32(8+5*16), uint32(size))
	}
	item("Wheels", 0, 1, 0)
	item("Shafts", 1, 1, 0)
	item("Oak/Long.hull", 2, 0, 3)
	item("nobody wrote this down", 1, 0, 2)
	item("Sluice.wash", 0, 0, 4)
	w.put("abcd")
	l := compile(t, tideMill)
	around := files{"mill-names.txt": []byte("Wheels\r\nShafts\nOak/Long.hull\nSluice.wash\n")}.around("mill.bin")
	got, err := l.Entries(context.Background(), Memory(w.Bytes()), around)
	if err != nil {
		t.Fatal(err)
	}
	unknown := fmt.Sprintf("Wheels/%08x", hash("nobody wrote this down"))
	want := []string{"Wheels/Shafts/Oak/Long.hull", unknown, "Sluice.wash"}
	for i, e := range got {
		if e.Name != want[i] || e.Err != nil {
			t.Errorf("entry %d: %q, %v; want %q", i, e.Name, e.Err, want[i])
		}
	}
	// Without the list the hashes themselves are the names.
	if got, err = l.Entries(context.Background(), Memory(w.Bytes()), Surroundings{}); err != nil || got[2].Name != fmt.Sprintf("%08x", hash("Sluice.wash")) {
		t.Errorf("%v %v", got, err)
	}
	// A ring of folders is said, and the entry stays.
	ring := bytes.Clone(w.Bytes())
	binary.LittleEndian.PutUint32(ring[8+4:], 2|1<<12)
	if got, err = l.Entries(context.Background(), Memory(ring), around); err != nil || got[0].Err == nil || !strings.Contains(got[0].Err.Error(), "ring") {
		t.Errorf("%v %v", got, err)
	}
}

func TestHashes(t *testing.T) {
	for _, c := range []struct {
		params, name string
		want         uint64
	}{
		// From the FNV page's test vectors and the check value of CRC-32.
		{"hash: fnv1a", "foobar", 0xbf9cf968},
		{"hash: fnv1a, bits: 64", "foobar", 0x85944171f73967e8},
		{"hash: fnv1", "foobar", 0x31f0b262},
		{"hash: crc32", "123456789", 0xcbf43926},
		{"hash: adler32", "Wikipedia", 0x11e60398},
		{"hash: times-add, times: 31", "Ab", 65*31 + 98},
		{"hash: times-xor, times: 33, start: 5381", "a", 5381*33 ^ 97},
	} {
		l := compile(t, "layout: h\nkind: container\nrecognise: [{at: 0, ascii: H}]\nnames: {file: '\"n\"', "+c.params+"}\nfields: [{m: u8}]\ncontainer: {each: '[0]', name: '\"\"', at: 0, size: 0}\n")
		if got := l.nameList.hash([]byte(c.name)); got != c.want {
			t.Errorf("%s of %q: %x, want %x", c.params, c.name, got, c.want)
		}
	}
}

func TestMarkersGroupWhatFollows(t *testing.T) {
	doc := `layout: stilts
kind: container
recognise: [{at: 0, ascii: S}]
records:
  item: [{name: "ascii[6]"}, {size: u8}]
fields: [{magic: "ascii[1]"}, {n: u8}, {items: "item[n]"}]
container:
  each: items
  as: i
  name: i.name
  at: 2
  size: i.size
  group: i.size == 0
`
	file := "S\x04" + "beam\x00\x00\x02" + "roofs\x00\x00" + "ridge\x00\x03" + "eave\x00\x00\x01"
	got, err := compile(t, doc).Entries(context.Background(), Memory([]byte(file)), Surroundings{})
	if err != nil || len(got) != 3 || got[0].Name != "beam" || got[1].Name != "roofs/ridge" || got[2].Name != "roofs/eave" {
		t.Errorf("%+v %v", got, err)
	}
}

func TestNamelessEntries(t *testing.T) {
	doc := `layout: pontoon
kind: container
recognise: [{at: 0, ascii: P}]
fields: [{magic: "ascii[1]"}, {n: u8}, {at: "u8[n]"}]
container: {each: at, as: a, at: a, size: 4}
`
	got, err := compile(t, doc).Entries(context.Background(), Memory([]byte("P\x02\x04\x08HULL\x00\x01\x02\x03")), Surroundings{})
	if err != nil || got[0].Name != "00000.hull" || got[1].Name != "00001" {
		t.Errorf("%+v %v", got, err)
	}
}

// The sluice picture stands in columns of runs; its palette lies in another
// file.
const sluice = `layout: sluice
kind: picture
order: big
recognise: [{at: 0, ascii: SLUI}]
fields:
  - magic: ascii[4]
  - width: u16
  - height: u16
  - column_at: u32[width]
picture:
  width: width
  height: height
  format: indexed8
  columns: {at: "column_at[column]", row: u8, count: u8, before: 1, after: 1, end: 0xff}
  palette: {at: file("colours.pal") + 4, count: 4, format: r8g8b8}
`

func TestColumnsWithThePaletteElsewhere(t *testing.T) {
	w := &writer{order: binary.BigEndian}
	runs := [][]byte{
		{0, 2, 9, 1, 2, 9, 0xff},             // rows 0 and 1
		{0xff},                               // nothing
		{1, 1, 9, 3, 9, 2, 1, 9, 0, 9, 0xff}, // row 1, then row 2
	}
	at := uint32(8 + 4*3)
	w.put("SLUI", uint16(3), uint16(3))
	for _, r := range runs {
		w.put(at)
		at += uint32(len(r))
	}
	for _, r := range runs {
		w.Write(r)
	}
	pal := files{"colours.pal": append([]byte("head"), 10, 11, 12, 20, 21, 22, 30, 31, 32, 40, 41, 42)}
	l := compile(t, sluice)
	img, err := l.Image(context.Background(), Memory(w.Bytes()), pal.around("gate.slui"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		x, y int
		want color.NRGBA
	}{{0, 0, color.NRGBA{20, 21, 22, 255}}, {0, 1, color.NRGBA{30, 31, 32, 255}}, {0, 2, color.NRGBA{}}, {1, 1, color.NRGBA{}}, {2, 1, color.NRGBA{40, 41, 42, 255}}, {2, 2, color.NRGBA{10, 11, 12, 255}}} {
		if got := img.NRGBAAt(c.x, c.y); got != c.want {
			t.Errorf("texel %d, %d: %v, want %v", c.x, c.y, got, c.want)
		}
	}
	// The palette's file is not there: the answer names it.
	if _, err = l.Image(context.Background(), Memory(w.Bytes()), Surroundings{}); err == nil || missing(err) == nil || !strings.Contains(err.Error(), "colours.pal") {
		t.Errorf("%v", err)
	}
	// A run that leaves the picture.
	bad := bytes.Clone(w.Bytes())
	bad[20+1] = 9
	if _, err = l.Image(context.Background(), Memory(bad), pal.around("x")); err == nil || !strings.Contains(err.Error(), "column 0 has a run of 9 texels") {
		t.Errorf("%v", err)
	}
}

func TestLevelsAndFaces(t *testing.T) {
	doc := `layout: cube
kind: picture
recognise: [{at: 0, ascii: C}]
fields: [{magic: "ascii[1]"}]
picture:
  width: 2
  height: 2
  format: l8
  at: 1
  levels: 2
  images: {are: faces, count: 6}
`
	doc = strings.Replace(doc, "format: l8", "format: r8", 1)
	file := []byte{'C'}
	for face := 0; face < 6; face++ {
		for i := 0; i < 5; i++ {
			file = append(file, byte(10*face+i))
		}
	}
	p, err := compile(t, doc).Picture(context.Background(), Memory(file), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Images) != 12 || p.Images[0].Label != "face 0" || p.Images[3].Label != "face 1, level 1" || p.Images[3].Rect.Dx() != 1 || p.Images[3].Pix[0] != 14 || p.Images[10].Pix[0] != 50 {
		t.Errorf("%d images, %+v", len(p.Images), p.Images[3])
	}
	if _, err = compile(t, doc).Picture(context.Background(), Memory(file[:20]), Surroundings{}); err == nil {
		t.Error("a picture that is cut off was accepted")
	}
}

// The heron's frames: vertex animation, with a named frame on the beak for
// every pose.
const heron = `layout: heron
kind: model
recognise: [{at: 0, ascii: HERO}]
readings:
  bytes: {choices: [normal, colour], about: what the last three bytes of a vertex are}
records:
  frame:
    - name: ascii[8]
    - scale: f32[3]
    - origin: f32[3]
    - vertices: bytes[vertex_count * 8]
    - beak: f32[12]
fields:
  - magic: ascii[4]
  - vertex_count: {type: u16, must: vertex_count < 1000}
  - frame_count: u16
  - face_count: u16
  - faces: u16[face_count * 3]
  - frames: frame[frame_count]
model:
  basis: {up: +Z, front: +X, handedness: right, metres_per_unit: 1}
  nodes:
    - {each: '["beak"]', as: n, name: n, kind: helper}
  parts:
    each: '[0]'
    mesh: '"heron"'
    vertices: {at: "start(frames[0].vertices)", count: vertex_count, stride: 8}
    attributes:
      - {is: position, at: 0, format: u8x3, scale: "frames[0].scale", add: "frames[0].origin"}
      - {is: normal, at: 4, format: unorm8x2, encoding: angles, scale: '[6.2831853, 3.1415926]', add: '[0, -1.5707963]', when: bytes == "normal"}
      - {is: colour, at: 4, format: unorm8x3, when: bytes == "colour"}
    triangles: {at: 10, count: face_count, format: u16, winding: counter-clockwise}
    shapes:
      each: frames
      as: f
      name: f.name
      vertices: {at: start(f.vertices), stride: 8}
      attributes:
        - {is: position, at: 0, format: u8x3, scale: f.scale, add: f.origin}
      motion: '"" if index == 0 else f.name[:4]'
      seconds: index / 10
  motions:
    each: '["peck"]'
    as: m
    name: m
    tracks:
      each: '[0]'
      node: 0
      path: matrix
      count: frame_count
      rate: 10
      values: {at: "start(frames[0].vertices) + vertex_count * 8", stride: "vertex_count * 8 + 80", format: f32x12}
`

func heronFile() []byte {
	w := &writer{order: binary.LittleEndian}
	w.put("HERO", uint16(3), uint16(3), uint16(1), [3]uint16{0, 1, 2})
	for f := 0; f < 3; f++ {
		name := make([]byte, 8)
		copy(name, fmt.Sprintf("peck%d", f))
		w.Write(name)
		w.put([3]float32{0.5, 1, 2}, [3]float32{0, 0, float32(f)})
		for v := 0; v < 3; v++ {
			w.Write([]byte{byte(2 * v), byte(v), byte(v), 0, 64, 127, 255, 0})
		}
		w.put([12]float32{0, -1, 0, float32(f), 1, 0, 0, 2, 0, 0, 1, 3})
	}
	return w.Bytes()
}

func TestVertexAnimationWithAttachments(t *testing.T) {
	l := compile(t, heron)
	s, err := l.Scene(context.Background(), Memory(heronFile()), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Meshes[0].Parts[0]
	if !near(p.Positions[3:6], 1, 1, 2) || len(p.Morphs) != 3 || p.Morphs[2].Name != "peck2" || !near(p.Morphs[2].Positions[3:6], 0, 0, 2) {
		t.Errorf("positions %v, shapes %+v", p.Positions, p.Morphs)
	}
	// A quarter turn about Z, on the horizon.
	if math.Abs(float64(p.Normals[1])-1) > 1e-2 || p.Colours != nil {
		t.Errorf("normals %v", p.Normals)
	}
	if len(s.Motions) != 1 || len(s.Motions[0].Channels) != 4 {
		t.Fatalf("motions %+v", s.Motions)
	}
	var shapes, turn *scene.Channel
	for i := range s.Motions[0].Channels {
		switch c := &s.Motions[0].Channels[i]; c.Path {
		case scene.PathWeights:
			shapes = c
		case scene.PathRotation:
			turn = c
		}
	}
	if fmt.Sprint(shapes.Times, shapes.Values) != "[0.1 0.2] [0 1 0 0 0 1]" {
		t.Errorf("the times of shapes %v %v", shapes.Times, shapes.Values)
	}
	h := math.Sqrt2 / 2
	if turn.Node != 0 || s.Nodes[0].Name != "beak" || !near(turn.Values[:4], 0, 0, h, h) {
		t.Errorf("the beak's turn %v", turn.Values)
	}
	// The other reading of the same bytes.
	if s, err = l.Scene(context.Background(), Memory(heronFile()), Surroundings{Readings: map[string]string{"bytes": "colour"}}); err != nil {
		t.Fatal(err)
	}
	if p = &s.Meshes[0].Parts[0]; p.Normals != nil || len(p.Colours) != 1 || !near(p.Colours[0].Data[:4], 64.0/255, 127.0/255, 1, 1) {
		t.Errorf("colours %v, normals %v", p.Colours, p.Normals)
	}
	if _, err = l.Scene(context.Background(), Memory(heronFile()), Surroundings{Readings: map[string]string{"bytes": "taste"}}); err == nil || !strings.Contains(err.Error(), "line 5") {
		t.Errorf("%v", err)
	}
	if r := l.Readings(); len(r) != 1 || r[0].Choices[1] != "colour" {
		t.Errorf("%+v", r)
	}
}

// The punt: big-endian, strips with a restart and joins, normals folded onto
// an octahedron, bones by name with Euler angles, rotations packed into a word.
const punt = `layout: punt
kind: model
order: big
recognise: [{at: 0, ascii: PUNT}]
records:
  bone: [{name: "ascii[4]"}, {under: "ascii[4]"}, {at: "i16[3]"}, {turn: "i16[3]"}]
fields:
  - magic: ascii[4]
  - vertices: u16
  - indices: u16
  - keys: u16
  - bones: bone[3]
  - positions: {type: "bytes[vertices * 6]", align: 4}
  - normals: bytes[vertices * 2]
  - hangs: bytes[vertices * 3]
  - strip: bytes[indices * 2]
  - turns: bytes[keys * 4]
model:
  basis: {up: +Y, front: +Z, handedness: right, metres_per_unit: 1}
  nodes:
    - each: bones
      as: b
      name: b.name
      parent_name: b.under
      kind: bone
      translation: '[x / 256 for x in b.at]'
      rotation: '[x * 3.14159265 / 32768 for x in b.turn]'
      rotation_order: zyx
  parts:
    each: '[0]'
    mesh: '"punt"'
    vertices: {count: vertices}
    bones: '[2, 0]'
    attributes:
      - {is: position, from: start(positions), format: i16x3, scale: 1 / 256}
      - {is: normal, from: start(normals), format: snorm8x2, encoding: octahedral}
      - {is: joints, from: start(hangs), stride: 3, format: u8x2}
      - {is: weights, from: start(hangs) + 2, stride: 3, format: unorm8}
    triangles: {at: start(strip), count: indices, format: u16, form: strip, restart: 0xffff}
  motions:
    each: '[0]'
    name: '"punting"'
    tracks:
      each: '[1]'
      as: n
      node: n
      path: rotation
      count: keys
      rate: 30
      smallest_three: {largest: 30+2, a: 20+10, b: 10+10, c: 0+10}
      values: {at: start(turns), format: u32}
`

func puntFile() []byte {
	w := &writer{order: binary.BigEndian}
	w.put("PUNT", uint16(6), uint16(12), uint16(2))
	bone := func(name, under string, at, turn [3]int16) {
		w.put(name, (under + "\x00\x00\x00\x00")[:4], at, turn)
	}
	bone("hull", "", [3]int16{0, 256, 0}, [3]int16{})
	bone("pole", "hull", [3]int16{256, 0, 0}, [3]int16{0, 0, 16384}) // a quarter turn about Z
	bone("grip", "pole", [3]int16{0, 512, 0}, [3]int16{})
	for w.Len()%4 != 0 {
		w.put(uint8(0))
	}
	for v := 0; v < 6; v++ {
		w.put([3]int16{int16(v / 2 * 256), int16(v % 2 * 256), 0})
	}
	for v := 0; v < 6; v++ {
		w.put([2]int8{0, 0}) // towards +Z
	}
	for v := 0; v < 6; v++ {
		w.put([3]uint8{0, 1, 51}) // a fifth to the grip, the rest to the hull
	}
	// Two triangles, a join of repeated indices, then after a restart two more.
	w.put([12]uint16{0, 2, 1, 3, 3, 0xffff, 2, 4, 3, 5, 5, 5})
	half := uint32(math.Round((0.5*math.Sqrt2 + 1) / 2 * 1023))
	mid := uint32(512)
	w.put(3<<30|mid<<20|mid<<10|mid, uint32(3<<30|half<<20|mid<<10|mid))
	return w.Bytes()
}

func TestBigEndianStripsAndPackedMotion(t *testing.T) {
	l := compile(t, punt)
	s, err := l.Scene(context.Background(), Memory(puntFile()), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	p := &s.Meshes[0].Parts[0]
	if got := fmt.Sprint(p.Triangles); got != "[0 2 1 1 2 3 2 4 3 3 4 5]" {
		t.Errorf("triangles %s", got)
	}
	for i := 0; i+2 < len(p.Triangles); i += 3 { // all of them face +Z, as their normals do
		v := func(k int) []float32 { return p.Positions[3*p.Triangles[i+k]:] }
		if z := (v(1)[0]-v(0)[0])*(v(2)[1]-v(0)[1]) - (v(1)[1]-v(0)[1])*(v(2)[0]-v(0)[0]); z <= 0 {
			t.Errorf("triangle %d faces away", i/3)
		}
	}
	if !near(p.Normals[:3], 0, 0, 1) {
		t.Errorf("normals %v", p.Normals[:3])
	}
	if fmt.Sprint(p.Joints[:2]) != "[2 0]" || !near(p.Weights[:2], 0.2, 0.8) {
		t.Errorf("joints %v, weights %v", p.Joints[:2], p.Weights[:2])
	}
	// The grip is two up the pole, which a quarter turn lays along -X.
	world := s.World()
	grip := world[2]
	if s.Nodes[2].Name != "grip" || math.Abs(grip[12]+1) > 1e-3 || math.Abs(grip[13]-1) > 1e-3 {
		t.Errorf("the grip is at %v", grip[12:15])
	}
	ch := &s.Motions[0].Channels[0]
	h := math.Sqrt2 / 2
	if !near(ch.Times, 0, 1.0/30) || math.Abs(float64(ch.Values[3])-1) > 2e-3 || math.Abs(float64(ch.Values[4])-h*h) > 2e-3 {
		t.Errorf("keys %v %v", ch.Times, ch.Values)
	}
	for cut := 0; cut < len(puntFile()); cut += 3 {
		if _, err := l.Scene(context.Background(), Memory(puntFile()[:cut]), Surroundings{}); err == nil {
			t.Errorf("a file cut at %d was accepted", cut)
		}
	}
}

func TestFaceForms(t *testing.T) {
	doc := `layout: faces
kind: model
recognise: [{at: 0, ascii: F}]
fields: [{magic: "ascii[1]"}, {v: "bytes[24]"}, {i: "bytes[*]"}]
model:
  parts:
    each: '[0]'
    mesh: '"m"'
    vertices: {at: 1, count: 8, stride: 3}
    attributes: [{is: position, at: 0, format: i8x3}]
    triangles: %s
`
	// A concave quad in corners 0 to 3 (corner 3 dents it), a square in 4 to 7.
	file := []byte("F\x00\x00\x00\x04\x00\x00\x00\x04\x00\x01\x01\x00" + "\x00\x00\x00\x01\x00\x00\x01\x01\x00\x00\x01\x00")
	for _, c := range []struct{ faces, indices, want string }{
		{"{at: start(i), count: 2, format: u8, form: quads}", "\x00\x01\x02\x03\x04\x05\x06\x07", "[3 0 1 3 1 2 4 5 6 4 6 7]"},
		{"{at: start(i), count: 7, format: u8, form: fan, restart: 255}", "\x04\x05\x06\x07\xff\x00\x01", "[4 5 6 4 6 7]"},
		{"{at: start(i) + 2, count: 2, format: u8, form: polygons, sizes: {at: start(i), format: u8}}", "\x04\x03\x00\x01\x02\x03\x04\x05\x06", "[3 0 1 3 1 2 4 5 6]"},
		{"{count: 2, winding: clockwise}", "", "[0 2 1 3 5 4]"},
		{"{at: start(i), count: 1, format: u8, add: 4}", "\x00\x01\x02", "[4 5 6]"},
	} {
		s, err := compile(t, fmt.Sprintf(doc, c.faces)).Scene(context.Background(), Memory([]byte(string(file)+c.indices)), Surroundings{})
		if err != nil {
			t.Errorf("%s: %v", c.faces, err)
			continue
		}
		if got := sortedTriangles(s.Meshes[0].Parts[0].Triangles); got != c.want {
			t.Errorf("%s: %s, want %s", c.faces, got, c.want)
		}
	}
}

// sortedTriangles turns each triangle so that it begins as the test wrote it
// where the cutter may begin at another corner.
func sortedTriangles(t []uint32) string {
	out := append([]uint32{}, t...)
	for i := 0; i+2 < len(out); i += 3 {
		for k := 0; k < 3; k++ {
			if out[i] == 3 || out[i+1] != 3 && out[i+2] != 3 && out[i] <= out[i+1] && out[i] <= out[i+2] {
				break
			}
			out[i], out[i+1], out[i+2] = out[i+1], out[i+2], out[i]
		}
	}
	return fmt.Sprint(out)
}

// The raft: a small console's model. Its vertices lie in a bank, its picture
// in memory that is there only while a game runs; the bank's number and the
// place are bits of a pointer.
const raft = `layout: raft
kind: model
order: big
recognise: [{at: 0, ascii: RAFT}]
pointer: {space: 24+8, offset: 0+24}
spaces:
  self: {is: 1}
  bank: {is: 3, file: '"bank.bin"', base: 0x100}
  live:
    is: 8
    file: '"live.bin"'
    base: 0x4000
    texels:
      recognise: [{at: 0, ascii: BM}]
      fields: [{m: "bytes[10]"}, {texels_at: u32}, {head: u32}, {width: i32}, {height: i32}]
      at: texels_at
      row: width
      rows: height
      stride: (width + 3) // 4 * 4
      order: bottom-up
      base: 0x4000
fields:
  - magic: ascii[4]
  - list: u32
model:
  basis: {up: +Y, front: +Z, handedness: right, metres_per_unit: 1}
  nodes:
    - {each: '[[0, 1, 0], [0, 2, 0]]', as: b, name: '"bone" + str(index)', kind: bone, parent: index - 1, translation: b}
  program:
    slots: 8
    stride: 8
    space: bone
    attributes:
      - {is: position, at: 0, format: i16x3}
      - {is: uv, name: a, at: 6, format: u8x2}
    script: |
      def tile(m, w):
          side = (w >> 32) & 255
          m.uv(1 / side, 1 / side)
          m.material("skin", colour = m.picture("skin", at = pointer(w & 0xffffffff), width = side, height = side,
              format = "indexed8", palette = space("bank", 0x100), palette_count = 2, palette_format = "r8g8b8"))

      def build(m, f):
          m.mesh("raft")
          m.run(pointer(f.list), commands(size = 8, order = "big", code = bits(56, 8), do = {
              1: vertices(at = bits(0, 32), count = bits(48, 8), to = bits(40, 8)),
              2: draw(bits(0, 8), bits(8, 8), bits(16, 8)),
              3: call(at = bits(0, 32)),
              4: bone(bits(0, 8)),
              5: lambda_free,
              9: end(),
          }))
`

func raftDoc() string {
	doc := strings.Replace(raft, "5: lambda_free,", "5: set_tile,", 1)
	return strings.Replace(doc, "          m.mesh(\"raft\")\n", "          m.mesh(\"raft\")\n          def set_tile(w):\n              tile(m, w)\n", 1)
}

func raftFiles() (file, bank, memory, dump []byte) {
	w := &writer{order: binary.BigEndian}
	cmd := func(words ...uint32) { w.put(words) }
	w.put("RAFT", uint32(0x01000000+8+16))
	cmd(0x02000000, 0x020100) // a list of its own: one triangle of the slots 0, 1, 2
	cmd(0x09000000, 0)
	cmd(0x05000002, 0x08004000) // the picture, two texels a side
	cmd(0x04000000, 0)
	cmd(0x01020000, 0x03000106) // two vertices into slot 0
	cmd(0x04000000, 1)
	cmd(0x01010200, 0x03000106+16)
	cmd(0x03000000, 0x01000008)
	cmd(0x09000000, 0)
	b := &writer{order: binary.BigEndian}
	b.put([6]uint8{200, 0, 0, 0, 0, 200})
	for v := 0; v < 3; v++ {
		b.put([3]int16{int16(v), 0, int16(v * v)}, [2]uint8{uint8(v), 1})
	}
	d := &writer{order: binary.LittleEndian}
	d.put("BM", [8]uint8{}, uint32(30), uint32(40), int32(2), int32(2), uint32(0))
	d.put([8]uint8{1, 0, 0, 0, 0, 1, 0, 0}) // the lower row first, padded
	return w.Bytes(), b.Bytes(), []byte{0, 1, 1, 0}, d.Bytes()
}

func TestCommandStreamsThroughAddressSpaces(t *testing.T) {
	l := compile(t, raftDoc())
	file, bank, memory, dump := raftFiles()
	read := func(f files) (*scene.Scene, error) {
		return l.Scene(context.Background(), Memory(file), f.around("a.raft"))
	}
	// Nothing is bound: the vertices are wanted first, and the answer names them.
	if _, err := read(nil); err == nil || missing(err) == nil || !strings.Contains(err.Error(), "bank.bin") {
		t.Errorf("%v", err)
	}
	s, err := read(files{"bank.bin": bank})
	if err != nil {
		t.Fatal(err)
	}
	if p := s.Pictures[0]; !p.Missing() || p.In != "live.bin" || !strings.Contains(strings.Join(p.Looked, " "), "the space live") {
		t.Errorf("%+v", p)
	}
	p := &s.Meshes[0].Parts[0]
	if fmt.Sprint(p.Triangles) != "[0 1 2]" || !near(p.Positions, 0, 1, 0, 1, 1, 1, 2, 3, 4) || fmt.Sprint(p.Joints) != "[0 0 1]" || !near(p.UVs[0].Data, 0, 0.5, 0.5, 0.5, 1, 0.5) {
		t.Errorf("%v %v %v %v", p.Triangles, p.Positions, p.Joints, p.UVs)
	}
	// The memory and the dump of the picture say the same.
	var pictures []string
	for _, live := range [][]byte{memory, dump} {
		if s, err = read(files{"bank.bin": bank, "live.bin": live}); err != nil {
			t.Fatal(err)
		}
		if s.Pictures[0].Missing() || s.Pictures[0].Width != 2 || !strings.Contains(s.Pictures[0].Found, "live.bin") {
			t.Errorf("%+v", s.Pictures[0])
		}
		pictures = append(pictures, string(s.Pictures[0].Data))
	}
	if pictures[0] != pictures[1] {
		t.Error("the dump and the memory give different pictures")
	}
	if _, ok := compile(t, raftDoc()).spaces["live"]; !ok {
		t.Error("no space")
	}
}

func TestScriptErrorsSayWhere(t *testing.T) {
	file, bank, _, _ := raftFiles()
	for _, c := range []struct{ old, new, want string }{
		{"side = (w >> 32) & 255", "side = 0", "floating-point division by zero"},
		{"9: end(),", "", "the code 0x9 is no command"},
		{"2: draw(bits(0, 8)", "2: draw(bits(0, 8, add = 40)", "the slots 40, 1 and 2, and there are 8"},
		{"m.mesh(\"raft\")", "m.mesh(1)", "got int, want string"},
		{"m.mesh(\"raft\")", "m.mesh(\"raft\")\n          x = [0]\n          for i in range(100):\n              x = x + x", "does not end within"},
		{"m.mesh(\"raft\")", "m.mesh(\"raft\")\n          x = \"ab\"\n          for i in range(100):\n              x += x", "a text of more than"},
		{"def build(m, f):", "def build(m, f):\n          for i in range(1 << 30):\n              pass\n", "does not end within"},
		{"3: call(at = bits(0, 32))", "3: call(at = 0x01000040)", "more than 32 deep"},
	} {
		doc := strings.Replace(raftDoc(), c.old, c.new, 1)
		if doc == raftDoc() {
			t.Fatalf("%q is not in the layout", c.old)
		}
		_, err := compile(t, doc).Scene(context.Background(), Memory(file), files{"bank.bin": bank}.around(""))
		var le *Error
		if !errors.As(err, &le) || !strings.Contains(le.Error(), c.want) || le.Line < 37 {
			t.Errorf("%s: got %v, want %q", c.new, err, c.want)
		}
	}
	// What goes wrong in a function that a command calls names both.
	_, err := compile(t, strings.Replace(raftDoc(), "side = (w >> 32) & 255", "side = fail(\"no side\")", 1)).Scene(context.Background(), Memory(file), files{"bank.bin": bank}.around(""))
	if err == nil || !strings.Contains(err.Error(), "no side (in ") || !strings.Contains(err.Error(), "called from set_tile") || !strings.Contains(err.Error(), "tile line 38") {
		t.Errorf("%v", err)
	}
	for _, c := range []struct{ old, new, want string }{
		{"m.mesh(\"raft\")", "m.mesh(rafts)", "undefined: rafts"},
		{"m.mesh(\"raft\")", "m.mesh(*[\"raft\"])", "* before an argument"},
		{"m.mesh(\"raft\")", "m.mesh(\", \".join([]))", ".join() is not used"},
		{"def build(m, f):", "def make(m, f):", "defines no function build"},
		{"def build(m, f):", "load(\"x\", \"y\")\n      def build(m, f):", ""},
		{"side = (w >> 32) & 255", "side = (w >> 32", "got"},
	} {
		_, err := Compile("raft.yaml", []byte(strings.Replace(raftDoc(), c.old, c.new, 1)))
		var le *Error
		if !errors.As(err, &le) || !strings.Contains(err.Error(), c.want) || le.Line < 35 || le.Line > 60 {
			t.Errorf("%s: got %v, want %q", c.new, err, c.want)
		}
	}
}

func TestNodesByDepthAndMatrix(t *testing.T) {
	doc := `layout: rig
kind: model
recognise: [{at: 0, ascii: R}]
records:
  bone: [{depth: u8}, {m: "f32[12]"}]
fields: [{magic: "ascii[1]"}, {bones: "bone[*]"}]
model:
  nodes:
    - {each: bones, as: b, name: '"b" + str(index)', kind: bone, depth: b.depth, matrix: b.m, matrix_order: columns, space: model}
`
	w := &writer{order: binary.LittleEndian}
	w.put("R")
	for i, depth := range []uint8{0, 1, 2, 1} {
		w.put(depth, [12]float32{1, 0, 0, 0, 1, 0, 0, 0, 1, float32(i), float32(10 * i), 0})
	}
	s, err := compile(t, doc).Scene(context.Background(), Memory(w.Bytes()), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	if s.Nodes[2].Parent != 1 || s.Nodes[3].Parent != 0 || s.Nodes[2].Translation != [3]float32{1, 10, 0} || s.Nodes[3].Translation != [3]float32{3, 30, 0} {
		t.Errorf("%+v", s.Nodes)
	}
	bad := bytes.Clone(w.Bytes())
	bad[1+49] = 7
	if _, err := compile(t, doc).Scene(context.Background(), Memory(bad), Surroundings{}); err == nil || !strings.Contains(err.Error(), "lies 7 deep") {
		t.Errorf("%v", err)
	}
}

func TestFieldsByTagOrderAndScale(t *testing.T) {
	doc := `layout: odd
kind: container
recognise: [{at: 0, ascii: O}]
records:
  near: [{offset: u8}]
  far: [{offset: u32}]
fields:
  - magic: ascii[1]
  - tag: u8
  - swapped: u8
  - n: {type: u16, order: {by: swapped, 0: little, 1: big}}
  - place: {type: {by: tag, 1: near, 2: far}}
  - ratio: {type: i16, scale: 1 / 4096, must: ratio == -0.5}
container: {each: '[0]', name: '"x"', at: place.offset, size: n}
`
	for _, c := range []struct{ file, want string }{
		{"O\x01\x00\x02\x00\x05\x00\xf8", "5 2"},
		{"O\x02\x01\x00\x03\x04\x00\x00\x00\x00\xf8", "4 3"},
		{"O\x03\x00\x02\x00\x05\x00\xf8", "knows only 1, 2"},
	} {
		got, err := compile(t, doc).Entries(context.Background(), Memory([]byte(c.file)), Surroundings{})
		text := fmt.Sprint(err)
		if err == nil {
			text = fmt.Sprint(got[0].Offset, got[0].Size)
		}
		if !strings.Contains(text, c.want) {
			t.Errorf("%q: %s, want %s", c.file, text, c.want)
		}
	}
}

func TestPackedWords(t *testing.T) {
	for _, c := range []struct {
		format string
		word   uint32
		want   []float64
	}{
		{"a2b10g10r10_snorm_pack32", 0x4007fe01, []float64{-1, 1, 0, 1}},
		{"r5g6b5_unorm_pack16", 0xf81f, []float64{1, 0, 1}},
		{"x2b10g10r10_sint_pack32", 0x3ff00001, []float64{1, 0, -1}},
		{"b11g11r10_uint_pack32", 1<<21 | 2<<10 | 3, []float64{3, 2, 1}},
	} {
		e, err := parseElement(c.format)
		if err != nil {
			t.Fatal(err)
		}
		b := binary.LittleEndian.AppendUint32(nil, c.word)
		if got := e.decode(b, 4, 1, e.n, littleEndian, nil, nil); !near(got, c.want...) {
			t.Errorf("%s: %v, want %v", c.format, got, c.want)
		}
	}
	for _, bad := range []string{"b10g10_unorm_pack32", "r16_unorm_pack32", "r32_snormal_pack32", "r8r8_unorm_pack16"} {
		if _, err := parseElement(bad); err == nil {
			t.Errorf("%s was accepted", bad)
		}
	}
}

func TestExplain(t *testing.T) {
	w := &writer{order: binary.LittleEndian}
	w.put("MILL", uint32(300))
	for i := range 300 {
		w.put(uint32(i), uint32(0), uint32(8+300*16+4), uint32(2))
	}
	w.put([4]uint8{}, "ab", "unexplained")
	l := compile(t, tideMill)
	x := l.Explain(context.Background(), Memory(w.Bytes()), Surroundings{}, 8+200*16+5)
	if x.Err != nil || x.Made != "300 entries" {
		t.Fatalf("%+v", x)
	}
	items := x.Pieces[2]
	if items.Name != "items" || items.Count != 300 || items.Stride != 16 || items.First > 200 || items.First+len(items.Pieces) <= 200 {
		t.Fatalf("%+v", items)
	}
	one := items.Pieces[200-items.First]
	if one.Off != 8+200*16 || one.Pieces[0].Name != "hash" || one.Pieces[0].Value != "200" || one.Pieces[0].Line == 0 {
		t.Errorf("%+v %+v", one, one.Pieces[0])
	}
	if x.Covered != x.Size-4-11 || len(x.Gaps) != 2 || x.Gaps[0].Size != 11 || x.Gaps[1].Size != 4 {
		t.Errorf("covered %d of %d, gaps %v", x.Covered, x.Size, x.Gaps)
	}
	// A file that is cut off tells what was read before, and where it ended.
	x = l.Explain(context.Background(), Memory(w.Bytes()[:100]), Surroundings{}, -1)
	if x.Err == nil || len(x.Pieces) != 3 || x.Pieces[2].Error == "" || x.Pieces[1].Value != "300" {
		t.Errorf("%+v", x)
	}
	file, bank, _, _ := raftFiles()
	x = compile(t, raftDoc()).Explain(context.Background(), Memory(file), files{"bank.bin": bank}.around(""), -1)
	if x.Err != nil || x.Covered != x.Size || !strings.Contains(x.Made, "1 triangles") {
		t.Errorf("%v, %d of %d, %s, %v", x.Err, x.Covered, x.Size, x.Made, x.Gaps)
	}
	// A record in a record, read one by one, and a must that refuses.
	x = compile(t, heron).Explain(context.Background(), Memory(heronFile()), Surroundings{}, -1)
	if x.Err != nil || x.Pieces[5].Count != 3 || x.Pieces[5].Pieces[1].Pieces[0].Value != "peck1" {
		t.Errorf("%v %+v", x.Err, x.Pieces[5])
	}
	big := bytes.Clone(heronFile())
	big[5] = 0xff
	if x = compile(t, heron).Explain(context.Background(), Memory(big), Surroundings{}, -1); x.Err == nil || x.Pieces[1].Error == "" {
		t.Errorf("%+v", x.Pieces[1])
	}
}
