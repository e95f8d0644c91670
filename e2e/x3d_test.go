package e2e

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/x3d"
	"excavate/core/geom"
	"excavate/core/scene"
)

// x3dReader is a page on which another reader of X3D and VRML opens files:
// window.load(address) tells what it finds.
const x3dReader = `<!doctype html><x3d-canvas style="width:64px;height:64px"></x3d-canvas><script type="module">
import X3D from '/reader/x_ite.min.mjs'
const browser = X3D.getBrowser(document.querySelector('x3d-canvas'))
window.load = async (url) => {
  const scene = await browser.createX3DFromURL(new X3D.MFString(url))
  await browser.replaceWorld(scene)
  for (let i = 0; i < 3; i++) await new Promise(requestAnimationFrame)
  const out = { Triangles: 0, Min: [1e30, 1e30, 1e30], Max: [-1e30, -1e30, -1e30], Materials: {}, Names: [], Lights: [], Cameras: [], Pictures: [] }
  const add = (m, v, i) => { for (let k = 0; k < 3; k++) { const x = v[i] * m[k] + v[i + 1] * m[4 + k] + v[i + 2] * m[8 + k] + m[12 + k]; out.Min[k] = Math.min(out.Min[k], x); out.Max[k] = Math.max(out.Max[k], x) } }
  const mul = (a, b) => { const o = []; for (let r = 0; r < 4; r++) for (let c = 0; c < 4; c++) { let s = 0; for (let k = 0; k < 4; k++) s += a[4 * r + k] * b[4 * k + c]; o[4 * r + c] = s } return o }
  const place = (m, p) => [0, 1, 2].map((k) => p[0] * m[k] + p[1] * m[4 + k] + p[2] * m[8 + k] + m[12 + k])
  const vec = (v) => [v.x, v.y, v.z]
  const walk = (n, m) => {
    if (!n) return
    const kind = n.getNodeTypeName(), name = n.getNodeName()
    if (name) out.Names.push(name)
    switch (kind) {
      case 'Transform': m = mul([...n.getValue().getMatrix()], m) // falls through
      case 'Group': for (const c of n.children) walk(c, m); return
      case 'Shape': {
        const g = n.geometry?.getValue(), a = n.appearance
        if (!g) return
        const v = [...g.getVertices()]
        if (g.getGeometryType() >= 2) out.Triangles += v.length / 12
        for (let i = 0; i < v.length; i += 4) add(m, v, i)
        if (a) {
          const mat = a.material, texture = a.texture ?? mat?.baseTexture
          out.Materials[a.getNodeName()] = { Kind: mat?.getNodeTypeName() ?? '', Alpha: String(a.alphaMode), Picture: texture?.url?.[0] ?? '' }
        }
        return
      }
      case 'PointLight': case 'SpotLight': case 'DirectionalLight': out.Lights.push({ Name: name, Kind: kind, At: kind === 'DirectionalLight' ? null : place(m, vec(n.location)), Strength: n.intensity }); return
      case 'Viewpoint': case 'OrthoViewpoint': out.Cameras.push({ Name: name, Kind: kind, At: place(m, vec(n.position)) }); return
      default: throw new Error('a ' + kind)
    }
  }
  for (const n of scene.rootNodes) walk(n, [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1])
  return out
}
window.ready = true
</script>`

// x3dFound is what the other reader finds.
type x3dFound struct {
	Triangles float64
	Min, Max  []float64
	Names     []string
	Materials map[string]struct{ Kind, Alpha, Picture string }
	Lights    []struct {
		Name, Kind string
		At         []float64
		Strength   float64
	}
	Cameras []struct {
		Name, Kind string
		At         []float64
	}
}

// lieAlike tells whether two find a scene in one place.
func lieAlike(got x3dFound, want scene.Stats) bool {
	slack := 1e-4 * geom.Vec3(want.Max).Sub(want.Min).Len()
	for k := range 3 {
		if math.Abs(got.Min[k]-want.Min[k]) > slack || math.Abs(got.Max[k]-want.Max[k]) > slack {
			return false
		}
	}
	return true
}

