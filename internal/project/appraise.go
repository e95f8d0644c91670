package project

import (
	"encoding/json"
	"fmt"
	"image"
	"strconv"

	"excavate/core/appraise"
	"excavate/core/format/gltf"
	"excavate/core/pixel"
	"excavate/core/rig"
	"excavate/core/scene"
)

// kept computes something of a scene once and keeps it beside the blobs.
func (s *Scenes) kept(what, digest string, of func(*scene.Scene) ([]byte, error)) ([]byte, error) {
	return s.blobs.Side(what+" "+digest, func() ([]byte, error) {
		sc, err := s.Get(digest)
		if err != nil {
			return nil, err
		}
		return of(sc)
	})
}

// Inventory lists a scene as the 3D view has it, as JSON.
func (s *Scenes) Inventory(digest string) ([]byte, error) {
	return s.kept("inventory 4", digest, func(sc *scene.Scene) ([]byte, error) {
		return json.Marshal(appraise.InventoryOf(forView(sc)))
	})
}

// Rig is what can be told of a scene's skeleton, as JSON; held against that of
// another scene unless against is empty.
func (s *Scenes) Rig(digest, against string) ([]byte, error) {
	var ref *scene.Scene
	if against != "" {
		var err error
		if ref, err = s.Get(against); err != nil {
			return nil, err
		}
	}
	return s.kept("rig 1 "+against, digest, func(sc *scene.Scene) ([]byte, error) {
		var out struct {
			rig.Report
			Against *[]rig.Difference `json:"against,omitempty"`
		}
		out.Report = rig.Tell(forView(sc), nil)
		if ref != nil {
			list, err := rig.HeldAgainst(sc, ref)
			if err != nil {
				return nil, errorf(Unusable, "%v", err)
			}
			list = append([]rig.Difference{}, list...) // none is a list too
			out.Against = &list
		}
		return json.Marshal(out)
	})
}

// Motion is what can be drawn of a scene's motion, as JSON.
func (s *Scenes) Motion(digest string, n int) ([]byte, error) {
	return s.kept(fmt.Sprintf("motion 1 %d", n), digest, func(sc *scene.Scene) ([]byte, error) {
		if n < 0 || n >= len(sc.Motions) {
			return nil, errorf(NotFound, "motion %d: there are %d", n, len(sc.Motions))
		}
		return json.Marshal(rig.StripOf(sc, &sc.Motions[n]))
	})
}

// Clues are what speaks for a basis.
func (s *Scenes) Clues(digest string) ([]appraise.Clue, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, err
	}
	return appraise.Basis(sc), nil
}

// pictureOf is a scene's picture.
func pictureOf(sc *scene.Scene, n int) (*scene.Picture, error) {
	if n < 0 || n >= len(sc.Pictures) {
		return nil, errorf(NotFound, "picture %d: there are %d", n, len(sc.Pictures))
	}
	if p := &sc.Pictures[n]; !p.Missing() {
		return p, nil
	}
	return nil, errorf(NotFound, "the picture %s was not found", sc.Pictures[n].Name)
}

// Picture is a picture of a scene, encoded.
func (s *Scenes) Picture(digest string, n int) (data []byte, mime, name string, err error) {
	sc, err := s.Get(digest)
	if err != nil {
		return nil, "", "", err
	}
	p, err := pictureOf(sc, n)
	if err != nil {
		return nil, "", "", err
	}
	return p.Data, p.MIME, p.Name, nil
}

// MeaningOf is what the numbers of a scene's picture are.
func (s *Scenes) MeaningOf(digest string, n int) (pixel.Meaning, error) {
	sc, err := s.Get(digest)
	if err != nil {
		return "", err
	}
	switch r := appraise.RoleOf(sc, n); {
	case r == scene.RoleNormal || r == scene.RoleClearcoatNormal:
		return pixel.Normal, nil
	case r == "" || r.Colour():
		return pixel.Colour, nil
	}
	return pixel.Plain, nil
}

