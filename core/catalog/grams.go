package catalog

// Which groups of three letters occur in each block of rows: a search leaves
// out the blocks that cannot hold its words. A block is a Bloom filter with
// one hash function (Bloom, Space/Time Trade-offs in Hash Coding, 1970): it may
// say yes to what is not there, never no to what is.
const (
	blockRows = 64
	gramBits  = 1 << 12 // 512 bytes a block; paths of one folder share most groups
)

type grams []uint64 // gramBits/64 words a block

// gram hashes three letters: the upper 12 bits of a multiplication (Knuth, The
// Art of Computer Programming, volume 3, section 6.4).
func gram(a, b, c byte) uint32 {
	return (uint32(a)<<16 | uint32(b)<<8 | uint32(c)) * 0x9E3779B1 >> 20
}

// gramsOf makes the filters of a text whose row i ends at at[i+1].
func gramsOf(text string, at []uint32) grams {
	const words = gramBits / 64
	rows := len(at) - 1
	g := make(grams, (rows+blockRows-1)/blockRows*words)
	for first := 0; first < rows; first += blockRows {
		block := g[first/blockRows*words:][:words]
		t := text[at[first]:at[min(first+blockRows, rows)]]
		for i := 2; i < len(t); i++ {
			h := gram(t[i-2], t[i-1], t[i])
			block[h>>6] |= 1 << (h & 63)
		}
	}
	return g
}

// wanted are the hashes of the groups that every text with these words has.
func wanted(words []string) (out []uint32) {
	for _, w := range words {
		for i := 2; i < len(w); i++ {
			out = append(out, gram(w[i-2], w[i-1], w[i]))
		}
	}
	return out
}

// may tells whether a block may hold all of the hashes.
func (g grams) may(block int, hashes []uint32) bool {
	filter := g[block*(gramBits/64):][:gramBits/64]
	for _, h := range hashes {
		if filter[h>>6]&(1<<(h&63)) == 0 {
			return false
		}
	}
	return true
}
