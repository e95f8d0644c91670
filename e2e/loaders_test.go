package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/e2e/browser"
	"excavate/internal/demo"
	"excavate/internal/shipped"
)

// loaders is a page on which three's loaders read files: window.load(address,
// format) tells what is in one.
const loaders = `<!doctype html><script type="importmap">{"imports":{"three":"/three/build/three.module.js"}}</script><script type="module">
import * as THREE from 'three'
const of = {
  glb: ['GLTFLoader', (x) => [x.scene, x.animations]], vrm: ['GLTFLoader', (x) => [x.scene, x.animations]],
  obj: ['OBJLoader', (x) => [x, []]], dae: ['ColladaLoader', (x) => [x.scene, x.scene.animations]],
  ply: ['PLYLoader', (x) => [new THREE.Mesh(x), []]], stl: ['STLLoader', (x) => [new THREE.Mesh(x), []]],
  '3mf': ['3MFLoader', (x) => [x, []]], bvh: ['BVHLoader', (x) => [x.skeleton.bones[0], [x.clip]]], usdz: ['USDLoader', (x) => [x, []]], wrl: ['VRMLLoader', (x) => [x, []]],
}
window.load = async (url, kind) => {
  const [name, parts] = of[kind]
  const mod = await import('/three/examples/jsm/loaders/' + name + '.js')
  const Loader = mod[name] ?? mod.ThreeMFLoader
  const [root, clips] = parts(await new Loader().loadAsync(url))
  root.updateMatrixWorld(true)
  const out = { Triangles: 0, Lines: 0, Min: [], Max: [], UVs: 0, Colours: 0, Names: [], Materials: [], Pictures: 0, Bones: 0, Clips: clips.map((c) => c.name), Seconds: clips.map((c) => c.duration) }
  const box = new THREE.Box3(), v = new THREE.Vector3(), bones = new Set(), materials = new Set(), maps = new Set()
  root.traverse((o) => {
    if (o.isBone) bones.add(o)
    if (!o.isMesh) return
    const g = o.geometry, n = g.attributes.position.count
    out.Triangles += (g.index ? g.index.count : n) / 3
    out.UVs += g.attributes.uv ? 1 : 0; out.Colours += g.attributes.color ? 1 : 0
    if (o.isSkinnedMesh) o.skeleton.update()
    for (let i = 0; i < n; i++) box.expandByPoint(o.getVertexPosition(i, v).applyMatrix4(o.matrixWorld))
    for (const m of [o.material].flat()) { materials.add(m.name); if (m.map) maps.add(m.map.source.uuid) }
    out.Names.push(o.name)
  })
  out.Bones = bones.size; out.Materials = [...materials].sort(); out.Pictures = maps.size
  if (!box.isEmpty()) { out.Min = box.min.toArray(); out.Max = box.max.toArray() }
  return out
}
window.ready = true
</script>`

type figures struct {
	Triangles, UVs, Colours, Pictures, Bones int
	Min, Max                                 []float64
	Names, Materials, Clips                  []string
	Seconds                                  []float64
}

// reader is a page on which somebody else's library reads files.
type reader struct {
	*browser.Page
	url   string
	files map[string][]byte
}

