package numlist

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/rand"
	"runtime"
	"slices"
	"testing"
	"unsafe"
)

// Bytes are what encoding/binary writes, and Of reads them from any address.
func TestBytesAndBack(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for _, n := range []int{0, 1, 2, 7, 1000} {
		f, u, h := make([]float32, n), make([]uint32, n), make([]uint16, n)
		for i := range n {
			f[i], u[i], h[i] = float32(r.NormFloat64()), r.Uint32(), uint16(r.Uint32())
		}
		for _, c := range []struct {
			have []byte
			list any
		}{{Bytes(f), f}, {Bytes(u), u}, {Bytes(h), h}} {
			want, err := binary.Append(nil, binary.LittleEndian, c.list)
			if err != nil || !bytes.Equal(c.have, want) {
				t.Fatalf("%d of %T: % x, want % x: %v", n, c.list, c.have, want, err)
			}
		}
		for shift := range 5 {
			room := func(b []byte, more int) []byte {
				return append(make([]byte, shift, shift+len(b)+more), append(b, make([]byte, more)...)...)[shift:]
			}
			for more := range 2 { // a byte that makes no whole number
				if got := Of[float32](room(Bytes(f), more)); !slices.Equal(got, f) {
					t.Errorf("%d floats, %d off: %v", n, shift, got)
				}
				if got := Of[uint32](room(Bytes(u), more)); !slices.Equal(got, u) {
					t.Errorf("%d integers, %d off: %v", n, shift, got)
				}
				if got := Of[uint16](room(Bytes(h), more)); !slices.Equal(got, h) {
					t.Errorf("%d short integers, %d off: %v", n, shift, got)
				}
			}
		}
	}
}

// What lies at a number's own place is shared, what does not is copied, and an
// append to either leaves the bytes as they are.
func TestSharing(t *testing.T) {
	store := make([]uint32, 6) // at a multiple of 4
	b := Bytes(store)
	if got := Of[uint32](b[4:12]); unsafe.SliceData(got) != &store[1] || len(got) != 2 || cap(got) != 2 {
		t.Errorf("at a multiple of 4: %d of %d, elsewhere", len(got), cap(got))
	}
	off := Of[uint32](b[5:13])
	b[5] = 9
	if off[0] != 0 {
		t.Error("what lies one byte off is shared")
	}
	_ = append(Of[uint32](b[:8]), 77)
	if store[2] != 0 {
		t.Errorf("an append wrote %d to the bytes behind", store[2])
	}
}

func TestSwapped(t *testing.T) {
	b := []byte{1, 2, 3, 4, 5, 6, 7, 8}
	if got := swapped(b, 4); !bytes.Equal(got, []byte{4, 3, 2, 1, 8, 7, 6, 5}) || b[0] != 1 {
		t.Errorf("of fours: % x from % x", got, b)
	}
	if got := swapped(b, 2); !bytes.Equal(got, []byte{2, 1, 4, 3, 6, 5, 8, 7}) {
		t.Errorf("of twos: % x", got)
	}
}

// What is not cleared is the caller's alone, and stays as it was set.
func TestUncleared(t *testing.T) {
	var lists [][]byte
	for i, n := range []int{0, 1, 100, 1<<16 - 1, 1 << 16, 1<<16 + 3, 1 << 20, 1 << 20, 5 << 20} {
		b := Uncleared(n)
		if len(b) != n || cap(b) != n || n > 0 && uintptr(unsafe.Pointer(&b[0]))%8 != 0 {
			t.Errorf("%d bytes: %d with room for %d", n, len(b), cap(b))
		}
		for k := range b {
			b[k] = byte(i)
		}
		lists = append(lists, b)
		runtime.GC()
	}
	for i, b := range lists {
		for k, v := range b {
			if v != byte(i) {
				t.Fatalf("byte %d of list %d became %d", k, i, v)
			}
		}
	}
}

func TestUpto(t *testing.T) {
	for _, n := range []int{0, 1, 5, sharedCount, sharedCount + 3} {
		list := Upto(n)
		if len(list) != n || cap(list) != n || n > 0 && (list[0] != 0 || list[n/2] != uint32(n/2) || list[n-1] != uint32(n-1)) {
			t.Errorf("up to %d: %d numbers, room for %d", n, len(list), cap(list))
		}
	}
	if a, b := Upto(9), Upto(30); &a[0] != &b[0] {
		t.Error("two short lists are not one")
	}
}

// The first that is wrong is found wherever it stands, in lists that one core
// looks through and in such as are shared out.
func TestTheFirstWrong(t *testing.T) {
	bad := []float32{float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1))}
	for _, n := range []int{0, 1, 5, 1 << 15, 1<<17 + 3} {
		f, u := make([]float32, n), make([]uint32, n)
		for i := range f {
			f[i], u[i] = float32(i)/float32(n)*math.MaxFloat32, uint32(i)
		}
		if i := NotFinite(f); i != -1 {
			t.Errorf("of %d finite ones, number %d is said not to be", n, i)
		}
		if i := Beyond(u, n); i != -1 {
			t.Errorf("of %d below %d, number %d is said not to be", n, n, i)
		}
		for k, at := range []int{0, n / 3, n - 1} {
			if at < 0 || at >= n {
				continue
			}
			g, v := slices.Clone(f), slices.Clone(u)
			g[n-1], g[at] = bad[0], bad[k]
			v[n-1], v[at] = uint32(n), math.MaxUint32
			if i := NotFinite(g); i != at {
				t.Errorf("of %d, %v at %d: %d", n, bad[k], at, i)
			}
			if i := Beyond(v, n); i != at {
				t.Errorf("of %d, beyond at %d: %d", n, at, i)
			}
		}
	}
	for at := range 11 { // each place in turn, by the least that is wrong
		f, u := make([]float32, 11), []uint32{2, 0, 1, 2, 0, 1, 2, 2, 0, 1, 2}
		f[at], u[at] = bad[at%3], 3
		if i, j := NotFinite(f), Beyond(u, 3); i != at || j != at {
			t.Errorf("at %d: %d and %d", at, i, j)
		}
	}
	if i := Beyond([]uint32{0}, 0); i != 0 {
		t.Errorf("of no vertices the first is there: %d", i)
	}
}

func BenchmarkNotFinite(b *testing.B) {
	list := make([]float32, 12<<20)
	b.SetBytes(int64(4 * len(list)))
	for b.Loop() {
		if NotFinite(list) >= 0 {
			b.Fatal("zeros are finite")
		}
	}
}

func BenchmarkBeyond(b *testing.B) {
	list := make([]uint32, 12<<20)
	b.SetBytes(int64(4 * len(list)))
	for b.Loop() {
		if Beyond(list, 1) >= 0 {
			b.Fatal("zeros are below 1")
		}
	}
}
