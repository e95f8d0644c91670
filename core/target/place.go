package target

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"excavate/core/appraise"
	"excavate/core/chain"
	"excavate/core/geom"
)

// Where the asset stands, which way up and how large.

// basis holds the axes and the unit against the target's.
func (r *rehearsal) basis(name string) {
	want, ok := r.want()
	if !ok {
		return
	}
	b := r.t.Basis
	with := params{"up": b.Up, "front": b.Front, "handedness": b.Handed, "unit": b.MetresPerUnit}
	have := r.s.Basis
	switch {
	case have == want:
		r.holds(name, "The basis is the target's", want.String())
	case !have.Known():
		f := Finding{Rule: name, Severity: Warns, Title: "The source does not declare its whole basis",
			Where: have.String(),
			Why: "The target takes the numbers as " + want.String() +
				". Compare with the scale figure and state what is right.",
			MendText: "Add “Change basis”"}
		with["assume"], f.Evidence = r.assumed(have, want)
		f.Mends = []chain.Step{mend("basis", with)}
		r.add(f)
	default:
		r.add(Finding{Rule: name, Severity: Stops, Title: "The basis is not the target's",
			Where: have.String() + ", the target wants " + want.String(),
			Why:   "The asset would " + differ(have, want) + ".", Mends: []chain.Step{mend("basis", with)},
			MendText: "Add “Change basis”"})
	}
}

// assumed is what an undeclared basis most likely is: what the scene itself
// speaks for, else what the target means by the numbers.
func (r *rehearsal) assumed(have, want geom.Basis) (with params, evidence string) {
	with = params{}
	var why []string
	said := map[string]appraise.Clue{}
	for _, c := range appraise.Basis(r.s) {
		if _, ok := said[c.About]; !ok {
			said[c.About] = c
		}
	}
	axis := func(about string, def geom.Axis) geom.Axis {
		c, ok := said[about]
		if !ok {
			return def
		}
		text := c.Says
		if !strings.HasPrefix(text, "-") {
			text = "+" + text
		}
		a, err := geom.ParseAxis(text)
		if err != nil {
			return def
		}
		why = append(why, c.Why)
		return a
	}
	def := have.Or(want)
	if have.Up == 0 {
		was := len(why)
		if def.Up = axis("up", def.Up); len(why) == was {
			why = append(why,
				fmt.Sprintf("nothing in the asset speaks for its up axis: %s is taken, as over there", def.Up))
		}
	}
	if have.Front == 0 {
		def.Front = axis("front", def.Front)
	}
	if along(def.Up, def.Front) { // the front that is left
		def.Front = geom.PlusZ
		if along(def.Up, def.Front) {
			def.Front = -geom.PlusY
		}
	}
	if have.Handed == "" && want.Handed != geom.Right {
		def.Handed = geom.Right
		why = append(why, "it is taken for right-handed, as interchange formats are")
	}
	if have.MetresPerUnit == 0 {
		var says string
		def.MetresPerUnit, says = r.unit(said, want.MetresPerUnit)
		why = append(why, says)
	}
	if have.Up == 0 {
		with["up"] = def.Up.String()
	}
	if have.Front == 0 {
		with["front"] = def.Front.String()
	}
	if have.Handed == "" {
		with["handedness"] = string(def.Handed)
	}
	if have.MetresPerUnit == 0 {
		with["unit"] = def.MetresPerUnit
	}
	return with, strings.Join(why, "; ")
}

// unit is what one unit of an undeclared one most likely is: what the asset
// speaks for, else the first of the usual units by which it has a size that the
// target takes.
func (r *rehearsal) unit(said map[string]appraise.Clue, target float64) (metres float64, why string) {
	if c, ok := said["unit"]; ok {
		if m, err := strconv.ParseFloat(c.Says, 64); err == nil && m > 0 {
			return m, c.Why
		}
	}
	d := geom.Box{Min: r.st.Min, Max: r.st.Max}.Size()
	longest := math.Max(d[0], math.Max(d[1], d[2]))
	for _, u := range []struct {
		m    float64
		name string
	}{{1, "metres"}, {0.01, "centimetres"}, {0.001, "millimetres"}, {0.0254, "inches"}, {0.3048, "feet"}} {
		if r.t.Size != nil && r.within(longest*u.m) {
			return u.m, fmt.Sprintf("nothing declares the unit: as %s it is %.4g m long, which the target takes",
				u.name, longest*u.m)
		}
	}
	return target, "nothing in the asset speaks for its unit: it is taken for the target's"
}

