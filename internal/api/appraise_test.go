package api_test

import (
	"bytes"
	"fmt"
	"image/png"
	"strings"
	"testing"

	"excavate/core/pixel"
	"excavate/internal/api"
)

// found makes an entry a find and waits for it.
func (c *client) found(path, query string) api.Find {
	c.t.Helper()
	list := c.entries(path, query).Entries
	if len(list) == 0 {
		c.t.Fatalf("no entry fits %s", query)
	}
	f := call[api.Find](c, "POST", path+"/finds", map[string]any{"entry": list[0].Id})
	return c.decoded(path, f.Id)
}

// decoded waits until a find is decoded.
func (c *client) decoded(path string, id int64) (f api.Find) {
	c.t.Helper()
	c.until("the find", func() bool {
		for _, x := range call[[]api.Find](c, "GET", path+"/finds", nil) {
			if x.Id == id {
				f = x
			}
		}
		return f.State == "ready"
	})
	return f
}

func TestJudgeAFind(t *testing.T) {
	c := start(t)
	id, path := c.project("judge")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	c.linked(path)
	keeper, punt := c.found(path, "q=keeper"), c.found(path, "q=punt.hull")
	at := "/api/scenes/" + keeper.Model.Scene

	v := call[api.Inventory](c, "GET", at+"/inventory", nil)
	triangles := 0
	for _, m := range v.Meshes {
		for _, p := range m.Parts {
			triangles += p.Triangles
			if p.Vertices == 0 || !p.Normals || len(p.Uvs) == 0 {
				t.Errorf("%s: %+v", m.Name, p)
			}
		}
	}
	if triangles != keeper.Model.Stats.Triangles || len(v.Skins) != 1 || len(v.Skins[0].Bones) != keeper.Model.Stats.Bones || len(v.Motions) != len(keeper.Model.Motions) {
		t.Errorf("%d triangles, %d skins, %d motions beside %+v", triangles, len(v.Skins), len(v.Motions), keeper.Model.Stats)
	}
	unwanted := 0
	for _, n := range v.Nodes {
		if n.Unwanted {
			unwanted++
		}
	}
	if unwanted == 0 {
		t.Error("the keeper has a camera and helpers, none is marked")
	}

	s, b := c.do("GET", at+"/uv?mesh=0&part=0&set=0", nil)
	if img, err := png.Decode(bytes.NewReader(b)); s != 200 || err != nil || img.Bounds().Dx() < 400 {
		t.Errorf("%d %v %.80s", s, err, b)
	}
	if s, b = c.do("GET", at+"/uv?mesh=0&part=0&set=9", nil); s != 404 || !strings.Contains(string(b), "no UV set 9") {
		t.Errorf("%d %s", s, b)
	}

	picture, missing := -1, -1
	for _, m := range v.Materials {
		for _, x := range m.Textures {
			if x.Missing {
				missing = x.Picture
			} else if x.Role == "colour" {
				picture = x.Picture
			}
		}
	}
	one := fmt.Sprintf("%s/pictures/%d", at, picture)
	a := call[api.Appraisal](c, "GET", one+"/appraisal", nil)
	if a.Kind != "colour" || len(a.Evidence) == 0 || len(a.Histogram) != 4 || a.Width == 0 {
		t.Errorf("%+v", a)
	}
	if s, b = c.do("GET", one+"?show=r", nil); s != 200 || !bytes.HasPrefix(b, []byte("\x89PNG")) {
		t.Errorf("%d %.40q", s, b)
	}
	if s, b = c.do("GET", one+"/file?format=dds&texels=bc7&mips=true", nil); s != 200 || !bytes.HasPrefix(b, []byte("DDS ")) {
		t.Errorf("%d %.40q", s, b)
	}
	if s, b = c.do("GET", one+"/file?format=paint", nil); s != 400 {
		t.Errorf("%d %s", s, b)
	}
	if s, b = c.do("GET", fmt.Sprintf("%s/pictures/%d", at, missing), nil); s != 404 || !strings.Contains(string(b), "was not found") {
		t.Errorf("%d %s", s, b)
	}

	same := call[api.SceneComparison](c, "GET", at+"/comparison?tolerance=0.001&with="+keeper.Model.Scene, nil)
	if !same.Same || same.Surface.Most != 0 || !strings.Contains(same.Verdict, "1 mm") {
		t.Errorf("with itself: %+v %+v", same.Verdict, same.Surface)
	}
	other := call[api.SceneComparison](c, "GET", at+"/comparison?tolerance=0.001&with="+punt.Model.Scene, nil)
	if other.Same || other.Surface.Most < 0.1 || len(other.Bones) == 0 {
		t.Errorf("with a punt: %+v %+v", other.Verdict, other.Surface)
	}
	if s, b = c.do("GET", at+"/distances?tolerance=0.001&with="+punt.Model.Scene, nil); s != 200 || !bytes.HasPrefix(b, []byte("glTF")) {
		t.Errorf("%d %.40q", s, b)
	}
	if s, b = c.do("GET", at+"/comparison?with="+strings.Repeat("0", 64), nil); s != 404 {
		t.Errorf("%d %s", s, b)
	}
}

