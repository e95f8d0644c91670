package demo

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"hash/crc32"
	"math"

	"github.com/pierrec/lz4/v4"
)

// This file writes the games' own formats. It shares no code with the readers
// and layouts that read them back.

var le = binary.LittleEndian

// hull writes a model as the game stores it: left-handed, Z up, facing -Y,
// centimetres. Our x goes to -X, our y to Z and our z to -Y.
func (m *model) hull() []byte {
	names := newNames()
	var w bytes.Buffer
	type slot struct{ at, count int }
	var lists [7]slot // materials bones markers parts motions tracks names
	header := make([]byte, 4+2+2+4+8*len(lists))
	w.Write(header)
	pad := func() {
		for w.Len()%16 != 0 {
			w.WriteByte(0)
		}
	}
	pos := func(p v3) v3 { return v3{-100 * p[0], -100 * p[2], 100 * p[1]} }
	dir := func(p v3) v3 { return v3{-p[0], -p[2], p[1]} }
	// A rotation's axis is an axial vector: the mirroring map turns it round.
	rot := func(q quat) quat {
		a := dir(v3{q[0], q[1], q[2]})
		return quat{-a[0], -a[1], -a[2], q[3]}
	}
	put := func(v ...any) {
		for _, x := range v {
			binary.Write(&w, le, x)
		}
	}
	vec := func(p v3) [3]float32 { return [3]float32{float32(p[0]), float32(p[1]), float32(p[2])} }
	q4 := func(q quat) [4]float32 {
		return [4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
	}

	// Bulk data first, tables after it.
	type partAt struct {
		verts, tris uint64
		scale       float32
		origin      [3]float32
		nv, nt      int
	}
	var placed []partAt
	for i := range m.parts {
		p := &m.parts[i]
		lo, hi := v3{1e9, 1e9, 1e9}, v3{-1e9, -1e9, -1e9}
		for _, v := range p.verts {
			q := pos(v.p)
			for k := range q {
				lo[k], hi[k] = math.Min(lo[k], q[k]), math.Max(hi[k], q[k])
			}
		}
		mid := lo.add(hi).mul(0.5)
		half := math.Max(hi[0]-lo[0], math.Max(hi[1]-lo[1], hi[2]-lo[2])) / 2
		scale := float32(half / 32000)
		pad()
		at := partAt{verts: uint64(w.Len()), scale: scale, origin: vec(mid), nv: len(p.verts), nt: len(p.tris)}
		for _, v := range p.verts {
			q := pos(v.p).sub(mid)
			for k := range q {
				put(int16(math.Round(q[k] / float64(scale))))
			}
			put(int16(0), packNormal(dir(v.n)), half16(float32(v.u)), half16(float32(v.v)))
			if p.skinned {
				left := 255
				var ws [4]uint8
				for k := 3; k >= 1; k-- {
					ws[k] = uint8(math.Round(255 * v.weight[k]))
					left -= int(ws[k])
				}
				ws[0] = uint8(left)
				put([4]uint8{uint8(v.joint[0]), uint8(v.joint[1]), uint8(v.joint[2]), uint8(v.joint[3])}, ws)
			}
		}
		pad()
		at.tris = uint64(w.Len())
		for _, t := range p.tris {
			// The game winds clockwise, seen from the front; ours are wound the
			// other way.
			put(uint16(t[0]), uint16(t[2]), uint16(t[1]))
		}
		placed = append(placed, at)
	}
	type trackAt struct{ times, values uint64 }
	var tracksAt []trackAt
	for _, mo := range m.motions {
		for _, t := range mo.tracks {
			pad()
			ta := trackAt{times: uint64(w.Len())}
			for _, f := range t.frames {
				put(uint16(f))
			}
			pad()
			ta.values = uint64(w.Len())
			for _, q := range t.turns {
				r := rot(q)
				for k := range r {
					put(int16(math.Round(r[k] * 32767)))
				}
			}
			for _, p := range t.moves {
				put(vec(pos(p)))
			}
			tracksAt = append(tracksAt, ta)
		}
	}
	begin := func(i, count int) { pad(); lists[i] = slot{w.Len(), count} }

	begin(0, len(m.materials))
	for _, x := range m.materials {
		two := uint8(0)
		if x.twoSided {
			two = 1
		}
		put(names.add(x.name), names.add(x.colour), names.add(x.normal), uint8(x.alpha), two, uint16(0), float32(x.cutoff), [3]uint32{})
	}
	begin(1, len(m.bones))
	for _, b := range m.bones {
		at := b.at
		if b.parent >= 0 {
			at = at.sub(m.bones[b.parent].at)
		}
		put(names.add(b.name), int16(b.parent), uint16(0), vec(pos(at)), [4]float32{0, 0, 0, 1}, [3]float32{1, 1, 1})
	}
	begin(2, len(m.markers))
	for _, k := range m.markers {
		at, kind, r := k.at, uint8(0), k.turn
		if k.parent >= 0 {
			at = at.sub(m.bones[k.parent].at)
		}
		if k.camera {
			kind = 1
		}
		if r == (quat{}) {
			r = quat{0, 0, 0, 1}
		}
		put(names.add(k.name), int16(k.parent), kind, uint8(0), vec(pos(at)), q4(rot(r)), float32(k.fovY), [2]uint32{})
	}
	begin(3, len(m.parts))
	for i := range m.parts {
		p, at := &m.parts[i], placed[i]
		stride, flags := uint32(16), uint32(0)
		if p.skinned {
			stride, flags = 24, 1
		}
		put(names.add(p.mesh), uint32(p.material), uint32(at.nv), stride, at.verts, uint32(at.nt), flags, at.tris, at.scale, at.origin, [2]uint32{})
	}
	begin(4, len(m.motions))
	first := 0
	for _, mo := range m.motions {
		put(names.add(mo.name), uint32(first), uint32(len(mo.tracks)), uint32(0))
		first += len(mo.tracks)
	}
	begin(5, first)
	k := 0
	for _, mo := range m.motions {
		for _, t := range mo.tracks {
			path := uint8(1)
			if t.moves != nil {
				path = 0
			}
			put(uint16(t.bone), path, uint8(0), uint32(len(t.frames)), tracksAt[k].times, tracksAt[k].values, [2]uint32{})
			k++
		}
	}
	name := names.add(m.name)
	begin(6, len(names.data))
	w.Write(names.data)

	out := w.Bytes()
	copy(out, "HULL")
	le.PutUint16(out[4:], 7)
	le.PutUint32(out[8:], name)
	for i, l := range lists {
		le.PutUint32(out[12+8*i:], uint32(l.at))
		le.PutUint32(out[16+8*i:], uint32(l.count))
	}
	return out
}

// names is a table of zero-ended texts; the empty text lies at 0.
type names struct {
	data []byte
	at   map[string]uint32
}

func newNames() *names { return &names{data: []byte{0}, at: map[string]uint32{"": 0}} }

func (n *names) add(s string) uint32 {
	if at, ok := n.at[s]; ok {
		return at
	}
	at := uint32(len(n.data))
	n.at[s] = at
	n.data = append(append(n.data, s...), 0)
	return at
}

// packNormal stores x, y, z in ten signed bits each, x lowest.
func packNormal(n v3) uint32 {
	var w uint32
	for k := range n {
		w |= uint32(int32(math.Round(n[k]*511))&1023) << (10 * k)
	}
	return w
}

// half16 rounds to IEEE binary16; the texture coordinates here are small and
// positive.
func half16(f float32) uint16 {
	if f == 0 {
		return 0
	}
	frac, exp := math.Frexp(math.Abs(float64(f))) // 0.5 <= frac < 1
	m := int(math.Round((frac*2 - 1) * 1024))
	e := exp - 1 + 15
	if m == 1024 {
		m, e = 0, e+1
	}
	if e <= 0 {
		return uint16(math.Round(math.Abs(float64(f)) * (1 << 24)))
	}
	h := uint16(e<<10 | m)
	if f < 0 {
		h |= 0x8000
	}
	return h
}

// Packing methods of the archive.
const (
	packStored = 0
	packZlib   = 1
	packLZ4    = 2
)

// PackEntry is one file on its way into an archive.
type PackEntry struct {
	Name    string
	Data    []byte
	Packing byte
}

// Pack writes an archive of the games: entries, names, directory, trailer.
func Pack(entries []PackEntry) []byte {
	var w, dir bytes.Buffer
	names := newNames()
	w.WriteString("TIDE")
	binary.Write(&w, le, uint16(3))
	w.Write(make([]byte, 26))
	for _, e := range entries {
		for w.Len()%16 != 0 {
			w.WriteByte(0)
		}
		method, body := e.Packing, e.Data
		switch method {
		case packZlib:
			var z bytes.Buffer
			zw := zlib.NewWriter(&z)
			zw.Write(e.Data)
			zw.Close()
			body = z.Bytes()
		case packLZ4:
			buf := make([]byte, lz4.CompressBlockBound(len(e.Data)))
			n, err := lz4.CompressBlock(e.Data, buf, nil)
			if err != nil || n == 0 { // does not pack
				method = packStored
			} else {
				body = buf[:n]
			}
		}
		binary.Write(&dir, le, struct {
			Name                 uint32
			Packing              uint8
			_                    [3]uint8
			Offset, Packed, Size uint64
			CRC, _               uint32
		}{Name: names.add(e.Name), Packing: method, Offset: uint64(w.Len()), Packed: uint64(len(body)), Size: uint64(len(e.Data)), CRC: crc32.ChecksumIEEE(e.Data)})
		w.Write(body)
	}
	namesAt := w.Len()
	w.Write(names.data)
	dirAt := w.Len()
	w.Write(dir.Bytes())
	binary.Write(&w, le, struct {
		Dir, Names          uint64
		Count, NamesSize, _ uint32
	}{Dir: uint64(dirAt), Names: uint64(namesAt), Count: uint32(len(entries)), NamesSize: uint32(len(names.data))})
	w.WriteString("EDIT")
	return w.Bytes()
}

func floatBits(f float64) uint32 { return math.Float32bits(float32(f)) }
