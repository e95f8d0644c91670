package target

import (
	"context"
	"encoding/json"
	"fmt"
	"math/bits"
	"regexp"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/scene"
	"excavate/core/step"
)

// Materials, pictures and what surfaces need.

// behind is the number that a second import puts behind a name: .001, _1, (2).
var behind = regexp.MustCompile(`(?:[._ -]\d{1,3}| ?\(\d{1,3}\))$`)

// again is the material of the target that a name means: the same but for its
// letters' case or a number behind it.
func again(name string, there []string) string {
	if slices.Contains(there, name) {
		return ""
	}
	for _, base := range []string{name, behind.ReplaceAllString(name, "")} {
		for _, t := range there {
			if strings.EqualFold(base, t) {
				return t
			}
		}
	}
	return ""
}

// materialsThere wants materials that the target has to bear their names.
func (r *rehearsal) materialsThere(name string) {
	m := r.t.Materials
	if m == nil || len(m.There) == 0 || len(r.s.Materials) == 0 {
		return
	}
	var second, foreign []Thing
	var used []string
	var renames []params
	for i := range r.s.Materials {
		n := r.s.Materials[i].Name
		to := again(n, m.There)
		switch {
		case slices.Contains(m.There, n):
			used = append(used, n)
		case to != "":
			second = append(second, r.material(i))
			renames = append(renames, params{"find": "^" + regexp.QuoteMeta(n) + "$",
				"replace": strings.ReplaceAll(to, "$", "$$")})
		default:
			foreign = append(foreign, r.material(i))
		}
	}
	switch {
	case second != nil:
		r.add(Finding{Rule: name, Severity: Warns, Title: "Materials of the target would be made a second time",
			Where: few(names(second)), Things: second,
			Why: "The target knows its materials by their exact names and makes a new one of any other.",
			Mends: []chain.Step{mend("merge-materials", params{"names": true}),
				mend("rename", params{"what": "materials", "rules": renames})},
			MendText: "Give them the target's names"})
	case m.Only && foreign != nil:
		r.add(Finding{Rule: name, Severity: Stops, Title: "The target has no such material",
			Where: few(names(foreign)), Things: foreign,
			Why: "It shows what it does not know in its colour for missing pictures. " +
				"Name the material of the target that each is.",
			Ask: r.whichMaterial(foreign, m.There)})
	default:
		r.holds(name, "Materials that are there are used again",
			fmt.Sprintf("%d of %d: %s", len(used), len(r.s.Materials), few(used)))
	}
}

// whichMaterial asks for the target's material of the first that it lacks.
func (r *rehearsal) whichMaterial(foreign []Thing, there []string) *Question {
	q := &Question{Text: fmt.Sprintf("Which of the target's materials is %s?", foreign[0].Name)}
	for _, t := range there[:min(len(there), 12)] {
		q.Answers = append(q.Answers, Answer{t, []chain.Step{mend("rename",
			params{"what": "materials", "rules": []params{
				{"find": "^" + regexp.QuoteMeta(foreign[0].Name) + "$",
					"replace": strings.ReplaceAll(t, "$", "$$")}}})}})
	}
	return q
}

// alike groups materials that are equal in all but their name; those without a
// picture also in that, but for a number behind it.
func (r *rehearsal) alike() (groups [][]int) {
	at := map[string]int{}
	for i := range r.s.Materials {
		m := r.s.Materials[i]
		if m.Name = behind.ReplaceAllString(m.Name, ""); len(m.Textures) > 0 {
			m.Name = "" // a plain one is told by its name alone
		}
		text, err := json.Marshal(m)
		if err != nil {
			continue
		}
		k, ok := at[string(text)]
		if !ok {
			k = len(groups)
			at[string(text)] = k
			groups = append(groups, nil)
		}
		groups[k] = append(groups[k], i)
	}
	return groups
}

func (r *rehearsal) alikeMaterials() int { return len(r.alike()) }

func (r *rehearsal) materialsTwice(name string) {
	if r.t.Materials == nil || !r.t.Materials.Once || len(r.s.Materials) == 0 {
		return
	}
	var twice []Thing
	for _, g := range r.alike() {
		// the target's own are as they are there
		g = slices.DeleteFunc(g, func(i int) bool {
			return slices.Contains(r.t.Materials.There, r.s.Materials[i].Name)
		})
		for _, i := range g[min(1, len(g)):] {
			twice = append(twice, r.material(i))
		}
	}
	if twice == nil {
		r.holds(name, "No material stands twice", fmt.Sprintf("%d materials", len(r.s.Materials)))
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Materials are equal in all but their names",
		Where: few(names(twice)), Things: twice,
		Why:   "The target makes each of them, and what is changed in one stays as it was in the other.",
		Mends: []chain.Step{mend("merge-materials", params{"plain": false})}, MendText: "Make one of them"})
}