func TestDecideTheBasis(t *testing.T) {
	c := start(t)
	id, path := c.project("basis")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	c.linked(path)
	f := c.found(path, "q=keeper")
	if f.Model.Declared != nil {
		t.Fatalf("%+v", f.Model.Declared)
	}
	clues := call[[]struct{ About, Says, Why string }](c, "GET", "/api/scenes/"+f.Model.Scene+"/clues", nil)
	if len(clues) == 0 || clues[0].Why == "" {
		t.Errorf("%+v", clues)
	}
	at, before := fmt.Sprintf("/api/finds/%d/basis", f.Id), *f.Model.Stats.Height
	call[any](c, "PUT", at, api.Decision{Up: "Z", Front: "-Y", Handedness: "right", MetresPerUnit: 0.5})
	c.until("the decision", func() bool { f = c.decoded(path, f.Id); return f.Model.Declared != nil })
	if m := f.Model; m.Basis.Up != "+Z" || m.Basis.MetresPerUnit != 0.5 || *m.Stats.Height == before {
		t.Errorf("%+v, %g m tall beside %g", m.Basis, *m.Stats.Height, before)
	}
	for _, wrong := range []api.Decision{{Up: "Z", Front: "-Z", Handedness: "right"}, {Up: "W"}, {Handedness: "both"}, {MetresPerUnit: -1}} {
		if s, b := c.do("PUT", at, wrong); s != 400 {
			t.Errorf("%+v: %d %s", wrong, s, b)
		}
	}
	call[any](c, "DELETE", at, nil)
	c.until("the file's own", func() bool { f = c.decoded(path, f.Id); return f.Model.Declared == nil })
	if *f.Model.Stats.Height != before {
		t.Errorf("%g m tall, %g before", *f.Model.Stats.Height, before)
	}
}

