package rig

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Match is a bone that is a limb, with what says so.
type Match struct {
	Bone     int      `json:"bone"`
	Evidence []string `json:"evidence"`
	Sure     float64  `json:"sure"` // 0 to 1
}

// Body is which bone is which limb, by the limbs' names.
type Body map[string]Match

// Limbs lists the humanoid bones of VRM 1.0, parents before children.
var Limbs = limbs()

// Parents is the limb above each limb; a limb that a skeleton lacks is passed
// over.
var Parents = map[string]string{}

func limbs() []string {
	list := []string{"hips", "spine", "chest", "upperChest", "neck", "head", "jaw", "leftEye", "rightEye"}
	above := map[string]string{"spine": "hips", "chest": "spine", "upperChest": "chest", "neck": "upperChest",
		"head": "neck", "jaw": "head", "leftEye": "head", "rightEye": "head"}
	chain := func(top string, names ...string) {
		for _, n := range names {
			above[n] = top
			list = append(list, n)
			top = n
		}
	}
	for _, side := range []string{"left", "right"} {
		chain("hips", side+"UpperLeg", side+"LowerLeg", side+"Foot", side+"Toes")
		chain("upperChest", side+"Shoulder", side+"UpperArm", side+"LowerArm", side+"Hand")
		chain(side+"Hand", side+"ThumbMetacarpal", side+"ThumbProximal", side+"ThumbDistal")
		for _, f := range []string{"Index", "Middle", "Ring", "Little"} {
			chain(side+"Hand", side+f+"Proximal", side+f+"Intermediate", side+f+"Distal")
		}
	}
	for k, v := range above {
		Parents[k] = v
	}
	return list
}

// Needed are the limbs without which a body is none (VRMC_vrm-1.0, humanoid,
// required bones).
var Needed = []string{"hips", "spine", "head",
	"leftUpperLeg", "leftLowerLeg", "leftFoot", "rightUpperLeg", "rightLowerLeg", "rightFoot",
	"leftUpperArm", "leftLowerArm", "leftHand", "rightUpperArm", "rightLowerArm", "rightHand"}

// Missing tells which limbs of a whole body are missing.
func (b Body) Missing() (out []string) {
	for _, l := range Needed {
		if _, ok := b[l]; !ok {
			out = append(out, l)
		}
	}
	return out
}

// Limb is the limb that a bone is; empty if none.
func (b Body) Limb(bone int) string {
	for l, m := range b {
		if m.Bone == bone {
			return l
		}
	}
	return ""
}

// Map finds the body of a skeleton. fixed are limbs whose bones somebody said,
// by bone name; the rest follows them.
func (r *Rig) Map(fixed map[string]string) Body {
	m := &mapper{r: r, body: Body{}, taken: map[int]string{}, names: r.readNames()}
	for limb, name := range fixed {
		for _, b := range r.Bones {
			if r.Name(b) == name && slices.Contains(Limbs, limb) {
				m.take(limb, b, 1, "said so")
			}
		}
	}
	if a := r.Scene.Avatar; a != nil {
		for limb, n := range a.Bones {
			if slices.Contains(Limbs, limb) {
				m.take(limb, n, 1, "the file says so")
			}
		}
	}
	m.byNames()
	m.byShape()
	m.checked()
	return m.body
}

type mapper struct {
	r     *Rig
	body  Body
	taken map[int]string
	names map[int]read
}

// take gives a limb its bone, unless one of the two is taken.
func (m *mapper) take(limb string, bone int, sure float64, why string) bool {
	if had, ok := m.body[limb]; ok {
		if had.Bone == bone && !slices.Contains(had.Evidence, why) { // two reasons are better than one
			had.Evidence = append(had.Evidence, why)
			had.Sure = 1 - (1-had.Sure)*(1-sure)
			m.body[limb] = had
		}
		return had.Bone == bone
	}
	if _, ok := m.taken[bone]; ok {
		return false
	}
	m.body[limb] = Match{Bone: bone, Evidence: []string{why}, Sure: sure}
	m.taken[bone] = limb
	return true
}

