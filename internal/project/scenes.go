package project

import (
	"errors"
	"os"
	"slices"
	"sync"

	"excavate/core/delivery"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/internal/blob"
)

// Scenes are the scenes that are stored, and what is computed of one.
type Scenes struct {
	*common
	cache  *sceneCache
	papers papers
}

// Get returns a stored scene.
func (s *Scenes) Get(digest string) (*scene.Scene, error) {
	if !blob.Valid(digest) {
		return nil, errorf(Invalid, "%q is no digest of a scene: it has 64 hexadecimal digits", digest)
	}
	return s.cache.get(digest)
}

// Put stores a scene and returns its digest.
func (s *Scenes) Put(sc *scene.Scene) (string, error) { return s.cache.put(sc) }

// sceneCache keeps the scenes that were used last in memory, and all of them
// as blobs.
type sceneCache struct {
	blobs *blob.Folder
	mu    sync.Mutex
	order []string
	byKey map[string]*scene.Scene
}

const scenesInMemory = 12

func newSceneCache(b *blob.Folder) *sceneCache {
	return &sceneCache{blobs: b, byKey: map[string]*scene.Scene{}}
}

func (c *sceneCache) remember(d string, s *scene.Scene) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.byKey[d]; !ok {
		c.order = append(c.order, d)
		if len(c.order) > scenesInMemory {
			delete(c.byKey, c.order[0])
			c.order = c.order[1:]
		}
	}
	c.byKey[d] = s
}

func (c *sceneCache) get(d string) (*scene.Scene, error) {
	c.mu.Lock()
	s, ok := c.byKey[d]
	c.mu.Unlock()
	if ok {
		return s, nil
	}
	b, err := c.blobs.Get(d)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, errorf(NotFound, "the scene %.12s… is not stored; run the chain again", d)
		}
		return nil, err
	}
	if s, err = scene.Decode(b); err != nil {
		return nil, err
	}
	c.remember(d, s)
	return s, nil
}

func (c *sceneCache) put(s *scene.Scene) (string, error) {
	b, err := s.Encode()
	if err != nil {
		return "", err
	}
	d, err := c.blobs.Put(b)
	if err == nil {
		c.remember(d, s)
	}
	return d, err
}

// asRead returns the scene as its basis declares, or with its bare numbers
// taken as a glTF target takes them.
func asRead(sc *scene.Scene, bare bool) *scene.Scene {
	if !bare {
		return sc
	}
	out := *sc
	out.Basis = geom.GLTF
	return &out
}

func readKey(bare bool) string {
	if bare {
		return "target"
	}
	return "declared"
}

// ThumbSize is the edge of a thumbnail in pixels, for screens of twice the
// usual density.
const ThumbSize = 192

// Thumb draws a scene small. Thumbnails are kept beside the blobs.
func (s *Scenes) Thumb(digest string, bare bool) ([]byte, error) {
	return s.blobs.Side("thumb 6 "+digest+readKey(bare), func() ([]byte, error) {
		sc, err := s.Get(digest)
		if err != nil {
			return nil, err
		}
		img := render.Draw(asRead(sc, bare), render.Options{Width: ThumbSize, Height: ThumbSize})
		return pixel.PNG(img)
	})
}

// withClay gives materials whose colour picture is missing the plain colour of
// clay, so that a gap shows as one.
func withClay(sc *scene.Scene) *scene.Scene {
	out := *sc
	out.Materials = slices.Clone(sc.Materials)
	for i := range out.Materials {
		if t := out.Materials[i].Texture(scene.RoleColour); t != nil && sc.Pictures[t.Picture].Missing() {
			out.Materials[i].BaseColour, out.Materials[i].Alpha = [4]float32{0.36, 0.33, 0.28, 1}, scene.Opaque
		}
	}
	return &out
}

// forView is a scene in glTF's basis; what its own leaves open is taken as
// glTF's.
func forView(sc *scene.Scene) *scene.Scene {
	full := *sc
	full.Basis = sc.Basis.Or(geom.GLTF)
	if turned, err := full.InBasis(geom.GLTF); err == nil {
		return turned
	}
	return sc
}

// View is the scene for the 3D view, in glTF's basis.
func (s *Scenes) View(digest string, bare bool) ([]byte, error) {
	return s.blobs.Side("view 4 "+digest+readKey(bare), func() ([]byte, error) {
		sc, err := s.Get(digest)
		if err != nil {
			return nil, err
		}
		v := asRead(sc, bare)
		if !bare {
			v = forView(v)
		}
		b, _, err := gltf.Write(withClay(v), gltf.Options{Generator: delivery.Generator(s.version), AsStands: true})
		return b, err
	})
}

// sceneName is a scene's name, kept beside the scene so that it need not be read
// for it.
func (s *Scenes) sceneName(digest string) (string, error) {
	name, err := s.blobs.Side("name "+digest, func() ([]byte, error) {
		sc, err := s.Get(digest)
		if err != nil {
			return nil, err
		}
		return []byte(sc.Name), nil
	})
	return string(name), err
}
