package appraise

import (
	"fmt"
	"image"
	"math"
	"strings"
)

// Appraisal is what a picture probably is, with what speaks for it.
type Appraisal struct {
	Kind      string     `json:"kind"`     // colour, normal map, mask, opacity, packed, plain
	Surety    float64    `json:"surety"`   // 0 to 1
	Evidence  []string   `json:"evidence"` // for the kind
	Notices   []string   `json:"notices"`  // what is odd: swapped channels, unused alpha
	Green     string     `json:"green,omitempty"`
	Histogram [4][64]int `json:"histogram"` // of R, G, B, A in 64 bins
	Mean      [4]float64 `json:"mean"`      // 0 to 255
	Spread    [4]float64 `json:"spread"`    // standard deviation
	Width     int        `json:"width"`
	Height    int        `json:"height"`
}

// sampleMost bounds how many texels are looked at, evenly over the picture.
const sampleMost = 1 << 20

// Appraise looks at a picture. expected is what its material uses it for, or
// empty.
func Appraise(img *image.NRGBA, expected string) Appraisal {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	a := Appraisal{Width: w, Height: h, Evidence: []string{}, Notices: []string{}}
	if w == 0 || h == 0 {
		a.Kind = "plain"
		return a
	}
	step := 1
	for (w/step)*(h/step) > sampleMost {
		step++
	}
	var n float64
	var sum, sq [4]float64
	var cross [3]float64 // RG, GB, RB
	unit, up, grey, clear, half, over := 0, 0, 0, 0, 0, 0
	warm, cold := 0, 0
	for y := 0; y < h; y += step {
		for x := 0; x < w; x += step {
			p := img.Pix[y*img.Stride+4*x:][:4]
			n++
			for c := range 4 {
				v := float64(p[c])
				sum[c] += v
				sq[c] += v * v
				a.Histogram[c][p[c]>>2]++
			}
			r, g, b := float64(p[0]), float64(p[1]), float64(p[2])
			cross[0] += r * g
			cross[1] += g * b
			cross[2] += r * b
			l := math.Sqrt((r/127.5-1)*(r/127.5-1) + (g/127.5-1)*(g/127.5-1) + (b/127.5-1)*(b/127.5-1))
			if l > 0.9 && l < 1.1 {
				unit++
			}
			if p[2] >= 128 {
				up++
			}
			if d := max(p[0], p[1], p[2]) - min(p[0], p[1], p[2]); d <= 4 {
				grey++
			}
			switch {
			case p[3] == 0:
				clear++
			case p[3] < 255:
				half++
			}
			if p[3] < 255 && max(p[0], p[1], p[2]) > p[3]+2 {
				over++
			}
			if p[0] > p[2]+12 {
				warm++
			} else if p[2] > p[0]+12 {
				cold++
			}
		}
	}
	for c := range 4 {
		a.Mean[c] = sum[c] / n
		a.Spread[c] = math.Sqrt(math.Max(sq[c]/n-a.Mean[c]*a.Mean[c], 0))
	}
	corr := func(k, i, j int) float64 {
		d := a.Spread[i] * a.Spread[j]
		if d < 1e-9 {
			return 1
		}
		return (cross[k]/n - a.Mean[i]*a.Mean[j]) / d
	}
	rg, gb, rb := corr(0, 0, 1), corr(1, 1, 2), corr(2, 0, 2)
	share := func(k int) float64 { return float64(k) / n }
	say := func(kind string, surety float64, evidence ...string) {
		a.Kind, a.Surety, a.Evidence = kind, surety, evidence
	}
	bluish := a.Mean[2] > 170 && math.Abs(a.Mean[0]-128) < 40 && math.Abs(a.Mean[1]-128) < 40
	switch {
	case max(a.Spread[0], a.Spread[1], a.Spread[2]) < 0.5 && a.Spread[3] < 0.5:
		say("plain", 1, fmt.Sprintf("every texel is about %.0f, %.0f, %.0f, %.0f", a.Mean[0], a.Mean[1], a.Mean[2], a.Mean[3]))
	case share(unit) > 0.8 && share(up) > 0.95 && bluish:
		say("normal map", share(unit), fmt.Sprintf("%.0f %% of the texels are directions of length one", 100*share(unit)), fmt.Sprintf("they look up on the whole: the mean is %.0f, %.0f, %.0f", a.Mean[0], a.Mean[1], a.Mean[2]))
		a.green(img)
	case a.Mean[2] < 4 && math.Abs(a.Mean[0]-128) < 30 && math.Abs(a.Mean[1]-128) < 30 && a.Spread[2] < 2:
		say("normal map", 0.7, "red and green lie about the middle and blue is empty: a normal map of two channels")
		a.green(img)
	case math.Abs(a.Mean[3]-128) < 40 && math.Abs(a.Mean[1]-128) < 40 && a.Spread[3] > 4 && a.Spread[1] > 4 && a.Spread[0] < 2 && a.Spread[2] < 2:
		say("normal map", 0.6, "alpha and green lie about the middle and vary by themselves, red does not: a normal map packed in alpha and green")
	case share(grey) > 0.97:
		two := float64(a.Histogram[0][0]+a.Histogram[0][1]+a.Histogram[0][62]+a.Histogram[0][63]) / n
		if two > 0.8 {
			say("opacity", 0.6+0.4*(two-0.8)/0.2, fmt.Sprintf("%.0f %% of the texels are grey", 100*share(grey)), fmt.Sprintf("%.0f %% of them are black or white", 100*two))
		} else {
			say("mask", share(grey)*0.9, fmt.Sprintf("%.0f %% of the texels are grey: height, roughness, occlusion and the like", 100*share(grey)))
		}
	case math.Abs(rg) < 0.35 && math.Abs(gb) < 0.35 && math.Abs(rb) < 0.35:
		say("packed", 0.6, fmt.Sprintf("the channels go their own ways (correlations %.2f, %.2f, %.2f): several masks in one picture", rg, gb, rb))
	case rg < -0.35 || gb < -0.35 || rb < -0.35:
		say("colour", 0.5, fmt.Sprintf("the channels hang together, some against each other (correlations %.2f, %.2f, %.2f), as in drawings of few colours", rg, gb, rb))
	default:
		say("colour", math.Min(0.95, 0.5+0.5*math.Max(rg, math.Max(gb, rb))), together(rg, gb, rb))
	}
	notice := func(f string, v ...any) { a.Notices = append(a.Notices, fmt.Sprintf(f, v...)) }
	switch {
	case a.Spread[3] < 0.5 && a.Mean[3] > 254:
	case a.Spread[3] < 0.5 && a.Mean[3] < 1:
		notice("alpha is 0 everywhere: shown with it, nothing is seen")
	case a.Spread[3] < 0.5:
		notice("alpha is %.0f everywhere and tells nothing", a.Mean[3])
	case share(half) < 0.02:
		notice("alpha is on or off (%.0f %% clear): a cutout", 100*share(clear))
	default:
		notice("alpha varies (%.0f %% clear, %.0f %% in between): a blend, or another mask", 100*share(clear), 100*share(half))
		if share(clear+half) > 0.05 && float64(over) < 0.002*n && a.Kind == "colour" {
			notice("no colour is brighter than its alpha: it is multiplied by it already")
		}
	}
	if a.Kind == "colour" && share(cold) > 0.6 && share(warm) < 0.05 && expected == "colour" {
		notice("%.0f %% of the texels are bluish and hardly any is warm: red and blue may be swapped", 100*share(cold))
	}
	if a.Kind == "normal map" && expected == "colour" {
		notice("the material uses it as colour, and it looks like a normal map")
	}
	if expected == "normal" && a.Kind != "normal map" && a.Kind != "plain" {
		notice("the material uses it as a normal map, and it looks like %s", a.Kind)
	}
	if share(unit) < 0.8 && expected == "normal" && a.Mean[0] > 170 && math.Abs(a.Mean[2]-128) < 40 {
		notice("red is high where blue should be: red and blue may be swapped")
	}
	return a
}