func along(a, b geom.Axis) bool { return a == b || a == -b }

// differ says what one sees when numbers of one basis are read in another.
func differ(have, want geom.Basis) string {
	var p []string
	if have.Up != want.Up {
		p = append(p, "lie on its side")
	} else if have.Front != want.Front {
		p = append(p, "face the wrong way")
	}
	if have.Handed != want.Handed {
		p = append(p, "be mirrored")
	}
	if f := want.MetresPerUnit / have.MetresPerUnit; f > 1 {
		p = append(p, fmt.Sprintf("be %.4g times too large", f))
	} else if f < 1 {
		p = append(p, fmt.Sprintf("be %.4g times too small", 1/f))
	}
	if len(p) == 0 {
		return "be turned"
	}
	if len(p) == 1 {
		return p[0]
	}
	return strings.Join(p[:len(p)-1], ", ") + " and " + p[len(p)-1]
}

// longest is the longest side as the target will see it, in metres.
func (r *rehearsal) longest() float64 {
	d := geom.Box{Min: r.st.Min, Max: r.st.Max}.Size()
	return math.Max(d[0], math.Max(d[1], d[2])) * r.metres()
}

func (r *rehearsal) size(name string) {
	z := r.t.Size
	if z == nil {
		return
	}
	if r.st.Vertices == 0 {
		if len(r.s.Motions) == 0 || r.st.Bones+len(r.s.Nodes) == 0 { // a motion alone shows nothing
			r.add(Finding{Rule: name, Severity: Stops, Title: "There is no mesh",
				Why: "The target would show nothing."})
		}
		return
	}
	longest := r.longest()
	at := fmt.Sprintf("longest side %.4g m beside a 1.75 m figure", longest)
	if longest >= z.Least && longest <= z.Most {
		r.holds(name, "The size is plausible", at)
		return
	}
	f := Finding{Rule: name, Severity: Stops, Title: "The size is not plausible", Where: at,
		Why: fmt.Sprintf("The target's assets are between %g and %g m. Most often the unit is wrong.", z.Least, z.Most)}
	want, known := r.want()
	switch fr := r.t.Fraction; {
	case known && r.s.Basis.Known() && r.s.Basis.MetresPerUnit != want.MetresPerUnit &&
		r.within(longest*r.s.Basis.MetresPerUnit/want.MetresPerUnit):
		b := r.t.Basis
		f.Mends, f.MendText = []chain.Step{mend("basis",
			params{"up": b.Up, "front": b.Front, "handedness": b.Handed, "unit": b.MetresPerUnit})},
			"Add “Change basis”"
	case fr > 0 && r.within(longest*fr):
		f.Title, f.Why = "It is as large as in life", fmt.Sprintf("The target shows things at %g of their size.", fr)
		f.Mends, f.MendText = []chain.Step{mend("scale", params{"factor": fr})}, fmt.Sprintf("Scale by %g", fr)
	default:
		f.Ask, f.Evidence = r.resized(longest)
		if f.Ask != nil {
			f.Mends, f.MendText = f.Ask.Answers[0].Mends, f.Ask.Answers[0].Text
		}
	}
	r.add(f)
}

func (r *rehearsal) within(longest float64) bool {
	return longest >= r.t.Size.Least && longest <= r.t.Size.Most
}

// The mistakes that are made with units, by what undoes them.
var unitSlips = []struct {
	factor float64
	why    string
}{
	{0.001, "millimetres were taken for metres"}, {1000, "metres were taken for millimetres"},
	{0.01, "centimetres were taken for metres"}, {100, "metres were taken for centimetres"},
	{0.1, "millimetres were taken for centimetres"}, {10, "centimetres were taken for millimetres"},
	{0.0254, "inches were taken for metres"}, {1 / 0.0254, "metres were taken for inches"},
	{0.3048, "feet were taken for metres"}, {1 / 0.3048, "metres were taken for feet"},
	{1e-6, "a thousandth was taken twice the wrong way"}, {1e6, "a thousandth was taken twice"},
	{1e-4, "a hundredth was taken twice the wrong way"}, {1e4, "a hundredth was taken twice"},
}

// leastSlip is by how much a size is off at least where a unit was taken for
// another: decimetres for metres are the nearest.
const leastSlip = 8

