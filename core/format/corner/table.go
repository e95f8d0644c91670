package corner

// table numbers things in the order in which they are first met, by open
// addressing. The things themselves are their owner's.
type table struct {
	slots []int32 // a thing's number plus one, 0 where none is
	mask  uint32
}

// number is the number of a thing with a hash, n if none of the n things that
// are known is the same; it is then thing n. hash is that of a known thing.
func (t *table) number(h uint32, n int, same func(k int) bool, hash func(k int) uint32) int {
	if 4*n >= 3*len(t.slots) {
		t.grow(n, hash)
	}
	for at := h & t.mask; ; at = (at + 1) & t.mask {
		k := int(t.slots[at]) - 1
		if k < 0 {
			t.slots[at] = int32(n + 1)
			return n
		}
		if same(k) {
			return k
		}
	}
}

func (t *table) grow(n int, hash func(k int) uint32) {
	size := max(64, 2*len(t.slots))
	for 4*n >= 3*size { // not all things were asked for
		size *= 2
	}
	t.slots, t.mask = make([]int32, size), uint32(size-1)
	for k := range n {
		at := hash(k) & t.mask
		for t.slots[at] != 0 {
			at = (at + 1) & t.mask
		}
		t.slots[at] = int32(k + 1)
	}
}

// mix is a hash of three numbers whose lower bits all count.
func mix(a, b, c uint32) uint32 {
	h := a*2654435761 ^ b*2246822519 ^ c*3266489917
	h ^= h >> 15
	h *= 2246822519
	return h ^ h>>13
}
