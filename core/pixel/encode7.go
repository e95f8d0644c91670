package pixel

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// The BC7 encoder weighs three of the eight modes against each other: mode 6
// (one set of RGBA, four bits an index), mode 5 (alpha apart, for blocks whose
// alpha goes its own way) and mode 1 (two sets of RGB) over the partitions that
// seem the best.

type bits128 struct {
	lo, hi uint64
	n      uint
}

func (b *bits128) put(v uint32, n uint) {
	if b.n < 64 {
		b.lo |= uint64(v) << b.n
		if b.n+n > 64 {
			b.hi |= uint64(v) >> (64 - b.n)
		}
	} else {
		b.hi |= uint64(v) << (b.n - 64)
	}
	b.n += n
}

func (b *bits128) write(to []byte) {
	binary.LittleEndian.PutUint64(to, b.lo)
	binary.LittleEndian.PutUint64(to[8:], b.hi)
}

func (t *block) bc7(to []byte) {
	var solid, opaque = true, true
	for i := range t.v {
		solid = solid && t.v[i] == t.v[0]
		opaque = opaque && t.v[i][3] == 255
	}
	if solid {
		out := t.solid()
		out.write(to)
		return
	}
	out, best := t.mode6()
	if best > 0 && !opaque {
		if b, e := t.mode5(); e < best {
			out, best = b, e
		}
	}
	// Two sets are worth a look where one leaves an error that shows.
	if opaque && best > 16*6 {
		if b, e := t.mode1(best); e < best {
			out = b
		}
	}
	out.write(to)
}

// indices gives each texel of a mask the nearest of the steps between two
// endpoints, and the error.
func (t *block) indices(mask uint32, channels int, a, b [4]float32, weights []uint32, idx *[16]uint8, weight *[16]float32) float32 {
	var d [4]float32
	l := float32(0)
	for c := range channels {
		d[c] = b[c] - a[c]
		l += d[c] * d[c]
	}
	last := len(weights) - 1
	inv := float32(0)
	if l > 0 {
		inv = float32(last) / l
	}
	sum := float32(0)
	for m := mask; m != 0; m &= m - 1 {
		i := bits.TrailingZeros32(m)
		v := &t.v[i]
		s := float32(0)
		for c := range channels {
			s += (v[c] - a[c]) * d[c]
		}
		k := int(s*inv + 0.5)
		k = min(max(k, 0), last)
		// The steps are not quite even: the neighbours may be nearer.
		bestK, bestE := k, float32(math.MaxFloat32)
		for q := max(k-1, 0); q <= min(k+1, last); q++ {
			w := float32(weights[q]) / 64
			e := float32(0)
			for c := range channels {
				x := v[c] - (a[c] + d[c]*w)
				e += x * x
			}
			if e < bestE {
				bestK, bestE = q, e
			}
		}
		idx[i] = uint8(bestK)
		weight[i] = float32(weights[bestK]) / 64
		sum += bestE
	}
	return sum
}

// ends7 rounds endpoints to seven bits and one that they share with the
// endpoint's other channels.
func ends7(c [4]float32, channels int) (q [4]uint32, p uint32, back [4]float32) {
	bestE := float32(math.MaxFloat32)
	for bit := range uint32(2) {
		var v [4]uint32
		var r [4]float32
		e := float32(0)
		for k := range channels {
			x := (c[k] - float32(bit)) / 2
			v[k] = uint32(min(max(x+0.5, 0), 127))
			r[k] = float32(v[k]<<1 | bit)
			e += (r[k] - c[k]) * (r[k] - c[k])
		}
		if e < bestE {
			bestE, q, p, back = e, v, bit, r
		}
	}
	return q, p, back
}

