package receiver

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	_ "image/jpeg" // so that they can be told
	_ "image/png"  // by their heads
	"math"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
)

// Line is one line of an import log. Errors and warnings are objections.
type Line struct {
	Code  string `json:"code"`
	Level string `json:"level"` // info, warning, error
	Text  string `json:"text"`
	Thing string `json:"thing,omitempty"`
}

// MaterialState is what became of a material.
type MaterialState struct {
	Name  string `json:"name"`
	State string `json:"state"` // made, used again, made twice, missing picture
}

// Report is what a receiver says of a delivery.
type Report struct {
	Target    string          `json:"target"`
	Model     string          `json:"model"`
	Log       []Line          `json:"log"`
	Materials []MaterialState `json:"materials"`
	Skeleton  string          `json:"skeleton"` // none, merged, refused, made
	Walk      *Walk           `json:"walk,omitempty"`

	world *world
}

// intake is one model being imported.
type intake struct {
	sheet *sheet
	files map[string][]byte
	where string // of the model
	doc   *document
	out   *Report
	faces []triangle // what is seen
	solid []triangle // what is touched
	joint []bool
	sizes map[int][2]int // of pictures
}

func (x *intake) log(code, level, thing, text string, a ...any) {
	x.out.Log = append(x.out.Log, Line{code, level, fmt.Sprintf(text, a...), thing})
}

// models are the models of a package: files of the format, but for levels of
// detail and motions.
func models(files map[string][]byte) (out []string) {
	for p := range files {
		ext := strings.ToLower(path.Ext(p))
		stem := strings.TrimSuffix(path.Base(p), path.Ext(p))
		if (ext == ".glb" || ext == ".vrm") && !strings.Contains("/"+p, "/motions/") &&
			!regexp.MustCompile(`_lod\d+$`).MatchString(stem) {
			out = append(out, p)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		return strings.Count(out[i], "/") < strings.Count(out[j], "/") ||
			strings.Count(out[i], "/") == strings.Count(out[j], "/") && out[i] < out[j]
	})
	return out
}

// take imports a model by a sheet.
func take(s *sheet, files map[string][]byte, where string) *Report {
	x := &intake{sheet: s, files: files, where: where,
		out:   &Report{Target: s.ID, Model: where, Log: []Line{}, Materials: []MaterialState{}, Skeleton: "none"},
		sizes: map[int][2]int{}}
	var err error
	if x.doc, err = readGLB(files[where]); err != nil {
		x.log("RD01", "error", where, "unreadable: %v", err)
		return x.out
	}
	x.joint = make([]bool, len(x.doc.Nodes))
	for _, k := range x.doc.Skins {
		for _, j := range k.Joints {
			if j >= 0 && j < len(x.joint) {
				x.joint[j] = true
			}
		}
	}
	for _, part := range []func() error{x.geometry, x.bounds, x.objects, x.names, x.bones, x.pictures,
		x.materials, x.collision, x.rest} {
		if err := part(); err != nil {
			x.log("RD02", "error", where, "import broke off: %v", err)
			break
		}
	}
	x.out.world = &world{faces: x.faces, still: x.still(), solid: x.solid, up: s.up(), metres: s.metres(),
		open: x.passable(), colours: x.colours()}
	return x.out
}

// still are the faces that no skeleton moves: what one may stand on.
func (x *intake) still() (out []triangle) {
	for _, t := range x.faces {
		if x.doc.Nodes[t.node].Skin == nil {
			out = append(out, t)
		}
	}
	return out
}

// isSolid tells whether a node is a collider by its name.
func (x *intake) isSolid(i int) bool {
	c := x.sheet.Colliders
	return c != nil && c.As == "ending" && strings.HasSuffix(x.doc.Nodes[i].Name, c.Ending)
}

