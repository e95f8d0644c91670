package target

import (
	"fmt"
	"math"
	"strings"

	"excavate/core/chain"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/shell"
	"excavate/core/solid"
)

// What a body of matter must be: its surface closed, its walls thick enough.

// solid is what is told of the surface as one; nil where the sheet asks nothing
// or there is no surface.
func (r *rehearsal) solid() *solid.Report {
	want := r.t.Solid
	if want == nil || r.st.Triangles == 0 {
		return nil
	}
	if r.body == nil {
		// Within a hundred thousandth of its size corners are one.
		sh := shell.Of(r.s, r.metres(), 1e-5*r.longest())
		r.body = solid.Look(sh, want.Wall, r.up())
	}
	return r.body
}

// up is the scene's own up axis, or that of the target.
func (r *rehearsal) up() geom.Vec3 {
	if r.s.Basis.Up != 0 {
		return r.s.Basis.Up.Vec()
	}
	if want, ok := r.want(); ok {
		return want.Up.Vec()
	}
	return geom.PlusY.Vec()
}

func (r *rehearsal) posed(name string) {
	if r.t.Solid == nil || !r.t.Solid.Posed {
		return
	}
	morphs := r.st.Morphs
	switch {
	case len(r.s.Skins) == 0 && morphs == 0:
		r.holds(name, "It stands in its pose", "")
	default:
		r.add(Finding{Rule: name, Severity: Stops, Title: "It is not in its pose",
			Where: fmt.Sprintf("%s, %s", format.Counted(len(r.s.Skins), "skin", "skins"),
				format.Counted(morphs, "morph target", "morph targets")),
			Why:   "Only the rest shape would be made, with limbs as they hang without bones.",
			Mends: []chain.Step{mend("bake-pose", params{})}, MendText: "Bake the pose"})
	}
}

// closed wants a surface that bounds a body.
func (r *rehearsal) closed(name string) {
	b := r.solid()
	if b == nil || !r.t.Solid.Closed {
		return
	}
	if b.Closed() {
		r.holds(name, "It is closed all round", r.matter(b))
		return
	}
	var where []string
	say := func(n int, one, many string) {
		if n > 0 {
			where = append(where, format.Counted(n, one, many))
		}
	}
	if b.Open > 0 {
		where = append(where,
			fmt.Sprintf("%s round %s", format.Counted(b.Open, "open edge", "open edges"),
				format.Counted(b.Holes, "hole", "holes")))
	}
	say(b.Odd, "edge of more than two faces", "edges of more than two faces")
	say(b.Disagree, "edge whose faces disagree on what is outside", "edges whose faces disagree on what is outside")
	say(b.InsideOut, "piece inside out", "pieces inside out")
	f := Finding{Rule: name, Severity: Stops, Title: "It is not closed", Where: strings.Join(where, ", "),
		Why: "What is inside and what is outside cannot be told there: layers come out empty or full."}
	switch {
	case b.Odd > 0:
		f.Ask = &Question{Text: "Edges of more than two faces close by no face that is added. What is right?",
			Answers: []Answer{
				{"Take out doubled faces and fill the holes", []chain.Step{mend("drop-double", params{"backs": true}),
					mend("fill-holes", params{"edges": 100000}), mend("facing", params{"how": "agree"})}},
				{"Make it of voxels anew", r.remade(0)},
			}}
		f.Mends, f.MendText = f.Ask.Answers[0].Mends, "Take out doubled faces"
	case b.Open > 0:
		f.Mends = []chain.Step{mend("fill-holes", params{"edges": 100000}), mend("facing", params{"how": "agree"})}
		f.MendText = "Fill the holes"
	default:
		f.Mends, f.MendText = []chain.Step{mend("facing", params{"how": "agree"})}, "Make faces look outwards"
	}
	r.add(f)
}

// matter tells volume and weight.
func (r *rehearsal) matter(b *solid.Report) string {
	text := fmt.Sprintf("%.4g cm³ in %s", b.Volume*1e6, format.Counted(b.Pieces, "piece", "pieces"))
	if d := r.t.Solid.Density; d > 0 {
		text += fmt.Sprintf(", %.4g g", b.Volume*d*1000)
	}
	return text
}

// grain is how many voxels the longest side has at most: the surface of a figure
// is then some hundred thousand triangles, which printers' programs take.
const grain = 512

// remade are the steps that make the whole anew of voxels, as fine as a
// 512th of it and no finer than a tenth of a millimetre, its walls grown by
// some voxels.
func (r *rehearsal) remade(grown int) []chain.Step {
	own := r.s.Basis.MetresPerUnit
	if own <= 0 {
		own = 1
	}
	size := math.Max(r.longest()/grain, 1e-4) / r.metres() * own
	steps := []chain.Step{mend("voxelise", params{"size": math.Round(size*1e7) / 1e7})}
	if grown > 0 {
		steps = append(steps, mend("voxel-shape", params{"do": "grow", "by": grown}))
	}
	return append(steps, mend("surfaces", params{"smooth": true}))
}