// Appraisal says what a picture probably is, as JSON.
func (s *Scenes) Appraisal(digest string, n int) ([]byte, error) {
	return s.kept(fmt.Sprintf("appraisal 2 %d", n), digest, func(sc *scene.Scene) ([]byte, error) {
		p, err := pictureOf(sc, n)
		if err != nil {
			return nil, err
		}
		img, err := pixel.DecodePicture(p.Data, p.MIME)
		if err != nil {
			return nil, Unreadable(err)
		}
		return json.Marshal(appraise.Used(sc, n, pixel.ToNRGBA(img)))
	})
}

// uvSide is the side of a drawn UV set in pixels.
const uvSide = 640

// UV draws a UV set over the colour picture of its material, or over the first
// picture that uses the set.
func (s *Scenes) UV(digest string, mesh, part, set int) ([]byte, error) {
	return s.kept("uv 1 "+strconv.Itoa(mesh)+" "+strconv.Itoa(part)+" "+strconv.Itoa(set), digest, func(sc *scene.Scene) ([]byte, error) {
		if mesh < 0 || mesh >= len(sc.Meshes) || part < 0 || part >= len(sc.Meshes[mesh].Parts) || set < 0 || set >= len(sc.Meshes[mesh].Parts[part].UVs) {
			return nil, errorf(NotFound, "there is no UV set %d of part %d of mesh %d", set, part, mesh)
		}
		p := &sc.Meshes[mesh].Parts[part]
		var under *image.NRGBA
		if p.Material >= 0 {
			best := -1
			for _, t := range sc.Materials[p.Material].Textures {
				if t.UVSet == set && !sc.Pictures[t.Picture].Missing() && (best < 0 || t.Role == scene.RoleColour) {
					best = t.Picture
				}
			}
			if best >= 0 {
				if img, err := pixel.DecodePicture(sc.Pictures[best].Data, sc.Pictures[best].MIME); err == nil {
					under = pixel.ToNRGBA(img)
				}
			}
		}
		return pixel.PNG(appraise.DrawUVs(p, set, under, uvSide))
	})
}

// Compare measures one scene against another.
func (s *Scenes) Compare(a, b string, tolerance float64) (appraise.Comparison, error) {
	x, err := s.Get(a)
	if err != nil {
		return appraise.Comparison{}, err
	}
	y, err := s.Get(b)
	if err != nil {
		return appraise.Comparison{}, err
	}
	return appraise.Compare(x, y, tolerance), nil
}

// PictureDifference is where a picture of scene a differs from one of b.
func (s *Scenes) PictureDifference(a string, n int, b string, m int) ([]byte, error) {
	return s.kept(fmt.Sprintf("difference 1 %d %s %d", n, b, m), a, func(x *scene.Scene) ([]byte, error) {
		y, err := s.Get(b)
		if err != nil {
			return nil, err
		}
		var both [2]*image.NRGBA
		for i, k := range []struct {
			sc *scene.Scene
			n  int
		}{{x, n}, {y, m}} {
			p, err := pictureOf(k.sc, k.n)
			if err != nil {
				return nil, err
			}
			img, err := pixel.DecodePicture(p.Data, p.MIME)
			if err != nil {
				return nil, Unreadable(err)
			}
			both[i] = pixel.ToNRGBA(img)
		}
		return pixel.PNG(appraise.Difference(both[0], both[1]))
	})
}

// Distances is scene a as a GLB, coloured by its distance from b.
func (s *Scenes) Distances(a, b string, tolerance float64) ([]byte, error) {
	return s.kept(fmt.Sprintf("distances 1 %s %g", b, tolerance), a, func(x *scene.Scene) ([]byte, error) {
		y, err := s.Get(b)
		if err != nil {
			return nil, err
		}
		out, _, err := gltf.Write(appraise.Coloured(forView(x), forView(y), tolerance), gltf.Options{AsStands: true})
		return out, err
	})
}