func (x *intake) geometry() error {
	d := x.doc
	shown, bareNormals, bareUV, sets, colours := 0, []string{}, []string{}, 0, 0
	for i := range d.Nodes {
		n := &d.Nodes[i]
		if n.Mesh == nil {
			continue
		}
		t, err := d.triangles(i, *n.Mesh)
		if err != nil {
			return err
		}
		if x.isSolid(i) {
			x.solid = append(x.solid, t...)
			continue
		}
		shown += len(t)
		x.faces = append(x.faces, t...)
		noNormals, noUV := false, false
		for _, p := range d.Meshes[*n.Mesh].Primitives {
			if _, ok := p.Attributes["NORMAL"]; !ok && len(t) > 0 {
				noNormals = true
			}
			for k := 0; ; k++ {
				if _, ok := p.Attributes[fmt.Sprintf("TEXCOORD_%d", k)]; !ok {
					sets = max(sets, k)
					break
				}
			}
			for k := 0; ; k++ {
				if _, ok := p.Attributes[fmt.Sprintf("COLOR_%d", k)]; !ok {
					colours = max(colours, k)
					break
				}
			}
			if p.Material != nil && len(x.used(*p.Material)) > 0 && !x.spread(p.Attributes) {
				noUV = true
			}
		}
		if noNormals {
			bareNormals = append(bareNormals, n.Name)
		}
		if noUV {
			bareUV = append(bareUV, n.Name)
		}
	}
	x.limit("GE01", "triangles", shown, x.sheet.Limits.Triangles)
	x.limit("GE04", "uv channels", sets, x.sheet.Limits.UVSets)
	x.limit("GE05", "vertex colour channels", colours, x.sheet.Limits.Colours)
	if x.sheet.Normals && len(bareNormals) > 0 {
		x.log("GE02", "warning", bareNormals[0], "no normals, shaded flat: %d objects", len(bareNormals))
	}
	if len(bareUV) > 0 {
		x.log("GE03", "error", bareUV[0], "textured without uv: %d objects", len(bareUV))
	}
	if shown == 0 && len(d.Animations) == 0 {
		x.log("SZ01", "error", "", "nothing to draw")
	}
	return nil
}

// spread tells whether a surface has UVs that are not all one point.
func (x *intake) spread(attributes map[string]int) bool {
	k, ok := attributes["TEXCOORD_0"]
	if !ok {
		return false
	}
	v, w, err := x.doc.numbers(k)
	if err != nil || w != 2 {
		return false
	}
	for i := range v {
		if v[i] != v[i%2] {
			return true
		}
	}
	return false
}

func (x *intake) limit(code, what string, have, most int) {
	if most > 0 && have > most {
		x.log(code, "error", "", "%s %d over budget %d", what, have, most)
	}
}

