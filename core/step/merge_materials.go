package step

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"slices"
	"strings"

	"excavate/core/scene"
)

// MergeMaterialsParams says which materials count as the same.
type MergeMaterialsParams struct {
	Names bool `json:"names" jsonschema:"title=Only of one name,description=Names count as the same without the number that a second import puts at their end"`
	Plain bool `json:"plain" jsonschema:"title=Plain ones too,description=Off: materials without a picture stay apart unless they have one name: it may be all that tells what they are"`
}

var _ = register(Kind{Name: "merge-materials", Title: "Merge equal materials", Family: Material, Version: 1,
	Purpose: "Make one of materials that are equal in all but their name, and of pictures that are equal by content."},
	MergeMaterialsParams{Plain: true}, mergeMaterials)

func mergeMaterials(_ context.Context, s *scene.Scene, p MergeMaterialsParams, r *Report) (*scene.Scene, error) {
	pictures, toPicture := distinctPictures(s)
	list := slices.Clone(s.Materials)
	for i := range list {
		t := slices.Clone(list[i].Textures)
		for j := range t {
			t[j].Picture = toPicture[t[j].Picture]
		}
		list[i].Textures = t
	}
	to := make([]int, len(list))
	first := map[string]int{}
	var left []scene.Material
	var gone []string
	for i := range list {
		m := list[i]
		name := m.Name
		m.Name = ""
		if p.Names || !p.Plain && len(m.Textures) == 0 {
			m.Name = baseName(name)
		}
		text, err := json.Marshal(m)
		if err != nil {
			return nil, err
		}
		k, ok := first[string(text)]
		if !ok {
			k = len(left)
			first[string(text)] = k
			left = append(left, list[i])
		} else if name != left[k].Name {
			gone = append(gone, name)
		}
		to[i] = k
	}
	if len(left) == len(s.Materials) && len(pictures) == len(s.Pictures) {
		r.Nothing("no two materials or pictures are equal")
		return s, nil
	}
	out := s.Remap(left, to)
	out.Pictures = pictures
	if a := out.Avatar; a != nil && a.Meta.ThumbnailOfPicture >= 0 {
		c := *a
		c.Meta.ThumbnailOfPicture = toPicture[a.Meta.ThumbnailOfPicture]
		out.Avatar = &c
	}
	out.Meshes = joinedParts(out.Meshes)
	if len(left) != len(s.Materials) {
		r.Say("materials %d → %d", len(s.Materials), len(left))
	}
	if len(pictures) != len(s.Pictures) {
		r.Say("pictures %d → %d", len(s.Pictures), len(pictures))
	}
	if len(gone) > 0 {
		r.Say("names that are gone: %s", named(gone))
	}
	return out, nil
}

// joinedParts makes one part of those of a mesh that have one material now and
// the same kinds of attributes.
func joinedParts(meshes []scene.Mesh) []scene.Mesh {
	out := slices.Clone(meshes)
	for i := range out {
		var parts []scene.Part
		for _, p := range out[i].Parts {
			k := slices.IndexFunc(parts, func(q scene.Part) bool { return slices.Equal(q.Looks(), p.Looks()) && alike(&q, &p) })
			if k < 0 {
				parts = append(parts, owned(p))
				continue
			}
			appendPart(&parts[k], &p)
		}
		if len(parts) < len(out[i].Parts) {
			out[i].Parts = parts
		}
	}
	return out
}

// alike tells whether two parts can become one without anything being filled.
func alike(a, b *scene.Part) bool {
	names := func(s []scene.AttrSet) string {
		var n []string
		for i := range s {
			n = append(n, s[i].Name)
		}
		return strings.Join(n, "\x00")
	}
	return a.Influences == 0 && b.Influences == 0 && len(a.Morphs)+len(b.Morphs) == 0 && (a.Normals == nil) == (b.Normals == nil) &&
		(a.Tangents == nil) == (b.Tangents == nil) && names(a.UVs) == names(b.UVs) && names(a.Colours) == names(b.Colours)
}

// distinctPictures is the list without those whose content stands in it
// already; missing ones are the same if they are asked for by the same words.
func distinctPictures(s *scene.Scene) (list []scene.Picture, to []int) {
	to = make([]int, len(s.Pictures))
	first := map[[32]byte]int{}
	for i := range s.Pictures {
		p := &s.Pictures[i]
		d := sha256.Sum256(p.Data)
		if p.Missing() {
			d = sha256.Sum256([]byte("missing\x00" + p.Ref + "\x00" + p.Name))
		}
		k, ok := first[d]
		if !ok {
			k = len(list)
			first[d] = k
			list = append(list, *p)
		}
		to[i] = k
	}
	return list, to
}
