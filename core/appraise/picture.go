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
	t := tally{a: &a}
	step := 1
	for (w/step)*(h/step) > sampleMost {
		step++
	}
	for y := 0; y < h; y += step {
		for x := 0; x < w; x += step {
			t.add(img.Pix[y*img.Stride+4*x:][:4])
		}
	}
	t.done()
	t.kind()
	if a.Kind == "normal map" {
		a.green(img)
	}
	t.ofAlpha()
	t.ofUse(expected)
	return a
}

// tally is what is counted of a picture's texels.
type tally struct {
	a          *Appraisal
	n          float64
	sum, sq    [4]float64
	cross      [3]float64 // of red and green, green and blue, blue and red
	rg, gb, rb float64    // their correlations, once all is counted

	unit, up          int // directions of length one; blue not below the middle
	grey              int // components within 4 of each other
	clear, half, over int // alpha 0; alpha in between; a colour brighter than its alpha
	warm, cold        int // red well above blue, and the other way round
}

func (t *tally) add(p []byte) {
	t.n++
	for c := range 4 {
		v := float64(p[c])
		t.sum[c] += v
		t.sq[c] += v * v
		t.a.Histogram[c][p[c]>>2]++
	}
	r, g, b := float64(p[0]), float64(p[1]), float64(p[2])
	t.cross[0] += r * g
	t.cross[1] += g * b
	t.cross[2] += r * b
	if l := math.Sqrt((r/127.5-1)*(r/127.5-1) + (g/127.5-1)*(g/127.5-1) + (b/127.5-1)*(b/127.5-1)); l > 0.9 && l < 1.1 {
		t.unit++
	}
	if p[2] >= 128 {
		t.up++
	}
	most := max(p[0], p[1], p[2])
	if most-min(p[0], p[1], p[2]) <= 4 {
		t.grey++
	}
	switch {
	case p[3] == 0:
		t.clear++
	case p[3] < 255:
		t.half++
	}
	if p[3] < 255 && most > p[3]+2 {
		t.over++
	}
	if p[0] > p[2]+12 {
		t.warm++
	} else if p[2] > p[0]+12 {
		t.cold++
	}
}

// done makes means, standard deviations and correlations of the sums.
func (t *tally) done() {
	a := t.a
	for c := range 4 {
		a.Mean[c] = t.sum[c] / t.n
		a.Spread[c] = math.Sqrt(math.Max(t.sq[c]/t.n-a.Mean[c]*a.Mean[c], 0))
	}
	corr := func(k, i, j int) float64 {
		d := a.Spread[i] * a.Spread[j]
		if d < 1e-9 {
			return 1
		}
		return (t.cross[k]/t.n - a.Mean[i]*a.Mean[j]) / d
	}
	t.rg, t.gb, t.rb = corr(0, 0, 1), corr(1, 1, 2), corr(2, 0, 2)
}

func (t *tally) share(k int) float64 { return float64(k) / t.n }

func (t *tally) say(kind string, surety float64, evidence ...string) {
	t.a.Kind, t.a.Surety, t.a.Evidence = kind, surety, evidence
}

func (t *tally) notice(f string, v ...any) { t.a.Notices = append(t.a.Notices, fmt.Sprintf(f, v...)) }

// about tells whether a component's mean lies within some of the middle, where
// directions without a slope have it.
func (t *tally) about(c int, within float64) bool { return math.Abs(t.a.Mean[c]-128) < within }