// green tells which way green points. The slopes that a normal map stands for
// are those of a surface, so that their curl vanishes: with the wrong sign of
// green it does not (Horn, "Robot Vision", 1986, section 11.7).
func (a *Appraisal) green(img *image.NRGBA) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	slope := func(x, y, c int) float64 {
		p := img.Pix[y*img.Stride+4*x:][:4]
		nx, ny := float64(p[0])/127.5-1, float64(p[1])/127.5-1
		nz := math.Sqrt(math.Max(1-nx*nx-ny*ny, 0.01))
		if c == 0 {
			return nx / nz
		}
		return ny / nz
	}
	// With y down, height z: n = (-zx, -zy·s, 1), s = -1 where green points up.
	var upErr, downErr float64
	step := 1
	for (w/step)*(h/step) > sampleMost {
		step++
	}
	for y := 0; y+1 < h; y += step {
		for x := 0; x+1 < w; x += step {
			py := slope(x, y+1, 0) - slope(x, y, 0) // d(zx)/dy
			qx := slope(x+1, y, 1) - slope(x, y, 1) // d(zy)/dx, sign open
			downErr += (py - qx) * (py - qx)
			upErr += (py + qx) * (py + qx)
		}
	}
	if upErr+downErr < 1e-9 {
		return
	}
	ratio := math.Abs(upErr-downErr) / (upErr + downErr)
	if ratio < 0.1 {
		a.Evidence = append(a.Evidence, "which way green points cannot be told from it")
		return
	}
	a.Green = "up"
	if downErr < upErr {
		a.Green = "down"
	}
	a.Evidence = append(a.Evidence, fmt.Sprintf("green points %s: the slopes then belong to one surface (curl %.2g, the other way %.2g)", a.Green, math.Min(upErr, downErr), math.Max(upErr, downErr)))
}

// together says which channels rise and fall together: all, or those of the
// pairs whose correlation is plain.
func together(rg, gb, rb float64) string {
	var pairs []string
	for _, p := range []struct {
		names string
		r     float64
	}{{"red and green", rg}, {"green and blue", gb}, {"red and blue", rb}} {
		if p.r >= 0.35 {
			pairs = append(pairs, p.names)
		}
	}
	who := strings.Join(pairs, ", ")
	if len(pairs) == 3 {
		who = "the channels"
	}
	return fmt.Sprintf("%s rise and fall together (correlations %.2f, %.2f, %.2f), as those of colours do", who, rg, gb, rb)
}