func (m *mapper) bone(limb string) int {
	if x, ok := m.body[limb]; ok {
		return x.Bone
	}
	return scene.None
}

// readNames reads what the bones' names say. Words that most names begin with
// are the skeleton's, not the bone's.
func (r *Rig) readNames() map[int]read {
	lists := map[int][]string{}
	first := map[string]int{}
	for _, b := range r.Bones {
		lists[b] = tokens(r.Name(b))
		if len(lists[b]) > 1 {
			first[lists[b][0]]++
		}
	}
	out := map[int]read{}
	letters := map[string]int{} // of sides, where each stands with a limb
	for _, b := range r.Bones {
		t := lists[b]
		for len(t) > 1 && first[t[0]]*10 >= len(r.Bones)*7 && len(r.Bones) > 3 {
			t = t[1:]
		}
		lists[b] = t
		if out[b] = readName(t); len(out[b].parts) > 0 && out[b].side == 0 {
			for _, w := range t {
				if w == "g" || w == "d" {
					letters[w]++
				}
			}
		}
	}
	if letters["g"] > 2 && letters["g"] == letters["d"] { // gauche and droite
		for b, x := range out {
			for _, w := range lists[b] {
				if len(x.parts) > 0 && x.side == 0 && (w == "g" || w == "d") {
					x.side = map[string]int{"g": 1, "d": -1}[w]
				}
			}
			out[b] = x
		}
	}
	return out
}

// sided lists the bones whose names say a part and a side, nearest to the root
// first; those that twist or end something come last.
func (m *mapper) sided(part string, side int) (out []int) {
	for _, beside := range []bool{false, true} {
		for _, b := range m.r.Bones {
			n := m.names[b]
			limb := n.side == side && n.beside == beside && slices.Contains(n.parts, part)
			// The end of a foot may be its toes; of an arm it is no hand.
			if limb && (!beside || part == "toes" || part == "foot") {
				out = append(out, b)
			}
		}
	}
	return out
}

func (m *mapper) named(limb, part string, side int, sure float64) {
	for _, b := range m.sided(part, side) {
		n := m.names[b]
		// A hand's finger names the hand too: the part that stands last counts,
		// and fingers count before hands.
		finger := fingerOf(n) != "" && !strings.Contains(limb, "Thumb") && part != "toes"
		if finger || part == "foot" && n.toe || part == "hips" && n.side != 0 {
			continue
		}
		if m.take(limb, b, sure, fmt.Sprintf("named “%s”", m.r.Name(b))) {
			return
		}
	}
}

// fingerOf is the finger that a name is about.
func fingerOf(n read) string {
	for _, f := range []string{"thumb", "index", "middle", "ring", "little"} {
		if slices.Contains(n.parts, f) && !n.toe {
			return f
		}
	}
	return ""
}

// byNames takes what names say.
func (m *mapper) byNames() {
	const sure = 0.8
	m.named("hips", "hips", 0, sure)
	m.named("head", "head", 0, sure)
	m.named("neck", "neck", 0, sure)
	m.named("jaw", "jaw", 0, sure)
	m.spine()
	for side, name := range map[int]string{1: "left", -1: "right"} {
		m.named(name+"Shoulder", "shoulder", side, sure)
		m.named(name+"UpperArm", "upperArm", side, sure)
		m.named(name+"LowerArm", "lowerArm", side, sure)
		m.named(name+"Hand", "hand", side, sure)
		m.named(name+"UpperLeg", "upperLeg", side, sure)
		m.named(name+"LowerLeg", "lowerLeg", side, sure)
		m.named(name+"Foot", "foot", side, sure)
		m.named(name+"Toes", "toes", side, sure)
		m.named(name+"Eye", "eye", side, sure)
		m.loose(name, side, "arm", "UpperArm", "LowerArm")
		m.loose(name, side, "leg", "UpperLeg", "LowerLeg")
		m.fingersByName(name, side)
	}
}