func (t *block) mode6() (bits128, float32) {
	const mask = 0xffff
	lo, hi := t.ends(mask, 4)
	var out bits128
	best := float32(math.MaxFloat32)
	for try := range 3 {
		qa, pa, a := ends7(lo, 4)
		qb, pb, b := ends7(hi, 4)
		var idx [16]uint8
		var weight [16]float32
		e := t.indices(mask, 4, a, b, bc7Weights[4], &idx, &weight)
		if e < best {
			best = e
			if idx[0] >= 8 { // the first index has no highest bit
				qa, qb, pa, pb = qb, qa, pb, pa
				for i := range idx {
					idx[i] = 15 - idx[i]
				}
			}
			out = bits128{}
			out.put(1<<6, 7)
			for c := range 4 {
				out.put(qa[c], 7)
				out.put(qb[c], 7)
			}
			out.put(pa, 1)
			out.put(pb, 1)
			out.put(uint32(idx[0]), 3)
			for _, k := range idx[1:] {
				out.put(uint32(k), 4)
			}
		}
		if try == 2 || e == 0 {
			break
		}
		var ok bool
		if lo, hi, ok = t.refit(mask, 4, &weight); !ok {
			break
		}
	}
	return out, best
}

// mode5 has alpha apart: seven bits a colour, eight an alpha, two bits an index
// of each.
func (t *block) mode5() (bits128, float32) {
	const mask = 0xffff
	lo, hi := t.ends(mask, 3)
	var alpha block
	for i := range t.v {
		alpha.v[i][0] = t.v[i][3]
	}
	alo, ahi := alpha.ends(mask, 1)
	q := func(c [4]float32) (v [4]uint32, back [4]float32) {
		for k := range 3 {
			v[k] = uint32(c[k]*127/255 + 0.5)
			back[k] = float32(v[k]<<1 | v[k]>>6)
		}
		return v, back
	}
	var best bits128
	bestE := float32(math.MaxFloat32)
	for try := range 2 {
		qa, a := q(lo)
		qb, b := q(hi)
		var idx, aidx [16]uint8
		var weight, aw [16]float32
		e := t.indices(mask, 3, a, b, bc7Weights[2], &idx, &weight)
		ra, rb := [4]float32{float32(byte(alo[0] + 0.5))}, [4]float32{float32(byte(ahi[0] + 0.5))}
		e += alpha.indices(mask, 1, ra, rb, bc7Weights[2], &aidx, &aw)
		if e < bestE {
			bestE = e
			x, y := uint32(ra[0]), uint32(rb[0])
			if idx[0] >= 2 {
				qa, qb = qb, qa
				for i := range idx {
					idx[i] = 3 - idx[i]
				}
			}
			if aidx[0] >= 2 {
				x, y = y, x
				for i := range aidx {
					aidx[i] = 3 - aidx[i]
				}
			}
			best = bits128{}
			best.put(1<<5, 6)
			best.put(0, 2) // no rotation
			for c := range 3 {
				best.put(qa[c], 7)
				best.put(qb[c], 7)
			}
			best.put(x, 8)
			best.put(y, 8)
			for i, k := range idx {
				best.put(uint32(k), 2-uint(b2u(i == 0)))
			}
			for i, k := range aidx {
				best.put(uint32(k), 2-uint(b2u(i == 0)))
			}
		}
		if try == 1 {
			break
		}
		if l, h, ok := t.refit(mask, 3, &weight); ok {
			lo, hi = l, h
		}
		if l, h, ok := alpha.refit(mask, 1, &aw); ok {
			alo, ahi = l, h
		}
	}
	return best, bestE
}

// solids has for each value two endpoints of seven bits whose second step is
// that value exactly.
var solids = func() (t [256][2]uint32) {
	for a := range uint32(128) {
		for b := range uint32(128) {
			x, y := a<<1|a>>6, b<<1|b>>6
			t[(x*(64-21)+y*21+32)>>6] = [2]uint32{a, b}
		}
	}
	return t
}()

// solid is a block of one colour, in mode 5, exactly.
func (t *block) solid() (out bits128) {
	out.put(1<<5, 6)
	out.put(0, 2)
	for c := range 3 {
		e := solids[byte(t.v[0][c])]
		out.put(e[0], 7)
		out.put(e[1], 7)
	}
	a := uint32(t.v[0][3])
	out.put(a, 8)
	out.put(a, 8)
	for i := range 16 {
		out.put(1, 2-uint(b2u(i == 0)))
	}
	return out // the alpha's indices are all 0
}

