package console

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"image"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"excavate/standin/protocol"

	"golang.org/x/image/bmp"
)

func TestAFrameIsTheSameWheneverItIsAskedFor(t *testing.T) {
	a, b, c := frameOf(1234).files(), frameOf(1234).files(), frameOf(1235).files()
	same := 0
	for i := range a {
		if a[i].name != b[i].name || !bytes.Equal(a[i].data, b[i].data) {
			t.Errorf("%s differs from itself", a[i].name)
		}
		if bytes.Equal(a[i].data, c[i].data) {
			same++
		}
	}
	if same == 0 || same == len(a) {
		t.Errorf("%d of %d files are the same in the next frame", same, len(a))
	}
}

// Another reader must read the dumps: 8 bits, rows from the bottom up, with a
// table of 256 colours.
func TestPicturesAreBitmapsAsDumpsCome(t *testing.T) {
	f := frameOf(1300)
	for _, p := range f.pics {
		b := p.bmp()
		img, err := bmp.Decode(bytes.NewReader(b))
		if err != nil {
			t.Fatalf("%s: %v", p.name, err)
		}
		pal, ok := img.(*image.Paletted)
		if !ok || len(pal.Palette) != 256 || pal.Rect.Dx() != p.w || pal.Rect.Dy() != p.h {
			t.Fatalf("%s: %T %v", p.name, img, img.Bounds())
		}
		for _, at := range [][2]int{{0, 0}, {p.w - 1, 0}, {3, p.h - 1}, {p.w / 2, p.h / 3}} {
			want := p.texels[at[1]*p.w+at[0]]
			if got := pal.ColorIndexAt(at[0], at[1]); got != want {
				t.Errorf("%s at %v: %d, want %d", p.name, at, got, want)
			}
		}
		if at := binary.LittleEndian.Uint32(b[10:]); at != 54+1024 {
			t.Errorf("%s: texels at %d", p.name, at)
		}
	}
	// The face blinks: it exists only while the game runs.
	if bytes.Equal(paint(picFace, 1350).texels, paint(picFace, 1360).texels) {
		t.Error("the face never changes")
	}
}

func TestSegmentsHoldTheTexelsTopDown(t *testing.T) {
	f := frameOf(1300)
	for _, x := range f.files() {
		if x.name != "segments/faces.bin" {
			continue
		}
		if len(x.data) != 512+32*32 || !bytes.Equal(x.data[512:], f.pics[picFace].texels) {
			t.Errorf("%d bytes", len(x.data))
		}
		return
	}
	t.Error("there is no segment for the faces")
}

// bounds parses points and returns how far they reach.
func bounds(t *testing.T, points string) (lo, hi vec) {
	t.Helper()
	lo, hi = vec{1e9, 1e9, 1e9}, vec{-1e9, -1e9, -1e9}
	for _, p := range strings.Split(points, ",") {
		f := strings.Fields(p)
		if len(f) != 3 {
			t.Fatalf("point %q", p)
		}
		for k, s := range f {
			v, err := strconv.ParseFloat(s, 64)
			if err != nil {
				t.Fatal(err)
			}
			lo[k], hi[k] = min(lo[k], v), max(hi[k], v)
		}
	}
	return lo, hi
}

func TestGeometryIsSoundAndTiny(t *testing.T) {
	f := frameOf(1301)
	d := xml.NewDecoder(bytes.NewReader(f.x3d()))
	shapes := 0
	var tallest float64
	pictures := map[string]bool{}
	points := 0
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		e, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		attr := func(n string) string {
			for _, a := range e.Attr {
				if a.Name.Local == n {
					return a.Value
				}
			}
			return ""
		}
		switch e.Name.Local {
		case "Shape":
			shapes++
		case "ImageTexture":
			pictures[strings.Trim(attr("url"), `"`)] = true
		case "Coordinate":
			lo, hi := bounds(t, attr("point"))
			points = strings.Count(attr("point"), ",") + 1
			tallest = max(tallest, hi[1]-lo[1])
		case "IndexedFaceSet":
			for _, s := range strings.Fields(attr("coordIndex")) {
				if n, err := strconv.Atoi(s); err != nil || n < -1 {
					t.Fatalf("index %q", s)
				}
			}
		}
	}
	if shapes < 250 || shapes > 900 || points == 0 {
		t.Errorf("%d groups", shapes)
	}
	if tallest == 0 || tallest > 0.01 {
		t.Errorf("the tallest group is %g high; a console's numbers are thousands of times smaller than metres", tallest)
	}
	files := map[string]bool{}
	for _, x := range f.files() {
		files[x.name] = true
	}
	for p := range pictures {
		if !files[p] {
			t.Errorf("the geometry asks for %s, which is not written", p)
		}
	}
	wrl := string(f.vrml())
	if !strings.HasPrefix(wrl, "#VRML V2.0 utf8\n") || strings.Count(wrl, "Shape {") != shapes || strings.Count(wrl, "{") != strings.Count(wrl, "}") || strings.Count(wrl, "[") != strings.Count(wrl, "]") {
		t.Error("the VRML is another frame, or not whole")
	}
	// Layers lie over each other: the figure is there twice.
	if n := strings.Count(wrl, "# head"); n != 1 || !strings.Contains(wrl, "# outline head") {
		t.Errorf("%d heads", n)
	}
}

