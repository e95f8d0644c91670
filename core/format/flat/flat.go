// Package flat puts a scene into one space, as formats without a hierarchy
// want it: every part where its node has it, skinned ones in the rest pose.
package flat

import (
	"fmt"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Piece is one part in world space. UV and colour sets are those of the part.
type Piece struct {
	Name               string // of the node, or of its mesh
	Positions, Normals []float32
	Part               *scene.Part
	Triangles          []uint32 // wound counter-clockwise seen from the front, also where a node mirrors
}

// Pieces are the parts of every node that has a mesh.
func Pieces(s *scene.Scene) []Piece { return PiecesAbout(s, geom.Vec3{}) }

// PiecesAbout are the parts relative to a place, for formats whose numbers are
// finer than 32 bits.
func PiecesAbout(s *scene.Scene, at geom.Vec3) []Piece {
	var out []Piece
	world := s.World()
	if (at != geom.Vec3{}) {
		back := geom.TRS(at.Mul(-1), geom.IdentityQuat, geom.Vec3{1, 1, 1})
		for i := range world {
			world[i] = back.Mul(world[i])
		}
	}
	for i := range s.Nodes {
		out = append(out, Node(s, i, world)...)
	}
	return out
}

// Node is the parts of a node's mesh, where place has the node; skins take the
// places of their bones of it too.
func Node(s *scene.Scene, i int, place []geom.Mat4) []Piece {
	n := &s.Nodes[i]
	if n.Mesh < 0 {
		return nil
	}
	m := &s.Meshes[n.Mesh]
	name := n.Name
	if name == "" {
		name = m.Name
	}
	mirrored := n.Skin < 0 && place[i].Det3() < 0
	out := make([]Piece, len(m.Parts))
	for k := range m.Parts {
		p := &m.Parts[k]
		x := Piece{Name: name, Part: p, Triangles: p.Triangles}
		x.Positions, x.Normals = s.Posed(i, p, place)
		if mirrored {
			x.Triangles = make([]uint32, len(p.Triangles))
			for t := 0; t+2 < len(p.Triangles); t += 3 {
				x.Triangles[t], x.Triangles[t+1], x.Triangles[t+2] = p.Triangles[t], p.Triangles[t+2], p.Triangles[t+1]
			}
		}
		out[k] = x
	}
	return out
}

// Has says what a format can carry beside positions and triangles.
type Has struct {
	Format    string // as notes name it
	Names     bool
	Materials bool
	Pictures  bool
	Normals   bool
	UVs       int // sets
	Colours   int // sets
	Lines     bool
	Points    bool
	Cameras   bool
	Lights    bool

	VertexAlpha bool // of colour sets
	SetNames    bool // of UV and colour sets
	Tree        bool // nodes within nodes
	Instances   bool // meshes of several nodes
	Owner       bool // of the terms
	Licence     bool
	Text        bool
	Surface     Surface
}

// Lost are the notes on what a flat format does not carry of a scene, each
// with its count.
func Lost(s *scene.Scene, has Has) []scene.Note {
	var out []scene.Note
	beyond := func(n int, one, many, room string) {
		if n > 0 {
			out = append(out, scene.Note{Text: fmt.Sprintf("%s not written: %s has %s", format.Counted(n, one, many), has.Format, room), Loss: true})
		}
	}
	lose := func(n int, one, many string) { beyond(n, one, many, "none") }
	room := func(sets int) string {
		switch sets {
		case 0:
			return "none"
		case 1:
			return "room for one"
		}
		return fmt.Sprintf("room for %d", sets)
	}
	uvs, colours, morphs, tangents, skinned, normals, lines, points := 0, 0, 0, 0, 0, 0, 0, 0
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			uvs += max(0, len(p.UVs)-has.UVs)
			colours += max(0, len(p.Colours)-has.Colours)
			morphs += len(p.Morphs)
			if p.Tangents != nil {
				tangents++
			}
			if p.Joints != nil {
				skinned++
			}
			if !has.Lines {
				lines += len(p.Lines) / 2
			}
			if !has.Points {
				points += len(p.Points)
			}
			if p.Normals != nil && !has.Normals {
				normals++
			}
		}
	}
	beyond(uvs, "UV set", "UV sets", room(has.UVs))
	beyond(colours, "colour set", "colour sets", room(has.Colours))
	lose(normals, "part's normals", "parts' normals")
	lose(tangents, "part's tangents", "parts' tangents")
	lose(morphs, "morph target", "morph targets")
	lose(skinned, "part's joint weights", "parts' joint weights")
	lose(lines, "line", "lines")
	lose(points, "point", "points")
	lose(len(s.Skins), "skin", "skins")
	lose(len(s.Motions), "motion", "motions")
	if !has.Cameras {
		lose(len(s.Cameras), "camera", "cameras")
	}
	if !has.Lights {
		lose(len(s.Lights), "light", "lights")
	}
	if !has.Materials {
		lose(len(s.Materials), "material", "materials")
	}
	if !has.Pictures {
		lose(len(s.Pictures), "picture", "pictures")
	}
	if !has.Names {
		lose(len(s.Meshes), "mesh's name", "meshes' names")
	}
	if s.Avatar != nil {
		lose(1, "avatar's humanoid bones, expressions, springs, gaze and licence fields", "")
	}
	bones := 0
	for _, b := range s.Bones() {
		if b {
			bones++
		}
	}
	lose(bones, "bone", "bones")
	missing := 0
	for i := range s.Pictures {
		if has.Pictures && s.Pictures[i].Missing() {
			missing++
		}
	}
	if missing > 0 {
		out = append(out, scene.Note{Text: fmt.Sprintf("%s not in the file", format.Counted(missing, "picture that was not found is", "pictures that were not found are")), Loss: true})
	}
	alpha, called := 0, 0
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			for n, c := range p.Colours[:min(len(p.Colours), has.Colours)] {
				for v := 3; v < len(c.Data); v += 4 {
					if c.Data[v] != 1 {
						alpha++
						break
					}
				}
				if c.Name != "" && c.Name != "colour" && n < has.Colours {
					called++
				}
			}
			for n, u := range p.UVs {
				if u.Name != "" && u.Name != "uv" && n < has.UVs {
					called++
				}
			}
		}
	}
	if !has.VertexAlpha {
		lose(alpha, "colour set's alpha", "colour sets' alpha")
	}
	if !has.SetNames && called > 0 {
		out = append(out, scene.Note{Text: fmt.Sprintf("names of UV and colour sets not written: %s has none (%d)", has.Format, called), Loss: true})
	}
	if !has.Tree {
		out = append(out, LostHierarchy(s, has.Format)...)
	}
	if !has.Instances {
		out = append(out, LostOfInstances(s, has.Format)...)
	}
	out = append(out, LostOfTerms(s, has.Format, has.Owner, has.Licence, has.Text)...)
	if has.Materials {
		out = append(out, LostOfSurfaces(s, has.Format, has.Surface)...)
	}
	if s.Basis != (geom.Basis{}) {
		out = append(out, scene.Note{Text: fmt.Sprintf("%s declares no axes and no unit; its numbers are %s", has.Format, s.Basis)})
	}
	return out
}

// FileName is a name as file systems hold it.
func FileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if r < 0x20 || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, strings.TrimSpace(name))
	if name == "" || name == "." || name == ".." {
		return "model"
	}
	return name[:min(len(name), 120)]
}

// PictureNames are file names for a scene's pictures, no two the same.
func PictureNames(s *scene.Scene) []string {
	out, taken, numbers := make([]string, len(s.Pictures)), map[string]bool{}, distinct.Numbers{}
	for i := range out {
		p := &s.Pictures[i]
		name, ending := FileName(p.Name), ".png"
		if at := strings.LastIndexByte(name, '.'); at > 0 {
			name = name[:at]
		}
		if p.MIME == "image/jpeg" {
			ending = ".jpg"
		}
		out[i] = name + ending
		if taken[strings.ToLower(out[i])] {
			numbers.Next(strings.ToLower(out[i]), func(k int) bool {
				out[i] = fmt.Sprintf("%s %d%s", name, k, ending)
				return !taken[strings.ToLower(out[i])]
			})
		}
		taken[strings.ToLower(out[i])] = true
	}
	return out
}