func (x *intake) bounds() error {
	if len(x.faces) == 0 {
		return nil
	}
	lo, hi := vec{math.Inf(1), math.Inf(1), math.Inf(1)}, vec{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	for _, t := range x.faces {
		for _, p := range t.at {
			for k := range 3 {
				lo[k], hi[k] = math.Min(lo[k], p[k]), math.Max(hi[k], p[k])
			}
		}
	}
	m := x.sheet.metres()
	long := math.Max(hi[0]-lo[0], math.Max(hi[1]-lo[1], hi[2]-lo[2])) * m
	if z := x.sheet.Size; z != nil && (long < z.Least || long > z.Most) {
		x.log("SZ01", "error", "", "bounds %.4g m outside %.4g..%.4g", long, z.Least, z.Most)
	}
	up := x.sheet.up()
	if floor := lo[up] * m; x.sheet.Ground && math.Abs(floor) > 0.002 {
		x.log("PV01", "warning", "", "lowest point %.3f m off the floor", floor)
	}
	if x.sheet.Centred {
		mid := lo.add(hi).mul(m / 2)
		mid[up] = 0
		if mid.len() > math.Max(0.003, 0.0015*long) {
			x.log("PV02", "warning", "", "pivot %.3f m beside the middle", mid.len())
		}
	}
	return nil
}

func (x *intake) objects() error {
	d := x.doc
	var cams, lights, empty []string
	needed := slices.Clone(x.joint)
	shapes := 0
	var order []int // children before parents
	for i := range d.Nodes {
		if d.up[i] < 0 {
			order = append(order, i)
		}
	}
	for k := 0; k < len(order); k++ {
		order = append(order, d.Nodes[order[k]].Children...)
	}
	for k := len(order) - 1; k >= 0; k-- {
		i := order[k]
		n := &d.Nodes[i]
		if n.Camera != nil {
			cams = append(cams, n.Name)
		}
		if n.Extensions.Light != nil {
			lights = append(lights, n.Name)
		}
		if n.Mesh != nil || n.Camera != nil || n.Extensions.Light != nil || n.Extensions.Body != nil {
			needed[i] = true
		}
		if n.Mesh != nil && !x.isSolid(i) {
			shapes++
		}
		if !needed[i] {
			empty = append(empty, n.Name)
		} else if p := d.up[i]; p >= 0 {
			needed[p] = true
		}
	}
	one := func(code string, allowed *bool, list []string, text string) {
		if allowed != nil && !*allowed && len(list) > 0 {
			x.log(code, "warning", list[0], text, len(list))
		}
	}
	one("CM01", x.sheet.Cameras, cams, "camera in scene: %d")
	one("LT01", x.sheet.Lights, lights, "light in scene: %d")
	one("EM01", x.sheet.Helpers, empty, "empty object made: %d")
	x.limit("OB01", "objects", len(d.Nodes), x.sheet.Limits.Nodes)
	return nil
}

func (x *intake) names() error {
	n := x.sheet.Names
	if n == nil {
		return nil
	}
	kinds := [2][]string{}
	for i := range x.doc.Nodes {
		kinds[0] = append(kinds[0], x.doc.Nodes[i].Name)
	}
	for i := range x.doc.Materials {
		kinds[1] = append(kinds[1], x.materialName(i))
	}
	var odd, long, twice []string
	for _, list := range kinds {
		seen := map[string]bool{}
		for _, name := range list {
			if x.sheet.pattern != nil && !x.sheet.pattern.MatchString(name) {
				odd = append(odd, name)
			}
			if n.Longest > 0 && len([]rune(name)) > n.Longest {
				long = append(long, name)
			}
			if n.Unique && seen[name] && !x.there(name) {
				twice = append(twice, name)
			}
			seen[name] = true
		}
	}
	for _, k := range []struct {
		code, text string
		list       []string
	}{{"NM01", "illegal name replaced: %d", odd}, {"NM03", "name cut: %d", long},
		{"NM02", "name clash, numbered: %d", twice}} {
		if len(k.list) > 0 {
			x.log(k.code, "warning", k.list[0], k.text, len(k.list))
		}
	}
	return nil
}

func (x *intake) boneAbove(i int) int {
	for p := x.doc.up[i]; p >= 0; p = x.doc.up[p] {
		if x.joint[p] {
			return p
		}
	}
	return -1
}

// skeleton is what a model's bones are.
type skeleton struct {
	at      map[string]int // nodes by name
	roots   []string
	weighed map[int]bool // nodes that move vertices
	over    int          // vertices with more joints than are kept
	odd     int          // vertices whose weights do not add up, or are missing
	moved   bool         // anything is
}

// bones holds a model's skeleton against the sheet's.
func (x *intake) bones() error {
	k := &skeleton{at: map[string]int{}, weighed: map[int]bool{}}
	d := x.doc
	for i, j := range x.joint {
		if !j {
			continue
		}
		k.at[d.Nodes[i].Name] = i
		if d.up[i] < 0 || !x.joint[d.up[i]] {
			k.roots = append(k.roots, d.Nodes[i].Name)
		}
	}
	if len(k.at) == 0 {
		return nil
	}
	if err := x.allWeights(k); err != nil {
		return err
	}
	if !k.moved && len(x.faces) > 0 {
		x.log("SK04", "warning", "", "skeleton moves nothing")
	}
	bad := false
	if want := x.sheet.Root; want != "" && (len(k.roots) != 1 || k.roots[0] != want) {
		bad = true
		x.log("SK01", "error", k.roots[0], "root is not %s: %s", want, strings.Join(k.roots, ", "))
	}
	bad = x.endBones(k) || bad
	bad = x.mergeBones(k) || bad
	x.limit("SK06", "bones", len(k.at), x.sheet.Limits.Bones)
	if k.over > 0 {
		x.log("SK03", "warning", "", "influences over %d dropped: %d vertices", x.sheet.Joints, k.over)
	}
	if k.odd > 0 {
		x.log("SK04", "warning", "", "weights renormalized or missing: %d vertices", k.odd)
	}
	switch {
	case bad:
		x.out.Skeleton = "refused"
	case x.sheet.Skeleton != nil:
		x.out.Skeleton = "merged"
	default:
		x.out.Skeleton = "made"
	}
	return nil
}

// allWeights goes through the weights of everything that is drawn.
func (x *intake) allWeights(k *skeleton) error {
	d := x.doc
	for i := range d.Nodes {
		n := &d.Nodes[i]
		k.moved = k.moved || n.Skin != nil
		if n.Mesh == nil || *n.Mesh < 0 || *n.Mesh >= len(d.Meshes) {
			continue
		}
		for _, p := range d.Meshes[*n.Mesh].Primitives {
			if n.Skin == nil {
				if _, ok := p.Attributes["JOINTS_0"]; ok { // weights that nothing reads
					k.odd++
				}
				continue
			}
			if *n.Skin < 0 || *n.Skin >= len(d.Skins) {
				continue
			}
			over, uneven, bare, err := x.weights(p.Attributes, d.Skins[*n.Skin].Joints, k.weighed)
			if err != nil {
				return err
			}
			k.over, k.odd = k.over+over, k.odd+uneven+bare
		}
	}
	return nil
}

// endBones refuses bones without a child that move nothing, unless the sheet has
// them itself.
func (x *intake) endBones(k *skeleton) (bad bool) {
	if x.sheet.EndBones == nil || *x.sheet.EndBones {
		return false
	}
	own := map[string]bool{}
	if x.sheet.Skeleton != nil {
		for _, b := range x.sheet.Skeleton.Bones {
			own[b.Name] = true
		}
	}
	var ends []string
	for i, j := range x.joint {
		n := &x.doc.Nodes[i]
		if j && len(n.Children) == 0 && n.Mesh == nil && !k.weighed[i] && !own[n.Name] {
			ends = append(ends, n.Name)
		}
	}
	if len(ends) > 0 {
		x.log("SK05", "error", ends[0], "end bones unknown here: %d", len(ends))
	}
	return len(ends) > 0
}

// mergeBones compares names and parents with the sheet's skeleton.
func (x *intake) mergeBones(k *skeleton) (bad bool) {
	want := x.sheet.Skeleton
	if want == nil || len(want.Bones) == 0 {
		return false
	}
	known := map[string]bool{}
	var missing, extra, moved []string
	for _, b := range want.Bones {
		known[b.Name] = true
		i, ok := k.at[b.Name]
		if !ok {
			missing = append(missing, b.Name)
			continue
		}
		up := ""
		if p := x.boneAbove(i); p >= 0 {
			up = x.doc.Nodes[p].Name
		}
		if up != b.Parent {
			moved = append(moved, b.Name)
		}
	}
	for name := range k.at {
		if !known[name] {
			extra = append(extra, name)
		}
	}
	slices.Sort(extra)
	if len(missing)+len(extra)+len(moved) == 0 {
		return false
	}
	x.log("SK02", "error", first(missing, extra, moved),
		"could not merge bones: %d missing, %d extra, %d under another parent",
		len(missing), len(extra), len(moved))
	return true
}

func first(lists ...[]string) string {
	for _, l := range lists {
		if len(l) > 0 {
			return l[0]
		}
	}
	return ""
}

// weights counts vertices on too many bones, of weights that are not one, and
// on none.
func (x *intake) weights(attributes map[string]int, joints []int, weighed map[int]bool) (over, uneven, bare int,
	err error) {
	var n, sums []float64
	for set := 0; ; set++ {
		ji, ok := attributes[fmt.Sprintf("JOINTS_%d", set)]
		wi, too := attributes[fmt.Sprintf("WEIGHTS_%d", set)]
		if !ok || !too {
			if set == 0 {
				return 0, 0, 1, nil
			}
			break
		}
		jl, _, err := x.doc.numbers(ji)
		if err != nil {
			return 0, 0, 0, err
		}
		wl, _, err := x.doc.numbers(wi)
		if err != nil {
			return 0, 0, 0, err
		}
		if n == nil {
			n, sums = make([]float64, len(wl)/4), make([]float64, len(wl)/4)
		}
		for i := 0; i < len(wl) && i < len(jl) && i/4 < len(n); i++ {
			if wl[i] > 0 {
				n[i/4]++
				sums[i/4] += wl[i]
				if j := int(jl[i]); j < len(joints) {
					weighed[joints[j]] = true
				}
			}
		}
	}
	for v := range n {
		if x.sheet.Joints > 0 && int(n[v]) > x.sheet.Joints {
			over++
		}
		if math.Abs(sums[v]-1) > 0.006 {
			uneven++
		}
	}
	return over, uneven, 0, nil
}

// materials

func (x *intake) materialName(i int) string {
	s, _ := x.doc.Materials[i]["name"].(string)
	return s
}

// pictureOf is the picture of what may be a texture of a material.
func (x *intake) pictureOf(v map[string]any) (int, bool) {
	k, ok := v["index"].(float64)
	if !ok || k < 0 || k >= float64(len(x.doc.Textures)) {
		return 0, false
	}
	s := x.doc.Textures[int(k)].Source
	if s == nil || *s < 0 || *s >= len(x.doc.Images) {
		return 0, false
	}
	return *s, true
}

// used are the pictures of a material.
func (x *intake) used(m int) (out []int) {
	if m < 0 || m >= len(x.doc.Materials) {
		return nil
	}
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if p, ok := x.pictureOf(v); ok {
				out = append(out, p)
			}
			var keys []string
			for k := range v {
				keys = append(keys, k)
			}
			slices.Sort(keys)
			for _, k := range keys {
				walk(v[k])
			}
		case []any:
			for _, y := range v {
				walk(y)
			}
		}
	}
	walk(x.doc.Materials[m])
	return out
}