// loose reads bones that are only called arm or leg: the upper one where
// nothing is, else the lower.
func (m *mapper) loose(name string, side int, part, upper, lower string) {
	list := m.sided(part, side)
	list = slices.DeleteFunc(list, func(b int) bool {
		_, taken := m.taken[b]
		return taken || len(m.names[b].parts) != 1
	})
	for _, b := range list {
		why := fmt.Sprintf("named “%s”", m.r.Name(b))
		n := m.names[b]
		u, l := m.bone(name+upper), m.bone(name+lower)
		switch {
		case n.lower && m.take(name+lower, b, 0.8, why):
		case n.upper && m.take(name+upper, b, 0.8, why):
		case u == scene.None && (l == scene.None || m.r.within(l, b)):
			m.take(name+upper, b, 0.7, why)
		case l == scene.None && u != scene.None && m.r.within(b, u):
			m.take(name+lower, b, 0.7, why)
		}
	}
}

// spine names the bones between hips and neck in their order.
func (m *mapper) spine() {
	var list []int
	for _, b := range m.r.Bones {
		n := m.names[b]
		if n.side == 0 && !n.beside && (slices.Contains(n.parts, "spine") || slices.Contains(n.parts, "chest")) {
			list = append(list, b)
		}
	}
	m.spineOf(list, 0.8, func(b int) string { return fmt.Sprintf("named “%s”", m.r.Name(b)) })
}

// spineOf spreads the limbs of the spine over its bones, lowest first: the
// first is the spine, the last the highest of the chest.
func (m *mapper) spineOf(list []int, sure float64, why func(b int) string) {
	list = slices.DeleteFunc(list, func(b int) bool { _, taken := m.taken[b]; return taken })
	limbs := []string{}
	switch n := len(list); {
	case n == 1:
		limbs = []string{"spine"}
	case n == 2:
		limbs = []string{"spine", "chest"}
	case n >= 3:
		limbs = []string{"spine", "chest", "upperChest"}
		list = []int{list[0], list[n/2], list[n-1]}
	}
	for i, limb := range limbs {
		m.take(limb, list[i], sure, why(list[i]))
	}
}

var fingers = []string{"Thumb", "Index", "Middle", "Ring", "Little"}

// segments are the three bones of a finger.
func segments(finger string) [3]string {
	if finger == "Thumb" {
		return [3]string{"ThumbMetacarpal", "ThumbProximal", "ThumbDistal"}
	}
	return [3]string{finger + "Proximal", finger + "Intermediate", finger + "Distal"}
}

func (m *mapper) fingersByName(name string, side int) {
	for _, f := range fingers {
		var list []int
		for _, b := range m.r.Bones {
			n := m.names[b]
			if n.side == side && !n.beside && fingerOf(n) == strings.ToLower(f) {
				list = append(list, b)
			}
		}
		if len(list) > 3 { // the first may lie in the palm, the last be an end
			if f != "Thumb" && len(m.r.Kids[list[len(list)-1]]) > 0 || len(m.r.Kids[list[0]]) > 1 {
				list = list[len(list)-3:]
			} else {
				list = list[:3]
			}
		}
		for i, b := range list {
			m.take(name+segments(f)[i], b, 0.8, fmt.Sprintf("named “%s”", m.r.Name(b)))
		}
	}
}

