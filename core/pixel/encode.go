package pixel

import (
	"encoding/binary"
	"fmt"
	"image"
	"math"
	"runtime"

	"excavate/core/parallel"
)

// Encode packs a picture's texels: block compression BC1, BC3, BC4, BC5 and
// BC7, and r8g8b8a8, b8g8r8a8 and r8. BC4 and r8 take the red channel, BC5 red
// and green. Sides that are no multiple of four are filled up with their last
// texels.
func Encode(f Format, img *image.NRGBA) ([]byte, error) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	n, err := f.Bytes(w, h)
	if err != nil {
		return nil, err
	}
	out := make([]byte, n)
	switch f {
	case "r8g8b8a8", "b8g8r8a8", "r8":
		for y := range h {
			row := img.Pix[y*img.Stride:][:4*w]
			switch f {
			case "r8g8b8a8":
				copy(out[4*w*y:], row)
			case "b8g8r8a8":
				o := out[4*w*y:]
				for i := 0; i < len(row); i += 4 {
					o[i], o[i+1], o[i+2], o[i+3] = row[i+2], row[i+1], row[i], row[i+3]
				}
			default:
				for x := range w {
					out[y*w+x] = row[4*x]
				}
			}
		}
		return out, nil
	case BC1, BC3, BC4, BC5, BC7:
	default:
		return nil, fmt.Errorf("texels are not written as %s; there are bc1, bc3, bc4, bc5, bc7, r8g8b8a8, b8g8r8a8 and r8", f)
	}
	size := int(blockBytes[f])
	across := (w + 3) / 4
	// Rows of blocks are shared out between the processors.
	var wg parallel.Group
	rows := make(chan int, (h+3)/4)
	for y := range (h + 3) / 4 {
		rows <- y
	}
	close(rows)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			var t block
			for by := range rows {
				for bx := range across {
					t.take(img, 4*bx, 4*by)
					to := out[(by*across+bx)*size:][:size]
					switch f {
					case BC1:
						t.bc1(to, true)
					case BC3:
						t.channel(to, 3)
						t.bc1(to[8:], false)
					case BC4:
						t.channel(to, 0)
					case BC5:
						t.channel(to, 0)
						t.channel(to[8:], 1)
					case BC7:
						t.bc7(to)
					}
				}
			}
		})
	}
	wg.Wait()
	return out, nil
}

// block is 16 texels with their channels as floats, 0 to 255.
type block struct {
	v [16][4]float32
}

func (t *block) take(img *image.NRGBA, x, y int) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	for i := range t.v {
		p := img.Pix[min(y+i/4, h-1)*img.Stride+4*min(x+i%4, w-1):]
		t.v[i] = [4]float32{float32(p[0]), float32(p[1]), float32(p[2]), float32(p[3])}
	}
}

// axis is the mean of the texels of a mask and the direction in which they
// differ most: the principal axis of their covariance, by the power method.
func (t *block) axis(mask uint32, channels int) (mean, dir [4]float32) {
	n := float32(0)
	for i := range t.v {
		if mask>>i&1 != 0 {
			n++
			for c := range channels {
				mean[c] += t.v[i][c]
			}
		}
	}
	if n == 0 {
		return mean, dir
	}
	for c := range channels {
		mean[c] /= n
	}
	var cov [4][4]float32
	for i := range t.v {
		if mask>>i&1 == 0 {
			continue
		}
		var d [4]float32
		for c := range channels {
			d[c] = t.v[i][c] - mean[c]
		}
		for a := range channels {
			for b := a; b < channels; b++ {
				cov[a][b] += d[a] * d[b]
			}
		}
	}
	best := 0
	for a := range channels {
		for b := range a {
			cov[a][b] = cov[b][a]
		}
		if cov[a][a] > cov[best][best] {
			best = a
		}
	}
	dir = cov[best]
	for range 6 {
		var next [4]float32
		most := float32(0)
		for a := range channels {
			for b := range channels {
				next[a] += cov[a][b] * dir[b]
			}
			most = max(most, next[a], -next[a])
		}
		if most == 0 {
			return mean, [4]float32{}
		}
		for a := range channels {
			dir[a] = next[a] / most
		}
	}
	l := float32(0)
	for c := range channels {
		l += dir[c] * dir[c]
	}
	l = float32(math.Sqrt(float64(l)))
	for c := range channels {
		dir[c] /= l
	}
	return mean, dir
}

// ends are the outermost texels of a mask along their axis.
func (t *block) ends(mask uint32, channels int) (lo, hi [4]float32) {
	mean, dir := t.axis(mask, channels)
	a, b := float32(0), float32(0)
	first := true
	for i := range t.v {
		if mask>>i&1 == 0 {
			continue
		}
		d := float32(0)
		for c := range channels {
			d += (t.v[i][c] - mean[c]) * dir[c]
		}
		if first {
			a, b, first = d, d, false
		}
		a, b = min(a, d), max(b, d)
	}
	for c := range channels {
		lo[c], hi[c] = min(max(mean[c]+a*dir[c], 0), 255), min(max(mean[c]+b*dir[c], 0), 255)
	}
	return lo, hi
}