// there tells whether the material is one that is here already.
func (x *intake) there(name string) bool {
	return x.sheet.Materials != nil && slices.Contains(x.sheet.Materials.There, name)
}

func (x *intake) shownPictures() (out []int) {
	seen := map[int]bool{}
	for i := range x.doc.Materials {
		if x.there(x.materialName(i)) {
			continue
		}
		for _, p := range x.used(i) {
			if !seen[p] {
				seen[p] = true
				out = append(out, p)
			}
		}
	}
	return out
}

// sizeOf is a picture's width and height, by its head.
func sizeOf(b []byte) (w, h int, ok bool) {
	if len(b) >= 128 && string(b[:4]) == "DDS " {
		return int(binary.LittleEndian.Uint32(b[16:])), int(binary.LittleEndian.Uint32(b[12:])), true
	}
	if len(b) >= 48 && bytes.HasPrefix(b, []byte("\xabKTX 20\xbb")) {
		return int(binary.LittleEndian.Uint32(b[20:])), int(binary.LittleEndian.Uint32(b[24:])), true
	}
	c, _, err := image.DecodeConfig(bytes.NewReader(b))
	return c.Width, c.Height, err == nil
}

func (x *intake) pictures() error {
	p := x.sheet.Pictures
	var missing, large, odd []string
	memory := 0.0
	for _, i := range x.shownPictures() {
		pic := &x.doc.Images[i]
		name := pic.Name
		if name == "" {
			name = pic.URI
		}
		b := x.doc.bytesOf(pic, x.files, path.Dir(x.where))
		w, h, ok := sizeOf(b)
		if !ok {
			missing = append(missing, name)
			continue
		}
		x.sizes[i] = [2]int{w, h}
		memory += float64(w) * float64(h) * 16 / 3
		if p != nil && p.Largest > 0 && max(w, h) > p.Largest {
			large = append(large, name)
		}
		if w&(w-1) != 0 || h&(h-1) != 0 {
			odd = append(odd, name)
		}
	}
	// Slots that the file left empty because their picture was not found are
	// told by materials that name one and show none.
	if p != nil && p.Required && len(missing) > 0 {
		x.log("PX01", "error", missing[0], "texture missing: %d", len(missing))
	}
	if len(large) > 0 {
		x.log("PX02", "warning", large[0], "texture resampled: %d over %d px", len(large), p.Largest)
	}
	if p != nil && p.Powers && len(odd) > 0 {
		x.log("PX03", "warning", odd[0], "texture not power of two, resampled: %d", len(odd))
	}
	if most := x.sheet.Limits.Memory; most > 0 && memory > most*1e6 {
		x.log("PX04", "error", "", "texture memory %.1f MB over %.4g", memory/1e6, most)
	}
	return nil
}