// Files are read as another reader reads them: where Transforms put things,
// what is drawn along a spine, what grids and sets of faces hold.
func TestX3DAsOthersReadIt(t *testing.T) {
	other := open(t, x3dReader, "/reader/", "../web/node_modules/x_ite/dist")
	const face = `Shape { geometry IndexedFaceSet { solid FALSE coord Coordinate { point [ 0 0 0, 2 0 0, 2 1 0.5, 0 3 0 ] } coordIndex [ 0 1 2 -1 0 2 3 -1 ] } }`
	for name, text := range map[string]string{
		"centre and scale orientation": "Transform { translation 1 2 3 rotation 1 1 0 0.7 center 0.5 1 0 scale 2 1 0.5 scaleOrientation 0 1 1 0.4 children " + face + " }",
		"a shear":                      "Transform { scale 1 3 1 children Transform { rotation 0 0 1 0.6 children Transform { translation 1 0 0 scale -1 1 2 children " + face + " } } }",
		"groups and uses":              "DEF a Group { children [ DEF b Transform { translation 5 0 0 children DEF f " + face + " } Transform { rotation 0 1 0 1 children USE f } ] } Transform { translation 0 9 0 children USE a }",
		"a bent extrusion":             "Shape { geometry Extrusion { crossSection [ 0.5 0.5, 0.5 -0.5, -0.5 -0.5, -0.5 0.5, 0.5 0.5 ] spine [ 0 0 0, 0 2 0, 1 3 0.5, 3 3 1 ] } }",
		"a turned extrusion":           "Shape { geometry Extrusion { crossSection [ 1 0, 0 -1, -1 0, 1 0 ] spine [ 0 0 0, 0 1 0, 0 2 0 ] scale [ 1 1, 2 0.5, 1 1 ] orientation [ 0 1 0 0, 0 1 0 0.8, 1 0 0 0.5 ] convex FALSE } }",
		"a closed extrusion":           "Shape { geometry Extrusion { crossSection [ 0.2 0, 0 -0.2, -0.2 0, 0.2 0 ] spine [ 1 0 0, 0 0 -1, -1 0 0, 0 0 1, 1 0 0 ] } }",
		"a grid":                       "Shape { geometry ElevationGrid { xDimension 3 zDimension 4 xSpacing 2 zSpacing 0.5 height [ 0 1 0 2 3 1 0 0 1 1 1 4 ] } }",
		"polygons":                     "Shape { geometry IndexedFaceSet { convex FALSE coord Coordinate { point [ 0 0 0, 4 0 0, 4 4 0, 2 1 0, 0 4 0, 0 0 1 ] } coordIndex [ 0 1 2 3 4 -1 0 1 5 -1 ] } }",
		"a box":                        "Transform { rotation 0 0 1 0.3 children Shape { geometry Box { size 1 2 3 } } }",
	} {
		data := []byte("#VRML V2.0 utf8\n" + text + "\n")
		s, err := x3d.Formats()[0].Read(context.Background(), format.File{Name: "a.wrl", Data: data})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var got x3dFound
		if err := other.load([]format.Written{{Name: "a.wrl", Data: data}}, &got); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if want := s.Stats(); int(math.Round(got.Triangles)) != want.Triangles || !lieAlike(got, want) {
			t.Errorf("%s: another finds %g triangles from %v to %v, we %d from %v to %v", name, got.Triangles, got.Min, got.Max, want.Triangles, want.Min, want.Max)
		}
	}
}

