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

// losses gathers notes on what a format does not carry.
type losses struct {
	has   Has
	notes []scene.Note
}

func (l *losses) say(f string, a ...any) {
	l.notes = append(l.notes, scene.Note{Text: fmt.Sprintf(f, a...), Loss: true})
}

// beyond says that n things go beyond the room that there is for them.
func (l *losses) beyond(n int, one, many string, sets int) {
	if n == 0 {
		return
	}
	room := "none"
	switch {
	case sets == 1:
		room = "room for one"
	case sets > 1:
		room = fmt.Sprintf("room for %d", sets)
	}
	l.say("%s not written: %s has %s", format.Counted(n, one, many), l.has.Format, room)
}

// lack says that the format has nothing of a kind, unless it has.
func (l *losses) lack(has bool, n int, one, many string) {
	if !has {
		l.beyond(n, one, many, 0)
	}
}

// Lost are the notes on what a flat format does not carry of a scene, each
// with its count.
func Lost(s *scene.Scene, has Has) []scene.Note {
	l := &losses{has: has}
	l.ofParts(s)
	l.lack(false, len(s.Skins), "skin", "skins")
	l.lack(false, len(s.Motions), "motion", "motions")
	l.lack(has.Cameras, len(s.Cameras), "camera", "cameras")
	l.lack(has.Lights, len(s.Lights), "light", "lights")
	l.lack(has.Materials, len(s.Materials), "material", "materials")
	l.lack(has.Pictures, len(s.Pictures), "picture", "pictures")
	l.lack(has.Names, len(s.Meshes), "mesh's name", "meshes' names")
	l.lack(s.Avatar == nil, 1, "avatar's humanoid bones, expressions, springs, gaze and licence fields", "")
	l.lack(false, trues(s.Bones()), "bone", "bones")
	if has.Pictures {
		missing := 0
		for i := range s.Pictures {
			if s.Pictures[i].Missing() {
				missing++
			}
		}
		if missing > 0 {
			l.say("%s not in the file",
				format.Counted(missing, "picture that was not found is", "pictures that were not found are"))
		}
	}
	l.ofSets(s)
	if !has.Tree {
		l.notes = append(l.notes, LostHierarchy(s, has.Format)...)
	}
	if !has.Instances {
		l.notes = append(l.notes, LostOfInstances(s, has.Format)...)
	}
	l.notes = append(l.notes, LostOfTerms(s, has.Format, has.Owner, has.Licence, has.Text)...)
	if has.Materials {
		l.notes = append(l.notes, LostOfSurfaces(s, has.Format, has.Surface)...)
	}
	if s.Basis != (geom.Basis{}) {
		text := fmt.Sprintf("%s declares no axes and no unit; its numbers are %s", has.Format, s.Basis)
		l.notes = append(l.notes, scene.Note{Text: text})
	}
	return l.notes
}

func trues(list []bool) (n int) {
	for _, b := range list {
		if b {
			n++
		}
	}
	return n
}

// ofParts counts what vertices have and what else than triangles is drawn.
func (l *losses) ofParts(s *scene.Scene) {
	uvs, colours, morphs, tangents, skinned, normals, lines, points := 0, 0, 0, 0, 0, 0, 0, 0
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			uvs += max(0, len(p.UVs)-l.has.UVs)
			colours += max(0, len(p.Colours)-l.has.Colours)
			morphs += len(p.Morphs)
			tangents += btoi(p.Tangents != nil)
			skinned += btoi(p.Joints != nil)
			normals += btoi(p.Normals != nil)
			lines += len(p.Lines) / 2
			points += len(p.Points)
		}
	}
	l.beyond(uvs, "UV set", "UV sets", l.has.UVs)
	l.beyond(colours, "colour set", "colour sets", l.has.Colours)
	l.lack(l.has.Normals, normals, "part's normals", "parts' normals")
	l.lack(false, tangents, "part's tangents", "parts' tangents")
	l.lack(false, morphs, "morph target", "morph targets")
	l.lack(false, skinned, "part's joint weights", "parts' joint weights")
	l.lack(l.has.Lines, lines, "line", "lines")
	l.lack(l.has.Points, points, "point", "points")
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// ofSets counts what the sets that are written have beyond their numbers: alpha
// that is not 1, and names other than the usual.
func (l *losses) ofSets(s *scene.Scene) {
	alpha, called := 0, 0
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			for _, c := range p.Colours[:min(len(p.Colours), l.has.Colours)] {
				for v := 3; v < len(c.Data); v += 4 {
					if c.Data[v] != 1 {
						alpha++
						break
					}
				}
				called += btoi(c.Name != "" && c.Name != "colour")
			}
			for _, u := range p.UVs[:min(len(p.UVs), l.has.UVs)] {
				called += btoi(u.Name != "" && u.Name != "uv")
			}
		}
	}
	l.lack(l.has.VertexAlpha, alpha, "colour set's alpha", "colour sets' alpha")
	if !l.has.SetNames && called > 0 {
		l.say("names of UV and colour sets not written: %s has none (%d)", l.has.Format, called)
	}
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