var numbered = regexp.MustCompile(`([._ -]\d{1,3}| ?\(\d{1,3}\))$`)

func (x *intake) materials() error {
	x.limit("MT02", "materials", len(x.doc.Materials), x.sheet.Limits.Materials)
	seen := map[string]string{}
	var twice, second, opaque, clear []string
	for i, m := range x.doc.Materials {
		name := x.materialName(i)
		state := "made"
		switch {
		case x.there(name):
			state = "used again"
		case x.sheet.Materials != nil && x.existing(name) != "":
			state = "made twice"
			second = append(second, name)
		}
		for _, p := range x.used(i) {
			if _, ok := x.sizes[p]; !ok && state == "made" {
				state = "missing picture"
			}
		}
		x.out.Materials = append(x.out.Materials, MaterialState{name, state})
		if key := x.look(i, m); x.sheet.Materials != nil && x.sheet.Materials.Once {
			if _, ok := seen[key]; ok {
				twice = append(twice, name)
			} else {
				seen[key] = name
			}
		}
		if x.sheet.Transparency && state != "used again" {
			wants, has := x.alpha(i)
			switch {
			case wants && !has:
				opaque = append(opaque, name)
			case !wants && has:
				clear = append(clear, name)
			}
		}
	}
	for _, k := range []struct {
		code, text string
		list       []string
	}{{"MT03", "made new beside one that exists: %d", second}, {"MT01", "duplicate material made: %d", twice},
		{"TR01", "alpha ignored, drawn solid: %d", opaque}, {"TR02", "sorted as transparent, nothing is: %d", clear}} {
		if len(k.list) > 0 {
			x.log(k.code, "warning", k.list[0], k.text, len(k.list))
		}
	}
	return nil
}