// spreadOf is how much of the texels of a mask does not lie on their axis: what
// no two endpoints can mend.
func (t *block) spreadOf(mask uint32) float32 {
	mean, dir := t.axis(mask, 3)
	sum := float32(0)
	for m := mask; m != 0; m &= m - 1 {
		v := &t.v[bits.TrailingZeros32(m)]
		x, y, z := v[0]-mean[0], v[1]-mean[1], v[2]-mean[2]
		d := x*dir[0] + y*dir[1] + z*dir[2]
		sum += x*x + y*y + z*z - d*d
	}
	return sum
}

// mode1Tries is how many partitions are tried in full.
const mode1Tries = 3

// mode1 has two sets of RGB: six bits an endpoint's channel and one that both
// endpoints of a set share, three bits an index.
func (t *block) mode1(toBeat float32) (bits128, float32) {
	var order [mode1Tries]int
	var scores [mode1Tries]float32
	for i := range scores {
		scores[i] = math.MaxFloat32
	}
	for p := range 64 {
		second := uint32(bc7Two[p])
		s := t.spreadOf(^second&0xffff) + t.spreadOf(second)
		for i := range scores {
			if s < scores[i] {
				copy(scores[i+1:], scores[i:])
				copy(order[i+1:], order[i:])
				scores[i], order[i] = s, p
				break
			}
		}
	}
	var best bits128
	bestE := toBeat
	for i, p := range order {
		if scores[i] >= bestE {
			break
		}
		second := uint32(bc7Two[p])
		masks := [2]uint32{^second & 0xffff, second}
		anchors := [2]int{0, int(bc7Anchor2[p])}
		var q [4][4]uint32
		var shared [2]uint32
		var idx [16]uint8
		sum := float32(0)
		for set := range 2 {
			lo, hi := t.ends(masks[set], 3)
			setBest := float32(math.MaxFloat32)
			for try := range 2 {
				for bit := range uint32(2) {
					var qa, qb [4]uint32
					var a, b [4]float32
					for c := range 3 {
						qa[c], a[c] = six(lo[c], bit)
						qb[c], b[c] = six(hi[c], bit)
					}
					var k [16]uint8
					var w [16]float32
					if e := t.indices(masks[set], 3, a, b, bc7Weights[3], &k, &w); e < setBest {
						setBest = e
						if k[anchors[set]] >= 4 {
							qa, qb = qb, qa
							for m := masks[set]; m != 0; m &= m - 1 {
								i := bits.TrailingZeros32(m)
								k[i] = 7 - k[i]
							}
						}
						q[2*set], q[2*set+1], shared[set] = qa, qb, bit
						for m := masks[set]; m != 0; m &= m - 1 {
							i := bits.TrailingZeros32(m)
							idx[i] = k[i]
						}
					}
				}
				if try == 1 || setBest == 0 {
					break
				}
				var w [16]float32
				var k [16]uint8
				t.indices(masks[set], 3, lo, hi, bc7Weights[3], &k, &w)
				l, h, ok := t.refit(masks[set], 3, &w)
				if !ok {
					break
				}
				lo, hi = l, h
			}
			sum += setBest
		}
		if sum >= bestE {
			continue
		}
		bestE = sum
		best = bits128{}
		best.put(1<<1, 2)
		best.put(uint32(p), 6)
		for c := range 3 {
			for e := range 4 {
				best.put(q[e][c], 6)
			}
		}
		best.put(shared[0], 1)
		best.put(shared[1], 1)
		for i, k := range idx {
			best.put(uint32(k), 3-uint(b2u(i == anchors[0] || i == anchors[1])))
		}
	}
	return best, bestE
}

// six rounds a channel to six bits and a shared one, and gives it back as eight.
func six(v float32, bit uint32) (uint32, float32) {
	// Seven bits in all: v7 = q<<1 | bit, as eight v7<<1 | v7>>6.
	x := uint32(min(max((v*127/255-float32(bit))/2+0.5, 0), 63))
	v7 := x<<1 | bit
	return x, float32(v7<<1 | v7>>6)
}