// pictured tells which pictures a material shows; only these are delivered. Of
// materials that the target has already it uses its own.
func (r *rehearsal) pictured() []bool {
	out := make([]bool, len(r.s.Pictures))
	for i := range r.s.Materials {
		m := &r.s.Materials[i]
		if t := r.t.Materials; t != nil && slices.Contains(t.There, m.Name) {
			continue
		}
		for _, t := range m.Textures {
			out[t.Picture] = true
		}
	}
	return out
}

// picturesThat lists delivered pictures of which something holds.
func (r *rehearsal) picturesThat(f func(*scene.Picture) bool) (out []Thing) {
	for i, used := range r.pictured() {
		if used && f(&r.s.Pictures[i]) {
			out = append(out, r.picture(i))
		}
	}
	return out
}

func (r *rehearsal) pictures(name string) {
	if r.t.Pictures == nil {
		return
	}
	missing := r.picturesThat((*scene.Picture).Missing)
	all := r.picturesThat(func(*scene.Picture) bool { return true })
	switch {
	case r.t.Pictures.Required && len(missing) > 0:
		r.add(Finding{Rule: name, Severity: Stops, Title: "A picture is missing", Where: few(names(missing)),
			Things: missing,
			Why:    "The surface would be plain. Add the source that holds the picture; it is found by itself."})
	case len(all) > 0:
		r.holds(name, "Every picture is there", fmt.Sprintf("%d of %d", len(all)-len(missing), len(all)))
	}
}

func sized(p *scene.Picture) string { return fmt.Sprintf("%s %d × %d", p.Name, p.Width, p.Height) }

// sizes are pictures with their sizes.
func (r *rehearsal) sizes(list []Thing) string {
	var out []string
	for _, t := range list {
		out = append(out, sized(&r.s.Pictures[t.Index]))
	}
	return few(out)
}

func (r *rehearsal) pictureSize(name string) {
	if r.t.Pictures == nil || r.t.Pictures.Largest == 0 || len(r.s.Pictures) == 0 {
		return
	}
	n := r.t.Pictures.Largest
	large := r.picturesThat(func(p *scene.Picture) bool { return p.Width > n || p.Height > n })
	if large == nil {
		r.holds(name, "No picture is too large", fmt.Sprintf("at most %d px", n))
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "A picture is larger than the sheet allows",
		Where: fmt.Sprintf("%s, limit %d", r.sizes(large), n), Things: large,
		Why:      "It loads and takes more memory than the target plans for.",
		Mends:    []chain.Step{mend("pictures", params{"longest": min(n, 16384)})},
		MendText: fmt.Sprintf("Make it at most %d px", n)})
}

func power(n int) bool { return n > 0 && bits.OnesCount(uint(n)) == 1 }

func (r *rehearsal) pictureSides(name string) {
	if r.t.Pictures == nil || !r.t.Pictures.Powers || len(r.s.Pictures) == 0 {
		return
	}
	odd := r.picturesThat(func(p *scene.Picture) bool { return !p.Missing() && !(power(p.Width) && power(p.Height)) })
	if odd == nil {
		r.holds(name, "Every side is a power of two", "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Sides of pictures are no powers of two",
		Where: r.sizes(odd), Things: odd,
		Why:   "The target scales them when it loads them, or makes no mips of them.",
		Mends: []chain.Step{mend("pictures", params{"powers_of_two": true})}, MendText: "Scale them"})
}

var mimes = map[string]string{"png": "image/png", "jpeg": "image/jpeg"}

func (r *rehearsal) pictureFormat(name string) {
	if r.t.Pictures == nil || len(r.t.Pictures.Formats) == 0 || len(r.s.Pictures) == 0 {
		return
	}
	allowed := r.t.Pictures.Formats
	odd := r.picturesThat(func(p *scene.Picture) bool {
		return !p.Missing() && !slices.ContainsFunc(allowed, func(f string) bool { return mimes[f] == p.MIME })
	})
	if odd == nil {
		r.holds(name, "Every picture is of a format that is read", strings.Join(allowed, ", "))
		return
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "The target does not read this format",
		Where: few(names(odd)), Things: odd,
		Why:      "It reads " + strings.Join(allowed, ", ") + ".",
		Mends:    []chain.Step{mend("pictures", params{"format": allowed[0]})},
		MendText: "Write them as " + strings.ToUpper(allowed[0])})
}

// texelBytes is the memory of the pictures: four bytes a texel, a third more
// for the mips.
func (r *rehearsal) texelBytes() (sum float64, longest int) {
	for i, used := range r.pictured() {
		if p := &r.s.Pictures[i]; used && !p.Missing() {
			sum += float64(p.Width) * float64(p.Height) * 4 * 4 / 3
			longest = max(longest, p.Width, p.Height)
		}
	}
	return sum, longest
}