// existing is the material that is here and that a name means.
func (x *intake) existing(name string) string {
	if x.there(name) {
		return ""
	}
	for _, n := range []string{name, numbered.ReplaceAllString(name, "")} {
		for _, t := range x.sheet.Materials.There {
			if strings.EqualFold(n, t) {
				return t
			}
		}
	}
	return ""
}

// look is all of a material but its name; of one without a picture also that,
// but for a number behind it.
func (x *intake) look(i int, m map[string]any) string {
	c := map[string]any{}
	if len(x.used(i)) == 0 {
		c["called"] = numbered.ReplaceAllString(x.materialName(i), "")
	}
	for k, v := range m {
		if k != "name" {
			c[k] = v
		}
	}
	b, err := json.Marshal(c)
	if err != nil {
		return ""
	}
	return string(b)
}

// alpha tells whether the base colour calls for transparency, and whether the
// material has it.
func (x *intake) alpha(i int) (wants, has bool) {
	m := x.doc.Materials[i]
	mode, _ := m["alphaMode"].(string)
	has = mode == "MASK" || mode == "BLEND"
	pbr, _ := m["pbrMetallicRoughness"].(map[string]any)
	if f, ok := pbr["baseColorFactor"].([]any); ok && len(f) == 4 {
		if a, ok := f[3].(float64); ok && a < 1 {
			return true, has
		}
	}
	t, ok := pbr["baseColorTexture"].(map[string]any)
	if !ok {
		return has, has // nothing tells
	}
	picture, ok := x.pictureOf(t)
	if !ok {
		return has, has
	}
	b := x.doc.bytesOf(&x.doc.Images[picture], x.files, path.Dir(x.where))
	img, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return has, has
	}
	through, all := 0, 0
	r := img.Bounds()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for px := r.Min.X; px < r.Max.X; px++ {
			all++
			if _, _, _, a := img.At(px, y).RGBA(); a>>8 < 248 {
				through++
			}
		}
	}
	return through*1000 > all, has
}