// Every picture format and every kind of texels comes out of a scene's picture
// and is read again.
func TestPicturesOfAScene(t *testing.T) {
	c := start(t)
	id, path := c.project("pictures")
	for _, n := range []string{"hulls.tide", "washes.tide"} {
		c.addSource(id, n)
	}
	c.linked(path)
	f := c.found(path, "q=punt.hull")
	at := fmt.Sprintf("/api/scenes/%s/pictures/0", f.Model.Scene)
	tried := 0
	for _, k := range call[[]api.Format](c, "GET", "/api/formats", nil) {
		if k.Kind == nil || *k.Kind != "picture" || !k.Writes {
			continue
		}
		texels := []string{""}
		if k.Texels != nil {
			texels = *k.Texels
		}
		for _, x := range texels {
			s, b := c.do("GET", fmt.Sprintf("%s/file?format=%s&texels=%s&mips=true", at, k.Name, x), nil)
			if s != 200 {
				t.Errorf("%s %s: %d %s", k.Name, x, s, b)
				continue
			}
			_, _, from, w, h, err := pixel.Encoded(b)
			if err != nil || w != 256 || h != 256 || !strings.HasPrefix(k.Name, from) {
				t.Errorf("%s %s: read as %s, %d x %d, %v", k.Name, x, from, w, h, err)
			}
			tried++
		}
	}
	if tried < 16 {
		t.Errorf("%d files", tried)
	}
	for address, want := range map[string]int{
		at + "/file?format=dds&texels=bc2": 400, at + "/file?format=webp": 400, at + "/file": 400, at + "?show=taste": 400,
		fmt.Sprintf("/api/scenes/%s/pictures/99", f.Model.Scene):                                          404,
		fmt.Sprintf("/api/scenes/%s/pictures/-1", f.Model.Scene):                                          404,
		fmt.Sprintf("/api/scenes/%s/pictures/0/appraisal", strings.Repeat("a", 64)):                       404,
		fmt.Sprintf("/api/scenes/%s/inventory", strings.Repeat("a", 64)):                                  404,
		fmt.Sprintf("/api/scenes/%s/uv?mesh=9&part=0&set=0", f.Model.Scene):                               404,
		fmt.Sprintf("/api/scenes/%s/uv?mesh=0", f.Model.Scene):                                            400,
		fmt.Sprintf("/api/scenes/%s/pictures/0/difference?with=%s&other=9", f.Model.Scene, f.Model.Scene): 404,
		fmt.Sprintf("/api/scenes/%s/distances?with=%s", f.Model.Scene, strings.Repeat("a", 64)):           404,
		fmt.Sprintf("/api/scenes/%s/comparison", f.Model.Scene):                                           400,
		fmt.Sprintf("/api/scenes/%s/comparison?with=x", f.Model.Scene):                                    400,
	} {
		s, b := c.do("GET", address, nil)
		if s == want || want == 404 && s == 400 && strings.Contains(address, "-1") {
			if len(b) == 0 || !strings.Contains(string(b), "message") {
				t.Errorf("%s says nothing: %s", address, b)
			}
			continue
		}
		t.Errorf("%s: %d %.200s, want %d", address, s, b, want)
	}
	// Its picture beside itself is black.
	s, b := c.do("GET", fmt.Sprintf("%s/difference?with=%s&other=0", at, f.Model.Scene), nil)
	img, err := png.Decode(bytes.NewReader(b))
	if s != 200 || err != nil {
		t.Fatalf("%d %v", s, err)
	}
	if r, g, b, _ := img.At(100, 100).RGBA(); r+g+b != 0 {
		t.Errorf("%d %d %d", r, g, b)
	}
}

// A decision on the basis survives another reading of the source, and a find
// that is taken out takes it along.
func TestADecisionLasts(t *testing.T) {
	c := start(t)
	id, path := c.project("lasting")
	src := c.addSource(id, "hulls.tide")
	c.linked(path)
	f := c.found(path, "q=punt.hull")
	at := fmt.Sprintf("/api/finds/%d/basis", f.Id)
	decided := api.Decision{Up: "+Y", Front: "+Z", Handedness: "right", MetresPerUnit: 0.1}
	call[any](c, "PUT", at, decided)
	c.until("the decision", func() bool { f = c.decoded(path, f.Id); return f.Model.Declared != nil })
	scene := f.Model.Scene
	call[any](c, "POST", fmt.Sprintf("/api/sources/%d/index", src.Id), nil)
	c.linked(path)
	if f = c.decoded(path, f.Id); f.Model.Declared == nil || f.Model.Basis.MetresPerUnit != 0.1 || f.Model.Scene != scene {
		t.Errorf("%+v", f.Model.Basis)
	}
	// The same again decodes nothing anew.
	call[any](c, "PUT", at, decided)
	for _, j := range call[[]api.Job](c, "GET", path+"/jobs", nil) {
		if j.State == "queued" || j.State == "running" {
			t.Errorf("%+v", j)
		}
	}
	call[any](c, "DELETE", fmt.Sprintf("/api/finds/%d", f.Id), nil)
	if s, b := c.do("PUT", at, decided); s != 404 {
		t.Errorf("%d %s", s, b)
	}
	if f = c.found(path, "q=punt.hull"); f.Model.Declared != nil {
		t.Errorf("a new find has an old decision: %+v", f.Model.Basis)
	}
}