func TestPauseStepAndRun(t *testing.T) {
	c := New()
	clock := time.Unix(100, 0)
	c.now = func() time.Time { return clock }
	c.since = clock
	if s := c.State(); s.Frame != firstFrame || !s.Running {
		t.Errorf("%+v", s)
	}
	clock = clock.Add(2 * time.Second)
	if s := c.State(); s.Frame != firstFrame+60 {
		t.Errorf("after two seconds: %+v", s)
	}
	do := func(x protocol.Control) protocol.State {
		t.Helper()
		s, err := c.Do(x)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	do(protocol.Control{Do: "pause"})
	clock = clock.Add(time.Minute)
	if s := c.State(); s.Frame != firstFrame+60 || s.Running {
		t.Errorf("paused: %+v", s)
	}
	if s := do(protocol.Control{Do: "step"}); s.Frame != firstFrame+61 {
		t.Errorf("a step: %+v", s)
	}
	if s := do(protocol.Control{Do: "step", Frames: 30}); s.Frame != firstFrame+91 {
		t.Errorf("thirty: %+v", s)
	}
	do(protocol.Control{Do: "run"})
	clock = clock.Add(time.Second)
	if s := c.State(); s.Frame != firstFrame+121 {
		t.Errorf("running again: %+v", s)
	}
	for _, bad := range []protocol.Control{{Do: "fly"}, {Do: "step", Frames: -3}, {Do: "step", Frames: 1 << 30}} {
		if _, err := c.Do(bad); err == nil {
			t.Errorf("%+v is done", bad)
		}
	}
}

func TestProtocol(t *testing.T) {
	s := httptest.NewServer(protocol.LocalOnly(New().Handler()))
	defer s.Close()
	get := func(path string, head ...string) (int, []byte) {
		t.Helper()
		req, _ := http.NewRequest("GET", s.URL+path, nil)
		for i := 0; i+1 < len(head); i += 2 {
			if head[i] == "Host" {
				req.Host = head[i+1]
			} else {
				req.Header.Set(head[i], head[i+1])
			}
		}
		r, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		b, _ := io.ReadAll(r.Body)
		return r.StatusCode, b
	}
	http.Post(s.URL+"/control", "application/json", strings.NewReader(`{"do":"pause"}`))
	_, b := get("/offers")
	var list []protocol.Offer
	if err := json.Unmarshal(b, &list); err != nil || len(list) != int(pictures)+3+2 {
		t.Fatalf("%d offers, %v", len(list), err)
	}
	for _, o := range list {
		status, b := get("/offers/" + o.ID)
		if status != 200 || int64(len(b)) != o.Size {
			t.Errorf("%s: %d, %d of %d bytes", o.ID, status, len(b), o.Size)
		}
		if status, part := get("/offers/"+o.ID, "Range", "bytes=10-19"); status != 206 || !bytes.Equal(part, b[10:20]) {
			t.Errorf("%s: a range gives %d", o.ID, status)
		}
	}
	for path, head := range map[string][]string{"/offers/f12/none": nil, "/offers/fx/frame.wrl": nil, "/offers/f99999999999/frame.wrl": nil, "/device": {"Host", "evil.example"}, "/state": {"Origin", "http://evil.example"}} {
		if status, _ := get(path, head...); status < 400 {
			t.Errorf("%s %v: %d", path, head, status)
		}
	}
}