func (x *intake) collision() error {
	c := x.sheet.Colliders
	if c == nil || c.As == "none" {
		return nil
	}
	d := x.doc
	touched := map[int]bool{}
	var odd, shut []string
	for i := range d.Nodes {
		n := &d.Nodes[i]
		if x.isSolid(i) {
			touched[i] = true
			base := strings.TrimSuffix(n.Name, c.Ending)
			if p := d.up[i]; p >= 0 {
				touched[p] = true
			}
			for j := range d.Nodes {
				if j != i && d.Nodes[j].Name == base {
					touched[j] = true
				}
			}
			if fits(x.sheet.open(), base) || d.up[i] >= 0 && fits(x.sheet.open(), d.Nodes[d.up[i]].Name) {
				shut = append(shut, n.Name)
			}
			continue
		}
		if n.Extensions.Body == nil || n.Extensions.Body.Collider == nil {
			continue
		}
		touched[i] = true
		if p := d.up[i]; p >= 0 {
			touched[p] = true
		}
		if fits(x.sheet.open(), n.Name) || d.up[i] >= 0 && fits(x.sheet.open(), d.Nodes[d.up[i]].Name) {
			shut = append(shut, n.Name)
		}
		t, kind, err := x.solidOf(i)
		if err != nil {
			return err
		}
		if len(c.Shapes) > 0 && !slices.Contains(c.Shapes, kind) {
			odd = append(odd, n.Name)
			continue
		}
		x.solid = append(x.solid, t...)
	}
	var bare []string
	for i := range d.Nodes {
		n := &d.Nodes[i]
		if n.Mesh != nil && n.Skin == nil && !touched[i] && !fits(x.sheet.open(), n.Name) && !x.isSolid(i) {
			bare = append(bare, n.Name)
		}
	}
	for _, k := range []struct {
		code, text string
		list       []string
	}{{"CO01", "no collision: %d objects", bare}, {"CO02", "collision shape ignored: %d", odd},
		{"CO03", "blocked passage: %d", shut}} {
		if len(k.list) > 0 {
			x.log(k.code, "warning", k.list[0], k.text, len(k.list))
		}
	}
	return nil
}

func (x *intake) rest() error {
	if m := x.sheet.Motions; m != nil && m.None && len(x.doc.Animations) > 0 {
		x.log("AN01", "warning", x.doc.Animations[0].Name, "animation ignored: %d", len(x.doc.Animations))
	}
	if x.sheet.Variants == "one" && x.doc.Extensions.Variants != nil {
		x.log("VR01", "warning", "", "variants ignored: %d", len(x.doc.Extensions.Variants.Variants))
	}
	if l := x.sheet.Licence; l != nil && l.Avatar {
		v := x.doc.Extensions.VRM
		if v == nil || v.Meta.LicenseURL == "" || len(v.Meta.Authors) == 0 {
			x.log("LC01", "error", "", "no licence block")
		}
	}
	for _, r := range x.sheet.Rules {
		if r.Where.Material == "" {
			continue
		}
		for i := range x.doc.Materials {
			if fits([]string{r.Where.Material}, x.materialName(i)) {
				x.log("OW01", "error", x.materialName(i), "%s", r.Rule)
				break
			}
		}
	}
	return nil
}

// passable tells which nodes one must be able to pass.
func (x *intake) passable() map[int]bool {
	out := map[int]bool{}
	for i := range x.doc.Nodes {
		if fits(x.sheet.open(), x.doc.Nodes[i].Name) {
			out[i] = true
		}
	}
	return out
}

// colours are what materials look like from afar: the base colour times the
// mean of the picture; a signal colour where that is missing.
func (x *intake) colours() []vec {
	missing := vec{1, 0.85, 0}
	out := make([]vec, len(x.doc.Materials))
	for i := range out {
		out[i] = vec{0.72, 0.7, 0.66}
		pbr, _ := x.doc.Materials[i]["pbrMetallicRoughness"].(map[string]any)
		if f, ok := pbr["baseColorFactor"].([]any); ok && len(f) == 4 {
			for k := range 3 {
				v, _ := f[k].(float64)
				out[i][k] = math.Pow(math.Max(v, 0), 1/2.2)
			}
		}
		list := x.used(i)
		if len(list) == 0 {
			continue
		}
		if _, ok := x.sizes[list[0]]; !ok && !x.there(x.materialName(i)) {
			out[i] = missing
			continue
		}
		if c, ok := mean(x.doc.bytesOf(&x.doc.Images[list[0]], x.files, path.Dir(x.where))); ok {
			for k := range 3 {
				out[i][k] *= c[k]
			}
		}
	}
	return out
}

func mean(b []byte) (c vec, ok bool) {
	img, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return vec{1, 1, 1}, false
	}
	r := img.Bounds()
	n := 0.0
	for y := r.Min.Y; y < r.Max.Y; y += max(r.Dy()/16, 1) {
		for px := r.Min.X; px < r.Max.X; px += max(r.Dx()/16, 1) {
			red, g, bl, a := img.At(px, y).RGBA()
			if a == 0 {
				continue
			}
			c = c.add(vec{float64(red) / float64(a), float64(g) / float64(a), float64(bl) / float64(a)})
			n++
		}
	}
	if n == 0 {
		return vec{1, 1, 1}, false
	}
	return c.mul(1 / n), true
}