// TestOthersReadX3D has what is written as X3D and VRML read by a reader that
// is not ours.
func TestOthersReadX3D(t *testing.T) {
	other := open(t, x3dReader, "/reader/", "../web/node_modules/x_ite/dist")
	list := things(t)
	list["pontoon"] = pontoon()
	for name, s := range list {
		for _, w := range x3d.Writers() {
			written, _, err := w.Write(s, name)
			if err != nil {
				t.Fatal(err)
			}
			var got x3dFound
			if err := other.load(written, &got); err != nil {
				t.Errorf("%s as %s: %v", name, w.Name, err)
				continue
			}
			turned, err := s.InBasis(geom.GLTF)
			if err != nil {
				t.Fatal(err)
			}
			want := turned.Stats()
			if int(math.Round(got.Triangles)) != want.Triangles {
				t.Errorf("%s as %s: %g triangles, want %d", name, w.Name, got.Triangles, want.Triangles)
			}
			if !lieAlike(got, want) {
				t.Errorf("%s as %s: from %v to %v, want %v to %v", name, w.Name, got.Min, got.Max, want.Min, want.Max)
			}
			for i := range turned.Materials {
				m := &turned.Materials[i]
				g, ok := got.Materials[m.Name]
				if !ok {
					continue // its name is no DEF, or nothing has it
				}
				kind := "PhysicalMaterial"
				if w.Name == "vrml" {
					kind = "Material"
				} else if m.Unlit {
					kind = "UnlitMaterial"
				}
				if g.Kind != kind {
					t.Errorf("%s as %s: the material %s is a %s, not a %s", name, w.Name, m.Name, g.Kind, kind)
				}
				if c := m.Texture(scene.RoleColour); (c != nil) != (g.Picture != "") {
					t.Errorf("%s as %s: the material %s has the picture %q", name, w.Name, m.Name, g.Picture)
				}
			}
			if name != "pontoon" {
				continue
			}
			if strings.Join(got.Names, " ") != "pontoon plank plank_2 plank_again plank_2 lamp watch" { // the second is the mesh of both
				t.Errorf("%s: names %v", w.Name, got.Names)
			}
			if len(got.Lights) != 1 || got.Lights[0].Kind != "SpotLight" || got.Lights[0].Strength != 0.5 || fmt.Sprintf("%.3f", got.Lights[0].At) != "[2.000 3.000 0.000]" {
				t.Errorf("%s: %+v", w.Name, got.Lights)
			}
			if len(got.Cameras) != 1 || got.Cameras[0].Kind != "Viewpoint" || fmt.Sprintf("%.3f", got.Cameras[0].At) != "[2.000 0.000 9.000]" {
				t.Errorf("%s: %+v", w.Name, got.Cameras)
			}
		}
	}
}

// pontoon is nodes within a node, two of one mesh, a lamp and a camera.
func pontoon() *scene.Scene {
	s := &scene.Scene{Name: "pontoon", Basis: geom.GLTF}
	add := func(name string, parent int, t [3]float32) *scene.Node {
		n := scene.NewNode(name)
		n.Parent, n.Translation = parent, t
		s.Nodes = append(s.Nodes, n)
		return &s.Nodes[len(s.Nodes)-1]
	}
	add("pontoon", scene.None, [3]float32{2, 0, 0})
	add("plank", 0, [3]float32{1, 0, 0}).Mesh = 0
	again := add("plank_again", 0, [3]float32{-1, 0, 0})
	again.Mesh, again.Scale, again.Rotation = 0, [3]float32{2, 1, 1}, [4]float32{0, 0.70710677, 0, 0.70710677}
	add("lamp", 0, [3]float32{0, 3, 0}).Light = 0
	add("watch", 0, [3]float32{0, 0, 9}).Camera = 0
	s.Lights = []scene.Light{{Name: "lamp", Type: "spot", Colour: [3]float32{1, 1, 1}, Intensity: 0.5, Range: 9, Inner: 0.3, Outer: 0.6}}
	s.Cameras = []scene.Camera{{Name: "watch", FovY: 0.8, Near: 0.1, Far: 100}}
	s.Meshes = []scene.Mesh{{Name: "plank", Parts: []scene.Part{{Material: scene.None, Positions: []float32{0, 0, 0, 3, 0, 0, 3, 0.2, 0, 0, 0.2, 0}, Triangles: []uint32{0, 1, 2, 0, 2, 3}}}}}
	return s
}