// open opens a page that tells by window.ready that it can read; below path it
// finds the library, which lies in dir.
func open(t testing.TB, html, path, dir string) *reader {
	t.Helper()
	r := &reader{files: map[string][]byte{}}
	mux := http.NewServeMux()
	mux.Handle(path, http.StripPrefix(path, http.FileServer(http.Dir(dir))))
	mux.HandleFunc("/files/", func(w http.ResponseWriter, q *http.Request) {
		b, ok := r.files[strings.TrimPrefix(q.URL.Path, "/files/")]
		if !ok {
			http.NotFound(w, q)
			return
		}
		w.Write(b) //nolint:errcheck // the browser notices
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Write([]byte(html)) //nolint:errcheck // the browser notices
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	t.Cleanup(cancel)
	p, err := browser.Open(ctx, srv.URL, 400, 300)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	if err := p.Go("/"); err != nil {
		t.Fatal(err)
	}
	if err := p.Until("window.ready"); err != nil {
		t.Fatal(err)
	}
	r.Page, r.url = p, srv.URL
	return r
}

// load gives files to the page and has it read the first, which may ask for
// the others: window.load(address, how...) tells what is in it.
func (r *reader) load(written []format.Written, found any, how ...string) error {
	args := fmt.Sprintf("%q", r.url+"/files/"+written[0].Name)
	for _, h := range how {
		args += fmt.Sprintf(", %q", h)
	}
	for _, f := range written {
		r.files[f.Name] = f.Data
	}
	text, err := browser.Eval[string](r.Page, "window.load("+args+").then((x) => JSON.stringify(x), (e) => 'failed: ' + (e?.stack ?? e))")
	if err == nil && json.Unmarshal([]byte(text), found) != nil {
		err = fmt.Errorf("%.600s", text)
	}
	return err
}

// TestOthersReadWhatWeWrite writes a village's things in every format and has
// them read by three's loaders.
func TestOthersReadWhatWeWrite(t *testing.T) {
	page := open(t, loaders, "/three/", "../web/node_modules/three")
	for name, s := range things(t) {
		want := s.Stats()
		for _, w := range shipped.Writers {
			ending := strings.TrimPrefix(w.Ending, ".")
			if ending == "usda" || ending == "x3d" || ending == "bvh" && want.Bones == 0 || ending == "vrm" && s.Avatar == nil {
				continue
			}
			given := s
			if ending == "dae" && want.Morphs > 0 { // the loader knows no skin over morph targets
				given = plain(s)
			}
			written, _, err := w.Write(given, name)
			if err != nil {
				t.Errorf("%s as %s: %v", name, w.Name, err)
				continue
			}
			var got figures
			if err := page.load(written, &got, ending); err != nil {
				t.Errorf("%s as %s: %v", name, w.Name, err)
				continue
			}
			compare(t, name, ending, s, want, got)
			if ending == "obj" || ending == "ply" || ending == "dae" || ending == "wrl" {
				four, _, err := w.Write(inQuads(given), name)
				if err == nil {
					err = page.load(four, &got, ending)
				}
				if err != nil || len(four[0].Data) == len(written[0].Data) {
					t.Errorf("%s in quads as %s: %v", name, w.Name, err)
					continue
				}
				compare(t, name+" in quads", ending, s, want, got)
			}
		}
	}
}

// inQuads is a scene whose triangles are paired wherever they can be.
func inQuads(s *scene.Scene) *scene.Scene {
	out := plain(s)
	for i := range out.Meshes {
		for k := range out.Meshes[i].Parts {
			out.Meshes[i].Parts[k].Quads = &scene.Quads{Bend: 45, Skew: 85}
			out.Meshes[i].Parts[k].Morphs = s.Meshes[i].Parts[k].Morphs
		}
	}
	return out
}

// BenchmarkReadCOLLADA reads a file of some 50 MB, and has three's loader read
// it in the browser, where it finds its XML parser: only parsing is timed.
func BenchmarkReadCOLLADA(b *testing.B) {
	const side = 560
	p := scene.Part{Material: scene.None, UVs: []scene.AttrSet{{Name: "uv"}}}
	for y := range side {
		for x := range side {
			p.Positions = append(p.Positions, float32(x)/7, float32(math.Sin(float64(x*y)/50)), float32(y)/7)
			p.Normals = append(p.Normals, 0, 1, 0)
			p.UVs[0].Data = append(p.UVs[0].Data, float32(x)/side, float32(y)/side)
			if x > 0 && y > 0 {
				k := uint32(y*side + x)
				p.Triangles = append(p.Triangles, k, k-1, k-side, k-1, k-side-1, k-side)
			}
		}
	}
	s := &scene.Scene{Name: "mudflat", Basis: geom.GLTF, Meshes: []scene.Mesh{{Name: "mudflat", Parts: []scene.Part{p}}}, Nodes: []scene.Node{scene.NewNode("mudflat")}}
	s.Nodes[0].Mesh = 0
	files, _, err := shipped.Writers.Named("collada").Write(s, "mudflat")
	if err != nil {
		b.Fatal(err)
	}
	page := open(b, loaders, "/three/", "../web/node_modules/three")
	page.files["mudflat.dae"] = files[0].Data
	theirs, err := browser.Eval[float64](page.Page, `(async () => { const { ColladaLoader } = await import('/three/examples/jsm/loaders/ColladaLoader.js'), text = await (await fetch('/files/mudflat.dae')).text(), t = performance.now(); new ColladaLoader().parse(text, ''); return performance.now() - t })()`)
	if err != nil {
		b.Fatal(err)
	}
	var reader *format.Reader
	for i := range shipped.Formats {
		if shipped.Formats[i].Name == "collada" {
			reader = &shipped.Formats[i]
		}
	}
	b.SetBytes(int64(len(files[0].Data)))
	for b.Loop() {
		if _, err := reader.Read(context.Background(), format.File{Data: files[0].Data}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(theirs/(b.Elapsed().Seconds()*1000/float64(b.N)), "times-three")
}

// plain is a scene without morph targets.
func plain(s *scene.Scene) *scene.Scene {
	out := *s
	out.Meshes = append([]scene.Mesh{}, s.Meshes...)
	for i := range out.Meshes {
		out.Meshes[i].Parts = append([]scene.Part{}, out.Meshes[i].Parts...)
		for k := range out.Meshes[i].Parts {
			out.Meshes[i].Parts[k].Morphs = nil
		}
	}
	return &out
}

func compare(t *testing.T, name, ending string, s *scene.Scene, want scene.Stats, got figures) {
	t.Helper()
	fail := func(what string, got, want any) {
		t.Errorf("%s as %s: %s %v, want %v",
			name, ending, what, got, want)
	}
	if ending == "bvh" {
		// The loader makes end sites bones too.
		if got.Bones < want.Bones {
			fail("bones", got.Bones, want.Bones)
		}
		seconds := 0.0
		if len(s.Motions) > 0 {
			seconds = s.Motions[0].Seconds()
		}
		if len(got.Seconds) != 1 || math.Abs(got.Seconds[0]-seconds) > 0.05 {
			fail("seconds", got.Seconds, seconds)
		}
		return
	}
	if got.Triangles != want.Triangles {
		fail("triangles", got.Triangles, want.Triangles)
	}
	// Formats with axes and a unit of their own are turned and scaled.
	scale := map[string]float64{"3mf": 1000}[ending]
	if scale == 0 {
		scale = 1
	}
	min, max := geom.Vec3(want.Min).Mul(scale), geom.Vec3(want.Max).Mul(scale)
	if ending == "3mf" { // z up, front -y
		min, max = geom.Vec3{min[0], -max[2], min[1]}, geom.Vec3{max[0], -min[2], max[1]}
	}
	for k := range min {
		e := 2e-4 * math.Max(scale, max[k]-min[k])
		if len(got.Min) != 3 || math.Abs(got.Min[k]-min[k]) > e || math.Abs(got.Max[k]-max[k]) > e {
			t.Errorf("%s as %s: bounds %v %v, want %v %v", name, ending, got.Min, got.Max, min, max)
			break
		}
	}
	if (ending == "dae" || ending == "glb" || ending == "vrm") && len(s.Motions) != len(got.Clips) {
		fail("clips", got.Clips, len(s.Motions))
	}
	if (ending == "dae" || ending == "glb" || ending == "vrm") && got.Bones < want.Bones {
		fail("bones", got.Bones, want.Bones)
	}
	if ending == "dae" || ending == "glb" || ending == "usdz" || ending == "3mf" || ending == "wrl" {
		pictures := map[int]bool{}
		for i := range s.Materials {
			if x := s.Materials[i].Texture(scene.RoleColour); x != nil {
				pictures[x.Picture] = true
			}
		}
		if got.Pictures < len(pictures) {
			fail("pictures", got.Pictures, len(pictures))
		}
	}
	if ending == "dae" || ending == "glb" || ending == "obj" {
		var names []string
		for i := range s.Materials {
			names = append(names, s.Materials[i].Name)
		}
		sort.Strings(names)
		for _, n := range names {
			if i := sort.SearchStrings(got.Materials, n); i == len(got.Materials) || got.Materials[i] != n {
				fail("materials", got.Materials, names)
				break
			}
		}
	}
}

// things are an avatar with faces, a figure with a skin and a motion, and a
// textured boat, all in glTF's basis.
func things(t *testing.T) map[string]*scene.Scene {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(dir, nil); err != nil {
		t.Fatal(err)
	}
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	var stack source.Stack
	for _, name := range []string{"hulls.tide", "washes.tide", "winter.tide", "harbour.zip"} {
		src, err := source.Open(context.Background(), filepath.Join(dir, name), source.Options{Layouts: lib.Layouts})
		if err != nil {
			t.Fatal(err)
		}
		defer src.Close()
		stack = append(stack, src)
	}
	out := map[string]*scene.Scene{}
	add := func(name string, b []byte) {
		s, _, err := lib.Decode(context.Background(), find.Input{Name: name, Data: b, Stack: stack})
		if err != nil {
			t.Fatal(err)
		}
		if s.Basis.Known() {
			if s, err = s.InBasis(geom.GLTF); err != nil {
				t.Fatal(err)
			}
		}
		out[strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))] = s
	}
	add("ottilie.vrm", demo.Avatars[0].VRM())
	for _, name := range []string{"figures/ferry_keeper.hull", "boats/punt.hull"} {
		i := stack[0].Lookup(name)
		if i < 0 {
			t.Fatalf("%s is not there", name)
		}
		b, err := stack[0].Read(i)
		if err != nil {
			t.Fatal(err)
		}
		add(name, b)
	}
	return out
}