func (r *rehearsal) memory(name string) {
	most := r.t.Limits.Texels
	if most == 0 || len(r.s.Pictures) == 0 {
		return
	}
	have, longest := r.texelBytes()
	at := fmt.Sprintf("%.1f MB of at most %g MB", have/1e6, most)
	if have <= most*1e6 {
		r.holds(name, "The pictures take little memory", at)
		return
	}
	to := longest
	for have > most*1e6 && to > 1 { // as if all were of the longest side: another round follows if they are not
		to, have = to/2, have/4
	}
	f := Finding{Rule: name, Severity: Stops, Title: "The pictures take too much memory", Where: at,
		Why: "The target refuses it."}
	if to >= 1 && to < longest {
		f.Mends, f.MendText = []chain.Step{mend("pictures", params{"longest": max(to, 1)})},
			fmt.Sprintf("Make them at most %d px", to)
	}
	r.add(f)
}

// transparency holds the alpha modes against what the pictures call for.
func (r *rehearsal) transparency(name string) {
	if !r.t.Transparency || len(r.s.Materials) == 0 {
		return
	}
	seen := map[int]step.Histogram{}
	for i := range r.s.Pictures {
		if p := &r.s.Pictures[i]; !p.Missing() {
			if h, ok := r.alpha[&p.Data[0]]; ok {
				seen[i] = h
			}
		}
	}
	defer func() {
		for i, h := range seen {
			r.alpha[&r.s.Pictures[i].Data[0]] = h
		}
	}()
	var shut, open []Thing
	for i := range r.s.Materials {
		m := &r.s.Materials[i]
		if t := r.t.Materials; t != nil && slices.Contains(t.There, m.Name) {
			continue // the target's own is used
		}
		want, err := step.AlphaOf(context.Background(), r.s, m, seen)
		if err != nil {
			continue // a picture that cannot be decoded is told as such
		}
		switch {
		case m.Alpha == scene.Opaque && want != scene.Opaque:
			shut = append(shut, r.material(i))
		case m.Alpha != scene.Opaque && want == scene.Opaque:
			open = append(open, r.material(i))
		}
	}
	if shut == nil && open == nil {
		r.holds(name, "Alpha does what the pictures call for", "")
		return
	}
	auto := func(list []Thing) []chain.Step {
		return []chain.Step{mend("alpha", params{"where": where("material", names(list)), "mode": "auto"})}
	}
	if shut != nil {
		r.add(Finding{Rule: name, Severity: Warns, Title: "Glass or foliage is marked opaque",
			Where: few(names(shut)), Things: shut,
			Why: "The pictures have holes or shine through; the target would draw them solid.", Mends: auto(shut),
			MendText: "Add “Alpha mode”"})
	}
	if open != nil {
		r.add(Finding{Rule: name, Severity: Warns, Title: "Solid surfaces are marked as see-through",
			Where: few(names(open)), Things: open,
			Why:   "Nothing of them shines through: the target sorts them behind what is, and draws them slowly.",
			Mends: auto(open), MendText: "Add “Alpha mode”"})
	}
}

// partsThat lists the nodes that show a part of which something holds.
func (r *rehearsal) partsThat(f func(*scene.Part) bool) (out []Thing) {
	for i := range r.s.Nodes {
		if m := r.s.Nodes[i].Mesh; m >= 0 && slices.ContainsFunc(r.s.Meshes[m].Parts,
			func(p scene.Part) bool { return f(&p) }) {
			out = append(out, r.node(i))
		}
	}
	return out
}

func (r *rehearsal) normals(name string) {
	if !r.t.Normals || r.st.Triangles == 0 {
		return
	}
	bare := r.partsThat(func(p *scene.Part) bool { return len(p.Triangles) > 0 && p.Normals == nil })
	if bare == nil {
		r.holds(name, "Every surface has normals", "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Surfaces have no normals", Where: few(names(bare)),
		Things: bare,
		Why:    "The target shades them flat.", Mends: []chain.Step{mend("normals", params{"keep": true})},
		MendText: "Compute them"})
}

// uvs rehearses what no sheet needs to ask: a picture needs UVs to lie by.
func (r *rehearsal) uvs(name string) {
	bare := r.partsThat(func(p *scene.Part) bool {
		if p.Material < 0 || len(p.Triangles) == 0 {
			return false
		}
		return slices.ContainsFunc(r.s.Materials[p.Material].Textures,
			func(t scene.Texture) bool { return t.UVSet >= len(p.UVs) })
	})
	if bare != nil {
		r.add(Finding{Rule: name, Severity: Stops, Title: "A picture has no UVs to lie by",
			Where: few(names(bare)), Things: bare,
			Why: "The surface would have the colour of one texel."})
	}
}