// kind decides what the picture is: the first that fits, the surest first.
func (t *tally) kind() {
	a := t.a
	low, high := min(t.rg, t.gb, t.rb), max(t.rg, t.gb, t.rb)
	switch {
	case max(a.Spread[0], a.Spread[1], a.Spread[2], a.Spread[3]) < 0.5:
		t.say("plain", 1,
			fmt.Sprintf("every texel is about %.0f, %.0f, %.0f, %.0f", a.Mean[0], a.Mean[1], a.Mean[2], a.Mean[3]))
	case t.share(t.unit) > 0.8 && t.share(t.up) > 0.95 && a.Mean[2] > 170 && t.about(0, 40) && t.about(1, 40):
		t.say("normal map", t.share(t.unit),
			fmt.Sprintf("%.0f %% of the texels are directions of length one", 100*t.share(t.unit)),
			fmt.Sprintf("they look up on the whole: the mean is %.0f, %.0f, %.0f", a.Mean[0], a.Mean[1], a.Mean[2]))
	case a.Mean[2] < 4 && t.about(0, 30) && t.about(1, 30) && a.Spread[2] < 2:
		t.say("normal map", 0.7, "red and green lie about the middle and blue is empty: a normal map of two channels")
	case t.about(3, 40) && t.about(1, 40) && min(a.Spread[3], a.Spread[1]) > 4 && max(a.Spread[0], a.Spread[2]) < 2:
		t.say("normal map", 0.6,
			"alpha and green lie about the middle and vary by themselves, red does not: a normal map packed in alpha and green")
	case t.share(t.grey) > 0.97:
		t.greyKind()
	case -0.35 < low && high < 0.35:
		t.say("packed", 0.6,
			fmt.Sprintf("the channels go their own ways (correlations %.2f, %.2f, %.2f): several masks in one picture",
				t.rg, t.gb, t.rb))
	case low < -0.35:
		t.say("colour", 0.5,
			fmt.Sprintf("the channels hang together, some against each other (correlations %.2f, %.2f, %.2f), as in drawings of few colours",
				t.rg, t.gb, t.rb))
	default:
		t.say("colour", math.Min(0.95, 0.5+0.5*high), together(t.rg, t.gb, t.rb))
	}
}

// greyKind tells an opacity, most of which is black or white, from other masks.
func (t *tally) greyKind() {
	h := t.a.Histogram[0]
	two := float64(h[0]+h[1]+h[62]+h[63]) / t.n
	if two > 0.8 {
		t.say("opacity", 0.6+0.4*(two-0.8)/0.2, fmt.Sprintf("%.0f %% of the texels are grey", 100*t.share(t.grey)),
			fmt.Sprintf("%.0f %% of them are black or white", 100*two))
		return
	}
	t.say("mask", t.share(t.grey)*0.9,
		fmt.Sprintf("%.0f %% of the texels are grey: height, roughness, occlusion and the like",
			100*t.share(t.grey)))
}

// ofAlpha says what alpha holds.
func (t *tally) ofAlpha() {
	a := t.a
	switch {
	case a.Spread[3] < 0.5 && a.Mean[3] > 254:
	case a.Spread[3] < 0.5 && a.Mean[3] < 1:
		t.notice("alpha is 0 everywhere: shown with it, nothing is seen")
	case a.Spread[3] < 0.5:
		t.notice("alpha is %.0f everywhere and tells nothing", a.Mean[3])
	case t.share(t.half) < 0.02:
		t.notice("alpha is on or off (%.0f %% clear): a cutout", 100*t.share(t.clear))
	default:
		t.notice("alpha varies (%.0f %% clear, %.0f %% in between): a blend, or another mask",
			100*t.share(t.clear), 100*t.share(t.half))
		if t.share(t.clear+t.half) > 0.05 && float64(t.over) < 0.002*t.n && a.Kind == "colour" {
			t.notice("no colour is brighter than its alpha: it is multiplied by it already")
		}
	}
}

// ofUse says what does not go with what a material uses the picture for.
func (t *tally) ofUse(expected string) {
	a := t.a
	switch expected {
	case "colour":
		if a.Kind == "colour" && t.share(t.cold) > 0.6 && t.share(t.warm) < 0.05 {
			t.notice("%.0f %% of the texels are bluish and hardly any is warm: red and blue may be swapped", 100*t.share(t.cold))
		}
		if a.Kind == "normal map" {
			t.notice("the material uses it as colour, and it looks like a normal map")
		}
	case "normal":
		if a.Kind != "normal map" && a.Kind != "plain" {
			t.notice("the material uses it as a normal map, and it looks like %s", a.Kind)
		}
		if t.share(t.unit) < 0.8 && a.Mean[0] > 170 && t.about(2, 40) {
			t.notice("red is high where blue should be: red and blue may be swapped")
		}
	}
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