func (r *rehearsal) shells(name string) {
	b := r.solid()
	if b == nil || !r.t.Solid.Closed {
		return
	}
	if b.Within == 0 {
		r.holds(name, "No shell lies within another", "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Shells lie within others",
		Where: atLeast(b) + format.Counted(b.Within, "closed piece lies", "closed pieces lie") + " wholly in another and looks outwards",
		Why:   "Some printers leave a gap round each, others fill both.",
		Ask:   r.whetherAnew()})
}

func (r *rehearsal) crossing(name string) {
	b := r.solid()
	if b == nil || !r.t.Solid.Closed {
		return
	}
	if b.Crossing == 0 {
		r.holds(name, "No faces go through each other", "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Faces go through each other",
		Where: fmt.Sprintf("edges go through %s%s", atLeast(b), format.Counted(b.Crossing, "triangle", "triangles")),
		Why:   "Where bodies overlap, some printers leave out what is in both.",
		Ask:   r.whetherAnew()})
}

func (r *rehearsal) walls(name string) {
	b := r.solid()
	if b == nil || r.t.Solid.Wall <= 0 {
		return
	}
	least := r.t.Solid.Wall
	if b.Thin == 0 {
		r.holds(name, "The walls are thick enough", fmt.Sprintf("at least %.4g mm", least*1000))
		return
	}
	factor := least / math.Max(b.Thinnest, 1e-9)
	size := math.Max(r.longest()/grain, 1e-4)
	f := Finding{Rule: name, Severity: Warns, Title: "Walls are too thin",
		Where: fmt.Sprintf("%s, the thinnest %.3g mm, %.4g wanted",
			format.Counted(b.Thin, "triangle", "triangles"), b.Thinnest*1000, least*1000),
		Why: "What is thinner than the printer can make is left out or breaks off.",
		Ask: &Question{Text: "May it be larger, or are the walls to grow?", Answers: []Answer{
			{"Thicken all of it", r.remade(1 + int(math.Ceil((least-b.Thinnest)/2/size)))},
		}}}
	if factor < 20 {
		f.Ask.Answers = append(f.Ask.Answers, Answer{fmt.Sprintf("Make it %.3g times as large", factor),
			[]chain.Step{mend("scale", params{"factor": factor * 1.001})}})
	}
	r.add(f)
}

// atLeast stands before a count of what was not all looked at.
func atLeast(b *solid.Report) string {
	if b.Partly {
		return "at least "
	}
	return ""
}

// whetherAnew asks for what costs materials and sharp edges: it is not done
// unasked.
func (r *rehearsal) whetherAnew() *Question {
	return &Question{Text: "Bodies can be united by making all of it anew of voxels, " +
		"which rounds edges and takes pictures to vertex colours.",
		Answers: []Answer{{"Make it of voxels anew", r.remade(0)}}}
}

// bed wants it to fit the bed, turned by a quarter if need be.
func (r *rehearsal) bed(name string) {
	b := r.solid()
	if b == nil || len(r.t.Solid.Bed) != 3 {
		return
	}
	bed, up := r.t.Solid.Bed, r.up()
	tall := math.Abs(b.Size.Dot(up))
	var flat []float64
	for k := range 3 {
		if up[k] == 0 {
			flat = append(flat, b.Size[k])
		}
	}
	factor := bed[2] / math.Max(tall, 1e-12)
	factor = math.Min(factor, math.Max(math.Min(bed[0]/math.Max(flat[0], 1e-12), bed[1]/math.Max(flat[1], 1e-12)),
		math.Min(bed[1]/math.Max(flat[0], 1e-12), bed[0]/math.Max(flat[1], 1e-12))))
	at := fmt.Sprintf("%.4g × %.4g mm and %.4g mm high", flat[0]*1000, flat[1]*1000, tall*1000)
	if factor >= 1 {
		r.holds(name, "It fits the bed", at)
		return
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "It does not fit the bed",
		Where: fmt.Sprintf("%s; the bed is %.4g × %.4g mm, %.4g high", at, bed[0]*1000, bed[1]*1000, bed[2]*1000),
		Why:   "It must be smaller, or be made in parts.",
		Mends: []chain.Step{mend("scale",
			params{"factor": factor * 0.999})}, MendText: fmt.Sprintf("Scale by %.3g", factor*0.999)})
}

func (r *rehearsal) foot(name string) {
	b := r.solid()
	if b == nil || r.t.Solid.Foot <= 0 {
		return
	}
	at := fmt.Sprintf("%.3g cm² lie flat, %.3g wanted", b.Foot*1e4, r.t.Solid.Foot*1e4)
	if b.Foot >= r.t.Solid.Foot {
		r.holds(name, "It has a foot to stand on", at)
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "It has no flat foot", Where: at,
		Why: "It holds on the bed by next to nothing and comes off: give it a base, or cut it level."})
}
