package e2e

import (
	"context"
	"fmt"
	"math"
	"slices"
	"testing"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/internal/shipped"
)

// skinner is a page on which three reads a GLB, plays its first motion and
// tells where every skinned vertex lies at some times.
const skinner = `<!doctype html><script type="importmap">{"imports":{"three":"/three/build/three.module.js"}}</script><script type="module">
import * as THREE from 'three'
import { GLTFLoader } from '/three/examples/jsm/loaders/GLTFLoader.js'
window.load = async (url, text) => {
  const gltf = await new GLTFLoader().loadAsync(url), mixer = new THREE.AnimationMixer(gltf.scene), v = new THREE.Vector3()
  if (gltf.animations[0]) mixer.clipAction(gltf.animations[0]).play()
  return text.split(' ').map((t) => {
    mixer.setTime(Number(t))
    gltf.scene.updateMatrixWorld(true)
    const out = []
    gltf.scene.traverse((o) => {
      if (!o.isSkinnedMesh) return
      o.skeleton.update()
      for (let i = 0; i < o.geometry.attributes.position.count; i++) {
        o.getVertexPosition(i, v).applyMatrix4(o.matrixWorld)
        out.push(v.x, v.y, v.z)
      }
    })
    return out
  })
}
window.ready = true
</script>`

// Skinned by three, the keeper's vertices lie where they lie here, after every
// step that works on a skeleton or a motion.
func TestSkinningAsThreeHasIt(t *testing.T) {
	keeper := things(t)["ferry_keeper"]
	if keeper == nil || len(keeper.Motions) == 0 {
		t.Fatal("there is no keeper with a motion")
	}
	page := open(t, skinner, "/three/", "../web/node_modules/three")
	glb := shipped.Writers.Named("glb")
	for _, x := range []struct{ name, params string }{
		{"basis", `{"up":"+Y","front":"+Z","handedness":"right","unit":1}`},
		{"rest-pose", `{"to":"T"}`}, {"bones-trim", `{"weightless":true}`}, {"bones-parent", `{"insert":"root"}`}, {"weights", `{"most":2}`},
		{"motion-mirror", `{}`}, {"root-motion", `{"to":"in-place"}`}, {"keys", `{"to":1.5,"speed":1.25,"tolerance":1}`},
		{"retarget", `{"from":"itself","replace":true}`}, {"fit-skeleton", `{"from":"itself"}`}, {"bones-rename", `{"to":"humanoid"}`},
	} {
		k, err := step.Get(x.name)
		if err != nil {
			t.Fatal(err)
		}
		from := keeper
		if x.name == "fit-skeleton" { // of what differs in its root
			rename, _ := step.Get("root")
			if from, err = rename.Apply(t.Context(), keeper, []byte(`{"name":"other"}`), nil, &step.Report{}); err != nil {
				t.Fatal(err)
			}
		}
		s, err := k.Apply(t.Context(), from, []byte(x.params), itself{keeper}, &step.Report{})
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		s, err = s.InBasis(geom.GLTF)
		if err != nil {
			t.Fatal(err)
		}
		written, _, err := glb.Write(s, "keeper")
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		times := []float64{0, 0.3, 0.77, 1.1}
		var theirs [][]float64
		if err := page.load(written, &theirs, "0 0.3 0.77 1.1"); err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		for i, time := range times {
			ours := skinned(s, time)
			if len(ours) != len(theirs[i]) {
				t.Errorf("%s: %d numbers, three has %d", x.name, len(ours), len(theirs[i]))
				break
			}
			far := 0.0
			for k := range ours {
				far = max(far, math.Abs(float64(ours[k])-theirs[i][k]))
			}
			if far > 1e-4 || math.IsNaN(far) {
				t.Errorf("%s: at %g s a vertex lies %g m from where three has it", x.name, time, far)
			}
		}
	}
}

// skinned is where a scene's bound vertices lie in its first motion.
func skinned(s *scene.Scene, time float64) (out []float32) {
	posed := *s
	posed.Nodes = slices.Clone(s.Nodes)
	if len(s.Motions) > 0 {
		for n, list := range s.Motions[0].ByNode() {
			posed.Nodes[n] = s.Nodes[n].Posed(list, time)
		}
	}
	world := posed.World()
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 && s.Nodes[i].Skin >= 0 {
			for j := range s.Meshes[m].Parts {
				pos, _ := posed.Posed(i, &s.Meshes[m].Parts[j], world)
				out = append(out, pos...)
			}
		}
	}
	return out
}

// itself is where there is one asset and no picture.
type itself struct{ s *scene.Scene }

func (b itself) Asset(context.Context, string) (*scene.Scene, error) { return b.s, nil }
func (b itself) Pictures(context.Context, string) ([]string, error)  { return nil, nil }
func (b itself) Picture(_ context.Context, name string) (scene.Picture, error) {
	return scene.Picture{}, fmt.Errorf("no %s", name)
}