// byShape takes what hierarchy and places say, where it is silent about names.
func (m *mapper) byShape() {
	r := m.r
	if len(r.Bones) < 3 || r.high <= r.low {
		return
	}
	hips, left, right := r.legs()
	if h := m.bone("hips"); h != scene.None {
		hips = h
	}
	if hips == scene.None {
		return
	}
	m.take("hips", hips, 0.5, "both legs hang on it")
	for _, leg := range []struct {
		name string
		leaf int
	}{{"left", left}, {"right", right}} {
		if leg.leaf != scene.None {
			m.legOf(leg.name, r.path(hips, leg.leaf))
		}
	}
	top := r.top(hips)
	if top == scene.None {
		return
	}
	trunk := r.path(hips, top)
	m.trunk(trunk)
}

// legs finds where two ways to the ground part, left and right: the bone on
// which both hang, and the two ends.
func (r *Rig) legs() (hips, left, right int) {
	hips, left, right = scene.None, scene.None, scene.None
	tall := r.high - r.low
	best := 0.0
	below := r.ends()
	for _, b := range r.Bones {
		if len(r.Kids[b]) < 2 || r.height(b)-r.low < 0.2*tall {
			continue
		}
		// Of its children those on either side that reach farthest down.
		var ends [2]int
		ends[0], ends[1] = scene.None, scene.None
		for _, k := range r.Kids[b] {
			lowest := below[k].lowest
			x := r.aside(lowest) - r.aside(b)
			if math.Abs(x) < 0.01*tall || r.height(lowest)-r.low > 0.25*tall {
				continue
			}
			side := 0
			if x < 0 {
				side = 1
			}
			if ends[side] == scene.None || r.height(lowest) < r.height(ends[side]) {
				ends[side] = lowest
			}
		}
		if ends[0] == scene.None || ends[1] == scene.None {
			continue
		}
		// Both legs are as long, and end as far from the middle.
		even := math.Abs(r.height(ends[0])-r.height(ends[1])) +
			math.Abs(r.aside(ends[0])+r.aside(ends[1])-2*r.aside(b))
		score := (r.height(b)-r.low)/tall - even/tall
		if score > best {
			best, hips, left, right = score, b, ends[0], ends[1]
		}
	}
	return hips, left, right
}

// top is the highest end near the middle.
func (r *Rig) top(hips int) int {
	tall := r.high - r.low
	best, at := math.Inf(-1), scene.None
	for _, l := range r.leaves(hips) {
		off := math.Abs(r.aside(l) - r.aside(hips))
		if off > 0.12*tall {
			continue
		}
		if h := r.height(l) - 2*off; h > best {
			best, at = h, l
		}
	}
	if at != scene.None && r.height(at) <= r.height(hips) {
		return scene.None
	}
	return at
}

// legOf gives a leg's limbs the bones of a way to the ground: where it is longer
// than that, the knee is the joint nearest to half of its length.
func (m *mapper) legOf(name string, way []int) {
	r := m.r
	why := "goes from the hips to the ground on the " + name
	way = slices.DeleteFunc(slices.Clone(way[1:]), func(b int) bool { return m.names[b].beside })
	if len(way) < 2 {
		return
	}
	long := r.lengths(way)
	// The ankle is where the way comes near the ground: the first bone that is
	// as low as the foot is long at most.
	ankle := len(way) - 1
	for i := 2; i < len(way); i++ {
		if r.height(way[i])-r.low < 0.12*(r.high-r.low) {
			ankle = i
			break
		}
	}
	if ankle < 2 {
		return
	}
	knee := 1
	for i := 1; i < ankle; i++ {
		if math.Abs(long[i]-long[ankle]/2) < math.Abs(long[knee]-long[ankle]/2) {
			knee = i
		}
	}
	m.take(name+"UpperLeg", way[0], 0.5, why)
	m.take(name+"LowerLeg", way[knee], 0.5, why)
	m.take(name+"Foot", way[ankle], 0.5, why)
	if ankle+1 < len(way) {
		m.take(name+"Toes", way[ankle+1], 0.5, why)
	}
}

// lengths is how far along a way each of its bones lies.
func (r *Rig) lengths(way []int) []float64 {
	out := make([]float64, len(way))
	for i := 1; i < len(way); i++ {
		out[i] = out[i-1] + r.At(way[i]).Sub(r.At(way[i-1])).Len()
	}
	return out
}

