package layout

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
)

// BenchmarkDirectory reads a directory of 100,000 records with names in a
// table.
func BenchmarkDirectory(b *testing.B) {
	const n = 100_000
	doc := `layout: bench
kind: container
recognise: [{at: 0, ascii: DIRE}]
records:
  entry: [{name_at: u32}, {offset: u32}, {size: u32}, {packing: u32}]
fields:
  - magic: ascii[4]
  - count: u32
  - names_size: u32
  - entries: entry[count]
  - names: bytes[names_size]
container:
  each: entries
  as: e
  name: text(names, e.name_at)
  at: e.offset
  size: e.size
  codec: {by: e.packing, 0: stored, 1: zlib}
`
	w := &writer{order: binary.LittleEndian}
	var names strings.Builder
	at := make([]uint32, n)
	for i := range at {
		at[i] = uint32(names.Len())
		fmt.Fprintf(&names, "folder_%d/entry_%d.hull\x00", i%97, i)
	}
	w.put("DIRE", uint32(n), uint32(names.Len()))
	for i := range at {
		w.put(at[i], uint32(0), uint32(12), uint32(0))
	}
	w.put(names.String())
	l := compile(b, doc)
	b.ReportAllocs()
	for b.Loop() {
		got, err := l.Entries(context.Background(), Memory(w.Bytes()), Surroundings{})
		if err != nil || len(got) != n || got[n-1].Name != "folder_89/entry_99999.hull" {
			b.Fatal(len(got), err)
		}
	}
	b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds(), "records/s")
}

// BenchmarkCommands runs a list of a million commands, most of them
// triangles, as a console's model has them; the other form has every command
// handled by the script.
func BenchmarkCommands(b *testing.B) {
	const n = 1 << 20
	w := &writer{order: binary.BigEndian}
	w.put("RAFT", uint32(0x01000000+8+8))
	w.put([2]uint32{})
	for i := 0; i < n; i += 32 {
		w.put([2]uint32{0x01080000, 0x03000106})
		for k := 1; k < 32; k++ {
			w.put([2]uint32{0x02000000, 0x020100})
		}
	}
	w.put([2]uint32{0x09000000, 0})
	bank := make([]byte, 256)
	for name, doc := range map[string]string{
		"known":     raftDoc(),
		"by-script": strings.Replace(raftDoc(), "2: draw(bits(0, 8), bits(8, 8), bits(16, 8))", "2: lambda_free", 1),
	} {
		doc = strings.Replace(strings.Replace(doc, "2: lambda_free", "2: triangle", 1), "          def set_tile(w):\n", "          def triangle(w):\n              m.draw(w & 255, (w >> 8) & 255, (w >> 16) & 255)\n\n          def set_tile(w):\n", 1)
		l := compile(b, doc)
		b.Run(name, func(b *testing.B) {
			around := files{"bank.bin": bank}.around("")
			for b.Loop() {
				s, err := l.Scene(context.Background(), Memory(w.Bytes()), around)
				if err != nil || len(s.Meshes[0].Parts[0].Triangles) != n/32*31*3 {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds(), "commands/s")
		})
	}
}

// BenchmarkColumns decodes a picture of columns.
func BenchmarkColumns(b *testing.B) {
	const side = 512
	w := &writer{order: binary.BigEndian}
	w.put("SLUI", uint16(side), uint16(side))
	run := append(append([]byte{0, 255, 0}, make([]byte, 255)...), 0, 0xff)
	for x := range side {
		w.put(uint32(8 + 4*side + x*len(run)))
	}
	for range side {
		w.Write(run)
	}
	l := compile(b, sluice)
	around := files{"colours.pal": make([]byte, 16)}.around("")
	b.SetBytes(side * side)
	for b.Loop() {
		if _, err := l.Image(context.Background(), Memory(w.Bytes()), around); err != nil {
			b.Fatal(err)
		}
	}
}
