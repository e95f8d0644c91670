package layout

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"excavate/core/pixel"
	"excavate/core/scene"
)

const small = `layout: test
kind: container
recognise:
  - {at: 0, ascii: TEST}
records:
  entry:
    - name_at: u16
    - size: u32
    - offset: u32
fields:
  - magic: ascii[4]
  - count: u16
  - names_size: u16
  - entries: entry[count]
  - names: bytes[names_size]
container:
  each: entries
  as: e
  name: text(names, e.name_at)
  at: e.offset
  size: e.size
`

func smallFile(count int, entries ...[3]uint32) []byte {
	b := []byte("TEST")
	names := "one\x00two\x00"
	b = binary.LittleEndian.AppendUint16(b, uint16(count))
	b = binary.LittleEndian.AppendUint16(b, uint16(len(names)))
	for _, e := range entries {
		b = binary.LittleEndian.AppendUint16(b, uint16(e[0]))
		b = binary.LittleEndian.AppendUint32(b, e[1])
		b = binary.LittleEndian.AppendUint32(b, e[2])
	}
	return append(b, names...)
}

func compile(t testing.TB, doc string) *Layout {
	t.Helper()
	l, err := Compile("test.yaml", []byte(doc))
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestEntries(t *testing.T) {
	l := compile(t, small)
	file := smallFile(2, [3]uint32{0, 3, 0}, [3]uint32{4, 5, 2})
	if !l.Recognises(file) || l.Recognises([]byte("TES")) {
		t.Error("recognition is wrong")
	}
	got, err := l.Entries(context.Background(), Memory(file), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	if len(got) != 2 || got[0].Name != "one" || got[1].Name != "two" || got[1].Size != 5 || got[1].Offset != 2 || got[1].Err != nil {
		t.Errorf("got %+v", got)
	}
	// The same through ranges of a file.
	again, err := l.Entries(context.Background(), Random(strings.NewReader(string(file)), int64(len(file))), Surroundings{})
	if err != nil || fmt.Sprint(again) != fmt.Sprint(got) {
		t.Errorf("by ranges: %+v, %v", again, err)
	}
}

func TestEntryThatPointsPastTheEndIsItsOwnError(t *testing.T) {
	l := compile(t, small)
	file := smallFile(2, [3]uint32{0, 3, 0}, [3]uint32{4, 500, 20})
	got, err := l.Entries(context.Background(), Memory(file), Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	if got[0].Err != nil {
		t.Errorf("the sound entry has %v", got[0].Err)
	}
	var le *Error
	if !errors.As(got[1].Err, &le) || !le.HasOffset || le.Offset != 18 || le.Line == 0 {
		t.Errorf("want an error at the record's offset 18 with a line, got %v", got[1].Err)
	}
}

func TestTruncatedTableNamesOffsetAndLine(t *testing.T) {
	l := compile(t, small)
	_, err := l.Entries(context.Background(), Memory(smallFile(60000)), Surroundings{})
	var le *Error
	if !errors.As(err, &le) {
		t.Fatalf("got %v", err)
	}
	if le.Offset != 8 || le.Line != 14 || !strings.Contains(le.Msg, "60000 x 10 bytes") {
		t.Errorf("got %v", err)
	}
}

func TestCompileErrorsHaveLineAndColumn(t *testing.T) {
	for _, c := range []struct {
		name, old, new, want string
		line, col            int
	}{
		{"unknown key", "  as: e\n", "  az: e\n", `"az" is not known`, 18, 3},
		{"unknown field", "size: e.size", "size: f.size", "f is no field", 21, 9},
		{"syntax", "at: e.offset", "at: e.offset +", "want primary expression", 20, 17},
		{"type", "- count: u16", "- count: u17", `type "u17"`, 12, 12},
		{"twice", "- names_size: u16", "- count: u16", "taken", 13, 5},
		{"missing", "  at: e.offset\n", "", `"at" is missing`, 17, 3},
		{"kind", "kind: container", "kind: picture", `"picture" is missing`, 1, 1},
		{"tab", "kind: container", "\tkind: container", "", 0, 0},
		{"method", "at: e.offset", `at: len("a".replace("a", "bb"))`, ".replace() is not used", 20, 14},
	} {
		_, err := Compile("test.yaml", []byte(strings.Replace(small, c.old, c.new, 1)))
		var le *Error
		if !errors.As(err, &le) {
			t.Errorf("%s: got %v", c.name, err)
			continue
		}
		if !strings.Contains(le.Msg, c.want) || c.line > 0 && (le.Line != c.line || le.Col != c.col) {
			t.Errorf("%s: got line %d column %d: %s; want line %d column %d: %s", c.name, le.Line, le.Col, le.Msg, c.line, c.col, c.want)
		}
	}
}

func TestRecordWithinItself(t *testing.T) {
	_, err := Compile("t", []byte(strings.Replace(small, "    - size: u32\n", "    - again: entry\n    - size: u32\n", 1)))
	if err == nil || !strings.Contains(err.Error(), "contains itself") {
		t.Errorf("got %v", err)
	}
}

func TestEndlessFormulasStop(t *testing.T) {
	for _, f := range []string{
		"len([x for x in range(1 << 40)])",
		"len([1 for a in range(100000) for b in range(100000)])",
		`len("abc" * (1 << 30))`,
		"len([0] * (1 << 30))",
		"1 << 400",
		"max([1, 2] * 100000000)[0]",
	} {
		l := compile(t, strings.Replace(small, "at: e.offset", "at: '"+f+"'", 1))
		start := time.Now()
		got, err := l.Entries(context.Background(), Memory(smallFile(1, [3]uint32{0, 3, 0})), Surroundings{})
		if err != nil {
			t.Errorf("%s: the whole reading failed: %v", f, err)
			continue
		}
		var le *Error
		if !errors.As(got[0].Err, &le) || le.Line != 20 {
			t.Errorf("%s: got %v", f, got[0].Err)
		}
		if d := time.Since(start); d > 20*time.Second {
			t.Errorf("%s: took %v", f, d)
		}
	}
}

// TestFastFormulasAgreeWithTheInterpreter computes each formula both ways.
func TestFastFormulasAgreeWithTheInterpreter(t *testing.T) {
	l := &Layout{Name: "t"}
	sc := &scope{names: []string{"a", "b", "f"}}
	values := []int64{0, 1, -1, 2, 7, -7, 63, 64, math.MaxInt64, math.MinInt64, 1 << 40, -12345}
	n := 0
	for _, op := range []string{"+", "-", "*", "/", "//", "%", "&", "|", "^", "<<", ">>", "==", "!=", "<", "<=", ">", ">="} {
		f, err := l.compileFormula(&node{scalar: true, text: "a " + op + " b", line: 1, col: 1}, sc)
		if err != nil {
			t.Fatal(err)
		}
		if f.fast == nil {
			t.Fatalf("%s has no fast form", op)
		}
		slow := *f
		slow.fast = nil
		for _, a := range values {
			for _, b := range values {
				e := &env{run: &run{layout: l, at: -1}, slots: []val{intVal(a), intVal(b), floatVal(0.5)}}
				x, errX := f.eval(e)
				y, errY := slow.eval(e)
				if (errX == nil) != (errY == nil) || errX == nil && x.String() != y.String() {
					t.Errorf("%d %s %d: fast %s (%v), interpreter %s (%v)", a, op, b, x, errX, y, errY)
				}
				n++
			}
		}
	}
	for _, src := range []string{"a if b else f", "not a", "-a", "~b", "a * f + b", "a and b", "a or b", "(a + 1) * 2 - b // 3", "f / 2", `"x"`} {
		f, err := l.compileFormula(&node{scalar: true, text: src, line: 1, col: 1}, sc)
		if err != nil || f.fast == nil {
			t.Fatalf("%s: %v", src, err)
		}
		slow := *f
		slow.fast = nil
		for _, a := range []int64{0, 3} {
			e := &env{run: &run{layout: l, at: -1}, slots: []val{intVal(a), intVal(5), floatVal(0.5)}}
			x, _ := f.eval(e)
			y, _ := slow.eval(e)
			if x.String() != y.String() {
				t.Errorf("%s with a = %d: fast %s, interpreter %s", src, a, x, y)
			}
		}
	}
	if n < 1000 {
		t.Errorf("only %d pairs tried", n)
	}
}

func TestNumberFormats(t *testing.T) {
	for _, c := range []struct {
		format string
		bytes  []byte
		want   []float32
	}{
		{"i16x2", []byte{0xff, 0xff, 0x00, 0x80}, []float32{-1, -32768}},
		{"u16x1", []byte{0xff, 0xff}, []float32{65535}},
		{"unorm8x2", []byte{0, 255}, []float32{0, 1}},
		{"snorm8x2", []byte{0x81, 0x7f}, []float32{-1, 1}},
		{"snorm16x2", []byte{0x00, 0x80, 0xff, 0x7f}, []float32{-1, 1}},
		{"f16x3", []byte{0x00, 0x3c, 0x00, 0xc0, 0x01, 0x00}, []float32{1, -2, 5.9604645e-08}},
		{"f32x1", []byte{0, 0, 0x20, 0x41}, []float32{10}},
		{"f64x1", []byte{0, 0, 0, 0, 0, 0, 0x24, 0x40}, []float32{10}},
		{"i8x1", []byte{0x80}, []float32{-128}},
		// x = -511/511, y = 511/511, z = 0, w = 1
		{"a2b10g10r10_snorm_pack32", []byte{0x01, 0xfe, 0x07, 0x40}, []float32{-1, 1, 0, 1}},
	} {
		el, err := parseElement(c.format)
		if err != nil {
			t.Fatal(err)
		}
		got := el.decode(c.bytes, el.bytes(), 1, el.n, littleEndian, nil, nil)
		for i := range c.want {
			if got[i] != c.want[i] {
				t.Errorf("%s: got %v, want %v", c.format, got, c.want)
				break
			}
		}
		// Byte order: the same bytes turned round in each component.
		if !el.packed && el.size > 1 {
			rev := make([]byte, len(c.bytes))
			for i := range c.bytes {
				rev[i/el.size*el.size+el.size-1-i%el.size] = c.bytes[i]
			}
			if big := el.decode(rev, el.bytes(), 1, el.n, bigEndian, nil, nil); fmt.Sprint(big) != fmt.Sprint(got) {
				t.Errorf("%s big-endian: got %v, want %v", c.format, big, got)
			}
		}
	}
	if _, err := parseElement("f32x99"); err == nil {
		t.Error("99 components were accepted")
	}
}

func TestHalfFloats(t *testing.T) {
	for _, c := range []struct {
		h    uint16
		want float32
	}{{0x0000, 0}, {0x3c00, 1}, {0x3555, 0.33325195}, {0x7bff, 65504}, {0x0400, 6.1035156e-05}, {0xfc00, float32(math.Inf(-1))}, {0x03ff, 6.097555e-05}} {
		if got := pixel.Half(c.h); got != c.want {
			t.Errorf("%04x: got %g, want %g", c.h, got, c.want)
		}
	}
	if f := pixel.Half(0x7e00); f == f {
		t.Error("not-a-number became a number")
	}
}

const model = `layout: m
kind: model
order: %s
recognise:
  - {at: 0, ascii: M}
records:
  bone:
    - parent: i16
    - x: f32
fields:
  - magic: ascii[1]
  - bones: bone[2]
  - vertices_at: {type: u16}
  - triangles_at: u16
model:
  basis: {up: +Z, front: -Y, handedness: left, metres_per_unit: 0.01}
  nodes:
    - each: bones
      as: b
      name: '"bone"'
      kind: bone
      parent: b.parent
      translation: (b.x, 0, 0)
  parts:
    each: '[0]'
    mesh: '"m"'
    vertices: {at: vertices_at, count: 3, stride: 8}
    attributes:
      - {is: position, at: 0, format: i16x3, scale: 0.5, add: '(1, 2, 3)'}
      - {is: joints, at: 6, format: u8x1}
      - {is: weights, at: 7, format: unorm8x1}
    triangles: {at: triangles_at, count: 1, format: u16, winding: clockwise}
`

func modelFile(order binary.ByteOrder, parents [2]int16, joint byte, indices [3]uint16) []byte {
	var b []byte
	app := order.(binary.AppendByteOrder)
	b = append(b, 'M')
	for i, p := range parents {
		b = app.AppendUint16(b, uint16(p))
		b = app.AppendUint32(b, math.Float32bits(float32(i)*10))
	}
	at := len(b) + 4
	b = app.AppendUint16(b, uint16(at))
	b = app.AppendUint16(b, uint16(at+24))
	for v := 0; v < 3; v++ {
		for k := 0; k < 3; k++ {
			b = app.AppendUint16(b, uint16(int16(v*10+k)))
		}
		b = append(b, joint, 255)
	}
	for _, i := range indices {
		b = app.AppendUint16(b, i)
	}
	return b
}

func TestModelInBothByteOrders(t *testing.T) {
	for name, order := range map[string]binary.ByteOrder{"little": binary.LittleEndian, "big": binary.BigEndian} {
		l := compile(t, fmt.Sprintf(model, name))
		// The second bone is the first one's parent: the order must turn round.
		s, err := l.Scene(context.Background(), Memory(modelFile(order, [2]int16{1, -1}, 0, [3]uint16{0, 1, 2})), Surroundings{})
		if err != nil {
			t.Fatal(err)
		}
		p := &s.Meshes[0].Parts[0]
		if got := fmt.Sprint(p.Positions); got != "[1 2.5 4 6 7.5 9 11 12.5 14]" {
			t.Errorf("%s: positions %s", name, got)
		}
		if got := fmt.Sprint(p.Triangles); got != "[0 1 2]" { // clockwise in a left-handed file is our winding
			t.Errorf("%s: triangles %s", name, got)
		}
		if s.Nodes[1].Parent != 0 || s.Nodes[0].Translation[0] != 10 || s.Skins[0].Joints[0] != 1 {
			t.Errorf("%s: nodes %+v, joints %v", name, s.Nodes, s.Skins[0].Joints)
		}
		// At rest, a skin bound in the rest pose moves nothing.
		pos, _ := s.Posed(2, p, s.World())
		for i := range pos {
			if math.Abs(float64(pos[i]-p.Positions[i])) > 1e-4 {
				t.Fatalf("%s: posed %v", name, pos)
			}
		}
	}
}

func TestBadModels(t *testing.T) {
	l := compile(t, fmt.Sprintf(model, "little"))
	file := func(parents [2]int16, joint byte, idx [3]uint16) []byte {
		return modelFile(binary.LittleEndian, parents, joint, idx)
	}
	whole := file([2]int16{-1, 0}, 0, [3]uint16{0, 1, 2})
	for _, c := range []struct {
		name   string
		data   []byte
		want   string
		offset int64
	}{
		{"index", file([2]int16{-1, 0}, 0, [3]uint16{0, 1, 9}), "uses vertex 9, and there are 3", 45},
		{"ring", file([2]int16{1, 0}, 0, [3]uint16{0, 1, 2}), "is its own ancestor", 1},
		{"parent", file([2]int16{-1, 77}, 0, [3]uint16{0, 1, 2}), "has parent 77, and there are 2", 7},
		{"joint", file([2]int16{-1, 0}, 9, [3]uint16{0, 1, 2}), "hangs on bone 9, and there are 2", 23},
		{"cut", whole[:len(whole)-3], "the file ends at", 41},
	} {
		_, err := l.Scene(context.Background(), Memory(c.data), Surroundings{})
		var le *Error
		if !errors.As(err, &le) || !strings.Contains(le.Msg, c.want) || !le.HasOffset || le.Offset != c.offset {
			t.Errorf("%s: got %v, want %q at offset %d", c.name, err, c.want, c.offset)
		}
	}
	// Cut off anywhere, a file is an error and nothing worse.
	for n := range whole {
		if _, err := l.Scene(context.Background(), Memory(whole[:n]), Surroundings{}); err == nil {
			t.Errorf("%d of %d bytes were accepted", n, len(whole))
		}
	}
}

func TestMustHasItsOwnMessage(t *testing.T) {
	doc := strings.Replace(small, "  - count: u16\n", "  - count:\n      type: u16\n      must: count < 3\n      message: too many for this test\n", 1)
	_, err := compile(t, doc).Entries(context.Background(), Memory(smallFile(5)), Surroundings{})
	var le *Error
	if !errors.As(err, &le) || !strings.Contains(le.Msg, "count is 5: too many for this test") || le.Offset != 4 {
		t.Errorf("got %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(smallFile(2, [3]uint32{0, 3, 0}, [3]uint32{4, 5, 2}))
	f.Add(modelFile(binary.LittleEndian, [2]int16{-1, 0}, 0, [3]uint16{0, 1, 2}))
	f.Add(reedChain(binary.BigEndian, [][2]string{{"a", "b"}, {"c", "d"}}))
	f.Add(mistPicture(8, 4, func(x, y int) byte { return byte(x) }))
	c, m := compile(f, small), compile(f, fmt.Sprintf(model, "little"))
	reed, mist := compile(f, reedLayout), compile(f, mistLayout)
	f.Fuzz(func(t *testing.T, b []byte) {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		reed.Entries(ctx, Memory(b), Surroundings{})
		mist.Image(ctx, Memory(b), Surroundings{})
		if list, err := c.Entries(context.Background(), Memory(b), Surroundings{}); err == nil {
			for _, e := range list {
				if e.Err == nil && (e.Offset < 0 || e.Offset+e.Packed > int64(len(b))) {
					t.Fatalf("entry %+v lies outside %d bytes", e, len(b))
				}
			}
		}
		if s, err := m.Scene(context.Background(), Memory(b), Surroundings{}); err == nil {
			if err := s.Validate(); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// FuzzCompile puts layouts and files together: whatever a layout says of
// whatever bytes, reading ends, and stays within what it was given.
func FuzzCompile(f *testing.F) {
	raftFile, bank, live, _ := raftFiles()
	around := files{"bank.bin": bank, "live.bin": live, "colours.pal": make([]byte, 16), "mill-names.txt": []byte("a\nb\n")}.around("fuzz.bin")
	for _, s := range []struct {
		doc  string
		file []byte
	}{
		{small, smallFile(1, [3]uint32{0, 3, 0})},
		{fmt.Sprintf(model, "big"), modelFile(binary.BigEndian, [2]int16{-1, 0}, 0, [3]uint16{0, 1, 2})},
		{reedLayout, reedChain(binary.BigEndian, [][2]string{{"a", "b"}})},
		{mistLayout, mistPicture(8, 4, func(x, y int) byte { return byte(x) })},
		{tideMill, []byte("MILL\x01\x00\x00\x00aaaabbbbccccdddd")},
		{sluice, []byte("SLUI\x00\x01\x00\x01\x00\x00\x00\x0c\x00\x01\x00\x00\x00\xff")},
		{heron, heronFile()},
		{punt, puntFile()},
		{raftDoc(), raftFile},
		{"layout: x\nkind: container\norder: {}", nil},
	} {
		f.Add(s.doc, s.file)
	}
	f.Fuzz(func(t *testing.T, doc string, b []byte) {
		l, err := Compile("fuzz", []byte(doc))
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		x := l.Explain(ctx, Memory(b), around, int64(len(b)/2))
		if x.Covered > x.Size || x.Covered < 0 {
			t.Fatalf("%d of %d bytes are explained", x.Covered, x.Size)
		}
		if l.Kind == Model {
			if s, err := l.Scene(ctx, Memory(b), around); err == nil {
				if err := s.Validate(); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}

// BenchmarkDecodeMesh decodes one million vertices of 24 bytes on one core.
func BenchmarkDecodeMesh(b *testing.B) {
	const n = 1 << 20
	doc := `layout: bench
kind: model
recognise: [{at: 0, ascii: B}]
fields: [{magic: "ascii[1]"}]
model:
  parts:
    each: '[0]'
    mesh: '"m"'
    vertices: {at: 1, count: 1048576, stride: 24}
    attributes:
      - {is: position, at: 0, format: i16x3, scale: 0.01, add: '(1, 2, 3)'}
      - {is: normal, at: 8, format: a2b10g10r10_snorm_pack32}
      - {is: uv, name: a, at: 12, format: f16x2}
    triangles: {at: 1, count: 0, format: u16}
`
	l := compile(b, doc)
	data := make([]byte, 1+24*n)
	data[0] = 'B'
	for i := 1; i < len(data); i++ {
		data[i] = byte(i*7) & 0x3f
	}
	b.SetBytes(24 * n)
	var s *scene.Scene
	for b.Loop() {
		var err error
		if s, err = l.Scene(context.Background(), Memory(data), Surroundings{}); err != nil {
			b.Fatal(err)
		}
	}
	if s.Meshes[0].Parts[0].Vertices() != n {
		b.Fatal("vertices were lost")
	}
}

// TestWorkedExample holds the documentation to its word.
func TestWorkedExample(t *testing.T) {
	doc, err := os.ReadFile("../../docs/layouts.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(doc), "```yaml\nlayout: swatch")
	example, rest, ok := strings.Cut("layout: swatch"+rest, "```")
	if !ok {
		t.Fatal("the example is not there")
	}
	l := compile(t, example)
	file := []byte("SWAT\x02\x01\xff\x00\x00\x00\xff\x00")
	img, err := l.Image(context.Background(), Memory(file), Surroundings{})
	if err != nil || fmt.Sprint(img.Pix) != "[255 0 0 255 0 255 0 255]" {
		t.Errorf("texels %v, %v", img, err)
	}
	_, err = l.Image(context.Background(), Memory(file[:9]), Surroundings{})
	if err == nil || !strings.Contains(rest, err.Error()) {
		t.Errorf("the documentation does not show this error: %v", err)
	}
}

func TestRowsFromBelow(t *testing.T) {
	l := compile(t, "layout: p\nkind: picture\nrecognise: [{at: 0, ascii: P}]\nfields:\n  - magic: ascii[1]\n  - w: u8\n  - h: u8\npicture: {width: w, height: h, format: r8g8b8, at: 3, rows: bottom-up}\n")
	img, err := l.Image(context.Background(), Memory([]byte("P\x01\x02\x01\x01\x01\x02\x02\x02")), Surroundings{})
	if err != nil || img.Pix[0] != 2 || img.Pix[4] != 1 {
		t.Errorf("%v %v", img, err)
	}
	for _, bad := range []string{"P\x00\x01", "P\xff\xff", "P"} {
		if _, err := l.Image(context.Background(), Memory([]byte(bad)), Surroundings{}); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}