// trunk finds where the arms leave the way from the hips to the top, and with
// them chest, neck and head.
func (m *mapper) trunk(way []int) {
	r := m.r
	arms := map[string][2]int{} // the bone by which each leaves, and its end
	at := scene.None            // the place of the trunk where they leave
	below := r.ends()
	tall := r.high - r.low
	for i, b := range way {
		var ends [2]int
		var firsts [2]int
		ends[0], ends[1] = scene.None, scene.None
		for _, k := range r.Kids[b] {
			if i+1 < len(way) && k == way[i+1] {
				continue
			}
			far := below[k].left
			if right := below[k].right; r.aside(b)-r.aside(right) > r.aside(far)-r.aside(b) {
				far = right
			}
			x := r.aside(far) - r.aside(b)
			low := r.height(far) - r.low
			if n := len(r.path(k, far)); n < 2 || math.Abs(x) < 0.03*tall || low < 0.1*tall && i == 0 {
				continue
			}
			side := 0
			if x < 0 {
				side = 1
			}
			limb := m.taken[k]
			if limb != "" && !strings.Contains(limb, "Arm") && !strings.Contains(limb, "Shoulder") {
				continue
			}
			if ends[side] == scene.None || math.Abs(x) > math.Abs(r.aside(ends[side])-r.aside(b)) {
				ends[side], firsts[side] = far, k
			}
		}
		if ends[0] != scene.None && ends[1] != scene.None {
			at = i
			arms["left"], arms["right"] = [2]int{firsts[0], ends[0]}, [2]int{firsts[1], ends[1]}
		}
	}
	const why = "on the way from the hips to the top"
	head := way[len(way)-1]
	if at == scene.None {
		if m.bone("head") == scene.None && len(way) > 2 {
			m.take("head", head, 0.4, "the highest end in the middle")
		}
		return
	}
	if at > 0 {
		m.spineOf(way[1:at+1], 0.5, func(int) string { return why })
	}
	rest := slices.DeleteFunc(slices.Clone(way[at+1:]), func(b int) bool { return m.names[b].beside })
	m.headOf(rest)
	for name, a := range arms {
		m.arm(name, r.path(a[0], a[1]))
	}
}

// headOf finds neck and head on what is left of the trunk above the arms.
func (m *mapper) headOf(rest []int) {
	const why = "above the shoulders, in the middle"
	if len(rest) == 0 {
		return
	}
	if len(rest) == 1 {
		m.take("head", rest[0], 0.5, why)
		return
	}
	// The head is where eyes, jaw and hair hang, or the last but its end.
	head := -1
	for i := 1; i < len(rest); i++ {
		if len(m.r.Kids[rest[i]]) > 1 {
			head = i
			break
		}
	}
	if head < 0 {
		head = len(rest) - 1
		if len(rest) > 2 && len(m.r.Kids[rest[head]]) == 0 {
			head--
		}
	}
	m.take("neck", rest[0], 0.5, why)
	m.take("head", rest[head], 0.5, why)
}

