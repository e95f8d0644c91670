// Package numlist sees a list of numbers as the little-endian bytes that files
// hold, and such bytes as numbers, without copying where that can be, and
// looks for what is wrong in long lists.
//
// What is shared must not be written to. That holds for the bytes of files and
// for scenes.
package numlist

import (
	"encoding/binary"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"excavate/core/parallel"
)

// A Word is a number as files hold them in lists.
type Word interface{ float32 | uint32 | uint16 }

var little = binary.NativeEndian.Uint16([]byte{1, 0}) == 1

// Bytes are a list's numbers, little-endian, in the list's own memory where
// the machine is little-endian too.
func Bytes[T Word](list []T) []byte {
	if len(list) == 0 {
		return nil
	}
	b := unsafe.Slice((*byte)(unsafe.Pointer(&list[0])), len(list)*int(unsafe.Sizeof(list[0])))
	if !little {
		b = swapped(b, int(unsafe.Sizeof(list[0])))
	}
	return b
}

// Of are the whole numbers of little-endian bytes. They are in the bytes' own
// memory where those lie at a multiple of a number's size, and else a copy.
// They have no room to grow: an append never writes to what follows them.
func Of[T Word](b []byte) []T {
	var z T
	size := int(unsafe.Sizeof(z))
	n := len(b) / size
	if n == 0 {
		return []T{}
	}
	if b = b[:n*size]; !little {
		b = swapped(b, size)
	}
	if uintptr(unsafe.Pointer(&b[0]))%uintptr(size) == 0 {
		return unsafe.Slice((*T)(unsafe.Pointer(&b[0])), n)
	}
	list := make([]T, n)
	copy(unsafe.Slice((*byte)(unsafe.Pointer(&list[0])), len(b)), b)
	return list
}

// Uncleared are n bytes of any value, at a multiple of 8, for a caller that
// sets every one of them. Clearing what is overwritten at once is a third of
// the time in which a large list is copied; in the standard library only
// strings.Builder makes memory without it.
func Uncleared(n int) []byte {
	if n < 1<<16 {
		return unsafe.Slice((*byte)(unsafe.Pointer(&make([]uint64, n/8+1)[0])), n)
	}
	var b strings.Builder
	b.Grow(n)
	b.WriteByte(0)
	return unsafe.Slice(unsafe.StringData(b.String()), n) // nobody else has the string
}

// swapped is a copy with each number's bytes the other way round.
func swapped(b []byte, size int) []byte {
	b = slices.Clone(b)
	for i := 0; i < len(b); i += size {
		slices.Reverse(b[i : i+size])
	}
	return b
}

// Upto are the numbers 0 to n-1: the indices of vertices that stand in order.
// All who ask share one list, as far as it goes.
func Upto(n int) []uint32 {
	if n <= sharedCount {
		return counted()[:n:n]
	}
	return count(n)
}

const sharedCount = 1 << 22

var counted = sync.OnceValue(func() []uint32 { return count(sharedCount) })

func count(n int) []uint32 {
	list := make([]uint32, n)
	for i := range list {
		list[i] = uint32(i)
	}
	return list
}

// NotFinite is where the first number is that is infinite or none, -1 if all
// are finite.
func NotFinite(list []float32) int {
	return first(list, func(part []float32) bool {
		// v-v is 0 of a finite number and NaN of all others. Four sums, so that
		// an addition need not wait for the one before it.
		var a, b, c, d float32
		for len(part) >= 4 {
			a += part[0] - part[0]
			b += part[1] - part[1]
			c += part[2] - part[2]
			d += part[3] - part[3]
			part = part[4:]
		}
		for _, v := range part {
			a += v - v
		}
		return a+b+c+d != 0
	})
}

// Beyond is where the first number is that is not below n, -1 if all are.
func Beyond(list []uint32, n int) int {
	return first(list, func(part []uint32) bool {
		// The last that is allowed less a number that is not has its top bit set.
		last := int64(n) - 1
		var a, b int64
		for len(part) >= 4 {
			a |= (last - int64(part[0])) | (last - int64(part[1]))
			b |= (last - int64(part[2])) | (last - int64(part[3]))
			part = part[4:]
		}
		for _, v := range part {
			a |= last - int64(v)
		}
		return a|b < 0
	})
}

// first is where the first number is that is wrong, -1 if none is. wrong tells
// whether one of a list is.
func first[T any](list []T, wrong func([]T) bool) int {
	for _, i := range parallel.Gather(len(list), 1<<15, func(from, to int) int {
		if !wrong(list[from:to]) {
			return -1
		}
		for i := from; ; i++ {
			if wrong(list[i : i+1]) {
				return i
			}
		}
	}) {
		if i >= 0 {
			return i
		}
	}
	return -1
}