// resized asks how large the asset is. The likeliest answer stands first: the
// slip of units that makes a body as tall as the scale figure, or a thing
// nearest to the middle (geometric) of what the target takes.
func (r *rehearsal) resized(longest float64) (*Question, string) {
	z := r.t.Size
	aim, about := math.Sqrt(math.Max(z.Least, 1e-6)*z.Most), ""
	if r.st.Bones >= 10 {
		aim, about = 1.75, "it has the bones of a body; "
	}
	if fr := r.t.Fraction; fr > 0 && r.st.Bones >= 10 {
		aim *= fr
	}
	if !(longest > 0) {
		return nil, ""
	}
	off := func(f float64) float64 { return math.Abs(math.Log(longest * f / aim)) }
	if f := math.Max(z.Least/longest, longest/math.Max(z.Most, 1e-300)); f < leastSlip && r.s.Basis.MetresPerUnit > 0 {
		to := math.Min(math.Max(longest, z.Least), z.Most)
		q := &Question{Text: fmt.Sprintf("It is %.4g m, the target takes %g to %g m. Shall it be scaled?",
			longest, z.Least, z.Most)}
		q.Answers = []Answer{{fmt.Sprintf("Scale it to %.3g m", to),
			[]chain.Step{mend("scale", params{"factor": to / longest})}}}
		return q,
			fmt.Sprintf("it is %.2g times off, which no slip of units makes, and its file declares the unit: "+
				"it is brought to %.3g m", f, to)
	}
	best := -1
	q := &Question{Text: fmt.Sprintf("How large is it? As it stands its longest side is %.4g m.", longest)}
	for i, u := range unitSlips {
		if !r.within(longest * u.factor) {
			continue
		}
		q.Answers = append(q.Answers, Answer{fmt.Sprintf("%.3g m: %s", longest*u.factor, u.why),
			[]chain.Step{mend("scale", params{"factor": u.factor})}})
		if best < 0 || off(u.factor) < off(unitSlips[best].factor) {
			best = i
			n := len(q.Answers) - 1
			q.Answers[0], q.Answers[n] = q.Answers[n], q.Answers[0]
		}
	}
	if best < 0 { // no slip explains it: the nearest size that is taken
		to := math.Min(math.Max(aim, z.Least), z.Most)
		q.Answers = []Answer{{fmt.Sprintf("%.3g m: as the target's other assets", to),
			[]chain.Step{mend("scale", params{"factor": to / longest})}}}
		return q, about + fmt.Sprintf("no usual slip of units explains %.4g m", longest)
	}
	return q, about + fmt.Sprintf("%s: that makes %.4g m of %.4g m", unitSlips[best].why,
		longest*unitSlips[best].factor, longest)
}

func (r *rehearsal) ground(name string) {
	if !r.t.Ground || r.s.Basis.Up == 0 || r.st.Vertices == 0 {
		return
	}
	up := r.s.Basis.Up.Vec()
	lowest := math.Min(geom.Vec3(r.st.Min).Dot(up), geom.Vec3(r.st.Max).Dot(up)) * r.metres()
	at := fmt.Sprintf("lowest point at %.3f m", lowest)
	if math.Abs(lowest) <= 0.0015 {
		r.holds(name, "It stands on the ground", at)
		return
	}
	what := "float above the floor"
	if lowest < 0 {
		what = "sink into the floor"
	}
	with := params{}
	if r.t.Centred {
		with["centre"] = true
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "It does not stand on the ground", Where: at,
		Why:   "Placed at the origin it would " + what + ".",
		Mends: []chain.Step{mend("ground", with)}, MendText: "Add “Sit on the ground”"})
}

// centred wants the middle of the box over the origin.
func (r *rehearsal) centred(name string) {
	if !r.t.Centred || r.s.Basis.Up == 0 || r.st.Vertices == 0 {
		return
	}
	up := r.s.Basis.Up.Vec()
	mid := geom.Vec3(r.st.Min).Add(geom.Vec3(r.st.Max)).Mul(r.metres() / 2)
	off := mid.Sub(up.Mul(mid.Dot(up))).Len()
	at := fmt.Sprintf("its middle is %.3f m from the origin", off)
	if off <= math.Max(0.002, 0.001*r.longest()) {
		r.holds(name, "It stands over the origin", at)
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "It does not stand over the origin", Where: at,
		Why:   "Picked up or turned, it would swing round a point beside it.",
		Mends: []chain.Step{mend("ground", params{"centre": true})}, MendText: "Centre it on the ground"})
}