// arm takes a way from the chest to a finger's end apart.
func (m *mapper) arm(name string, way []int) {
	r := m.r
	why := "goes from the chest to the " + name
	// The hand is where fingers part, or the last but an end.
	hand := -1
	for i := 2; i < len(way); i++ {
		kids := 0
		for _, k := range r.Kids[way[i]] {
			if !m.names[k].beside {
				kids++
			}
		}
		if kids >= 2 {
			hand = i
			break
		}
	}
	if hand < 0 {
		hand = len(way) - 1
		for hand > 2 && m.names[way[hand]].beside {
			hand--
		}
		if hand > 3 {
			hand = 3
		}
	}
	if hand < 2 {
		return
	}
	plain := slices.DeleteFunc(slices.Clone(way[:hand+1]), func(b int) bool { return m.names[b].beside })
	hand = len(plain) - 1
	if hand < 2 {
		return
	}
	upper := 0
	long := r.lengths(plain)
	if hand >= 3 { // one more than an arm has: a shoulder
		upper = 1
		m.take(name+"Shoulder", plain[0], 0.5, why)
	}
	elbow := upper + 1
	half := (long[upper] + long[hand]) / 2
	for i := upper + 1; i < hand; i++ {
		if math.Abs(long[i]-half) < math.Abs(long[elbow]-half) {
			elbow = i
		}
	}
	m.take(name+"UpperArm", plain[upper], 0.5, why)
	m.take(name+"LowerArm", plain[elbow], 0.5, why)
	m.take(name+"Hand", plain[hand], 0.5, why)
	m.fingersByPlace(name, plain[hand])
}

// fingersByPlace tells a hand's fingers apart: the thumb points away from the
// mean of the others, which lie in a row.
func (m *mapper) fingersByPlace(name string, hand int) {
	r := m.r
	var list []int
	for _, k := range r.Kids[hand] {
		if !m.names[k].beside && len(r.path(k, r.end(k))) >= 2 {
			list = append(list, k)
		}
	}
	if len(list) < 2 || len(list) > 5 {
		return
	}
	tip := func(k int) geom.Vec3 { return r.At(r.end(k)).Sub(r.At(hand)) }
	thumb, worst := 0, math.Inf(1)
	for i, k := range list {
		sum := 0.0
		for j, o := range list {
			if i != j {
				sum += tip(k).Norm().Dot(tip(o).Norm())
			}
		}
		if sum < worst {
			thumb, worst = i, sum
		}
	}
	row := slices.Delete(slices.Clone(list), thumb, thumb+1)
	slices.SortFunc(row, func(a, b int) int { // from the thumb on
		d := r.At(a).Sub(r.At(list[thumb])).Len() - r.At(b).Sub(r.At(list[thumb])).Len()
		switch {
		case d < 0:
			return -1
		case d > 0:
			return 1
		}
		return 0
	})
	give := func(finger string, first int) {
		way := r.path(first, r.end(first))
		for i, b := range way[:min(3, len(way))] {
			m.take(name+segments(finger)[i], b, 0.4, "a finger by its place on the hand")
		}
	}
	give("Thumb", list[thumb])
	for i, k := range row {
		give(fingers[i+1], k)
	}
}

// checked takes back what stands in an impossible order: a limb whose bone is
// not below that of the limb above it, unless that was said. What both sides
// agree on is surer.
func (m *mapper) checked() {
	for _, limb := range Limbs {
		x, ok := m.body[limb]
		if !ok || x.Sure == 1 {
			continue
		}
		for up := Parents[limb]; up != ""; up = Parents[up] {
			if y, there := m.body[up]; there {
				if !m.r.within(x.Bone, y.Bone) && len(m.r.Kids[scene.None]) == 1 {
					delete(m.body, limb)
					delete(m.taken, x.Bone)
				}
				break
			}
		}
	}
	for _, limb := range Limbs {
		other, ok := strings.CutPrefix(limb, "left")
		if !ok {
			continue
		}
		a, la := m.body[limb]
		b, lb := m.body["right"+other]
		if !la || !lb {
			continue
		}
		pa, pb := m.r.At(a.Bone), m.r.At(b.Bone)
		middle := 0.0
		if h, ok := m.body["hips"]; ok {
			middle = m.r.aside(h.Bone)
		}
		mirrored := pb.Sub(m.r.side.Mul(2 * (pb.Dot(m.r.side) - middle)))
		if pa.Sub(mirrored).Len() < 0.03*(m.r.high-m.r.low) {
			m.take(limb, a.Bone, 0.5, "mirrors the right one")
			m.take("right"+other, b.Bone, 0.5, "mirrors the left one")
		}
	}
}