// refit solves for the endpoints that make the least square error for given
// weights: weight[i] of the second endpoint, 0 to 1.
func (t *block) refit(mask uint32, channels int, weight *[16]float32) (lo, hi [4]float32, ok bool) {
	var aa, ab, bb float32
	var xa, xb [4]float32
	for i := range t.v {
		if mask>>i&1 == 0 {
			continue
		}
		b := weight[i]
		a := 1 - b
		aa, ab, bb = aa+a*a, ab+a*b, bb+b*b
		for c := range channels {
			xa[c] += a * t.v[i][c]
			xb[c] += b * t.v[i][c]
		}
	}
	det := aa*bb - ab*ab
	if det < 1e-4 {
		return lo, hi, false
	}
	for c := range channels {
		lo[c] = min(max((bb*xa[c]-ab*xb[c])/det, 0), 255)
		hi[c] = min(max((aa*xb[c]-ab*xa[c])/det, 0), 255)
	}
	return lo, hi, true
}

func pack565(c [4]float32) uint16 {
	q := func(v float32, top float32) uint16 { return uint16(v*top/255 + 0.5) }
	return q(c[0], 31)<<11 | q(c[1], 63)<<5 | q(c[2], 31)
}

func unpack565(v uint16) [3]float32 {
	r, g, b := uint32(v>>11), uint32(v>>5&63), uint32(v&31)
	return [3]float32{float32((r*527 + 23) >> 6), float32((g*259 + 33) >> 6), float32((b*527 + 23) >> 6)}
}

// bc1 writes a colour block; with hole, texels of less than half alpha are
// left clear.
func (t *block) bc1(to []byte, hole bool) {
	mask := uint32(0xffff)
	if hole {
		for i := range t.v {
			if t.v[i][3] < 128 {
				mask &^= 1 << i
			}
		}
	}
	if mask == 0 {
		binary.LittleEndian.PutUint64(to, 0xffffffff00000000)
		return
	}
	three := mask != 0xffff
	lo, hi := t.ends(mask, 3)
	best := float32(math.MaxFloat32)
	for try := range 3 {
		c0, c1 := pack565(hi), pack565(lo)
		// The order of the endpoints tells the mode.
		if three == (c0 > c1) {
			c0, c1 = c1, c0
		}
		if !three && c0 == c1 { // one colour: any index of the first will do
			if c0 == 0 {
				c0 = 1
			} else {
				c1--
			}
		}
		a, b := unpack565(c0), unpack565(c1)
		steps := 4
		weights := [4]float32{0, 1, 1.0 / 3, 2.0 / 3}
		if three {
			steps, weights = 3, [4]float32{0, 1, 0.5, 0}
		}
		var pal [4][3]float32
		for k := range steps {
			for c := range 3 {
				pal[k][c] = a[c] + (b[c]-a[c])*weights[k]
			}
		}
		var bits uint32
		var weight [16]float32
		sum := float32(0)
		for i := range t.v {
			if mask>>i&1 == 0 {
				bits |= 3 << (2 * i)
				continue
			}
			k, e := 0, float32(math.MaxFloat32)
			for q := range steps {
				x, y, z := t.v[i][0]-pal[q][0], t.v[i][1]-pal[q][1], t.v[i][2]-pal[q][2]
				if d := x*x + y*y + z*z; d < e {
					k, e = q, d
				}
			}
			sum += e
			bits |= uint32(k) << (2 * i)
			weight[i] = weights[k]
		}
		if sum < best {
			best = sum
			binary.LittleEndian.PutUint16(to, c0)
			binary.LittleEndian.PutUint16(to[2:], c1)
			binary.LittleEndian.PutUint32(to[4:], bits)
		}
		if try == 2 || sum == 0 {
			break
		}
		var ok bool
		if hi, lo, ok = t.refit(mask, 3, &weight); !ok { // weight 0 is the first endpoint
			break
		}
	}
}

// channel writes one channel as BC4 does.
func (t *block) channel(to []byte, c int) {
	lo, hi := float32(255), float32(0)
	inLo, inHi := float32(255), float32(0) // without 0 and 255
	for i := range t.v {
		x := t.v[i][c]
		lo, hi = min(lo, x), max(hi, x)
		if x > 0 && x < 255 {
			inLo, inHi = min(inLo, x), max(inHi, x)
		}
	}
	try := func(a0, a1 byte) (uint64, float32) {
		var b [8]byte
		b[0], b[1] = a0, a1
		// The decoder's own table: indices in order of their number.
		for i := range 6 {
			b[2+i] = 0
		}
		var table [8]float32
		table[0], table[1] = float32(a0), float32(a1)
		if a0 > a1 {
			for i := 1; i < 7; i++ {
				table[i+1] = float32(((7-i)*int(a0) + i*int(a1)) / 7)
			}
		} else {
			for i := 1; i < 5; i++ {
				table[i+1] = float32(((5-i)*int(a0) + i*int(a1)) / 5)
			}
			table[6], table[7] = 0, 255
		}
		var bits uint64
		sum := float32(0)
		for i := range t.v {
			k, e := 0, float32(math.MaxFloat32)
			for q, v := range table {
				if d := (t.v[i][c] - v) * (t.v[i][c] - v); d < e {
					k, e = q, d
				}
			}
			sum += e
			bits |= uint64(k) << (3 * i)
		}
		return bits<<16 | uint64(a1)<<8 | uint64(a0), sum
	}
	word, best := try(byte(hi), byte(lo))
	if hi == lo {
		word = uint64(byte(hi))<<8 | uint64(byte(hi))
	} else if best > 0 {
		if inLo <= inHi && (lo == 0 || hi == 255) {
			if w, e := try(byte(inLo), byte(inHi)); e < best {
				word, best = w, e
			}
		}
		// A little within the outermost values the steps may fit better.
		d := (hi - lo) / 16
		if w, e := try(byte(hi-d), byte(lo+d)); e < best && byte(hi-d) > byte(lo+d) {
			word = w
		}
	}
	binary.LittleEndian.PutUint64(to, word)
}
