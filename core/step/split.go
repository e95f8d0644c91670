package step

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"excavate/core/limit"
	"excavate/core/piece"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// SplitParams says along what meshes come apart.
type SplitParams struct {
	Where
	By string `json:"by" jsonschema:"title=By,enum=material,enum=picture,enum=piece,enum=colour,enum=bone,enum=state,description=Parts with one material or one colour picture become a mesh each; or every loose piece; or the faces of one vertex colour; or those that hang most on one bone; or parts whose material's name ends in a state such as _broken, which is then said of their nodes too"`
}

var _ = register(Kind{Name: "split", Title: "Split", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Take meshes apart into one for each material, colour picture, loose piece, vertex colour, bone or state, each with a node of its own."},
	SplitParams{By: "material"}, split)

func split(ctx context.Context, s *scene.Scene, p SplitParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	held := expressed(s)
	out := *s
	out.Meshes = slices.Clone(s.Meshes)
	out.Nodes = nil
	to := make([]int, len(s.Nodes))
	apart := map[[2]int][]scene.Mesh{} // what a mesh becomes, with the skin where bones count
	added := map[[2]int]int{}          // the place of the first of these
	children := map[int][]int{}        // of nodes that came apart, by their old number
	var nodes, made, whole int
	for i, n := range s.Nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if n.Parent >= 0 {
			n.Parent = to[n.Parent]
		}
		to[i] = len(out.Nodes)
		if n.Mesh < 0 || !c.Nodes[i] {
			out.Nodes = append(out.Nodes, n)
			continue
		}
		key := [2]int{n.Mesh, scene.None}
		if p.By == "bone" {
			key[1] = n.Skin
		}
		pieces, seen := apart[key]
		if !seen {
			pieces = splitMesh(s, &s.Meshes[n.Mesh], n.Skin, p.By)
			apart[key] = pieces
		}
		if len(pieces) > 1 && held[i] {
			whole++
		}
		if len(pieces) < 2 || held[i] {
			out.Nodes = append(out.Nodes, n)
			continue
		}
		if len(out.Nodes)+len(pieces) > limit.Nodes {
			return nil, fmt.Errorf("it comes apart into more than %d nodes; choose fewer things, or drop small loose pieces first",
				limit.Nodes)
		}
		first, there := added[key]
		if !there {
			first = len(out.Meshes)
			added[key] = first
			out.Meshes = append(out.Meshes, pieces...)
		}
		nodes++
		made += len(pieces)
		skin := n.Skin
		n.Mesh, n.Skin = scene.None, scene.None
		out.Nodes = append(out.Nodes, n)
		for k := range pieces {
			x := scene.NewNode(pieces[k].Name)
			x.Parent, x.Mesh, x.Skin = to[i], first+k, skin
			if state := stateOf(s, &pieces[k].Parts[0]); p.By == "state" && state != "" {
				x.Props = []scene.Prop{{Key: "state", Value: state}}
			}
			children[i] = append(children[i], len(out.Nodes))
			out.Nodes = append(out.Nodes, x)
		}
	}
	if nodes == 0 {
		r.Nothing("no mesh comes apart by %s%s",
			p.By, ifAny(whole, ", but for %s", count(whole, "one that a face's expressions move", "that a face's expressions move")))
		return s, nil
	}
	r.Say("%s split into %d", count(nodes, "node", "nodes"), made)
	if whole > 0 {
		r.Say("%s whole: a face's expressions move them", count(whole, "stays", "stay"))
	}
	res := out.Renumbered(to)
	res.Motions = withChildren(s, res.Motions, to, children)
	return res.Sweep(s), nil
}

// withChildren gives the morph weights of nodes that came apart to what they
// came apart into. motions are numbered as the new nodes are.
func withChildren(s *scene.Scene, motions []scene.Motion, to []int, children map[int][]int) []scene.Motion {
	old := map[int]int{}
	for i := range children {
		old[to[i]] = i
	}
	out := slices.Clone(motions)
	for i := range out {
		var list []scene.Channel
		for _, c := range out[i].Channels {
			was, apart := old[c.Node]
			if !apart || c.Path != scene.PathWeights {
				list = append(list, c)
				continue
			}
			for _, child := range children[was] {
				c.Node = child
				list = append(list, c)
			}
		}
		out[i].Channels = list
	}
	return out
}

// expressed tells which nodes an avatar's expressions move by their morphs.
func expressed(s *scene.Scene) []bool {
	held := make([]bool, len(s.Nodes))
	if s.Avatar != nil {
		for _, e := range s.Avatar.Expressions {
			for _, m := range e.Morphs {
				held[m.Node] = true
			}
		}
	}
	return held
}

// splitMesh is the meshes that a mesh comes apart into, in the order of its
// faces.
func splitMesh(s *scene.Scene, m *scene.Mesh, skin int, by string) []scene.Mesh {
	if by == "colour" || by == "bone" {
		return splitFaces(s, m, skin, by)
	}
	if by == "piece" {
		var out []scene.Mesh
		for j := range m.Parts {
			p := &m.Parts[j]
			of, n := piece.Of(p)
			if len(p.Lines)+len(p.Points) > 0 { // they hang together with nothing
				of, n = make([]int32, len(of)), 1
			}
			if n <= 1 {
				out = append(out, scene.Mesh{Name: fmt.Sprintf("%s %d", m.Name, len(out)+1), Parts: []scene.Part{*p}})
				continue
			}
			for _, tri := range grouped(p.Triangles, of, n) {
				out = append(out, scene.Mesh{Name: fmt.Sprintf("%s %d", m.Name, len(out)+1), Parts: []scene.Part{compact(p, tri, nil, nil)}})
			}
		}
		return out
	}
	var out []scene.Mesh
	at := map[int]int{}
	for _, p := range m.Parts {
		key, name := p.Material, "no material"
		if p.Material >= 0 {
			name = s.Materials[p.Material].Name
			if by == "state" {
				if name = stateOf(s, &p); name == "" {
					name = "in every state"
				}
				key = slices.Index(stateWords, name)
			}
			if by == "picture" {
				key, name = scene.None, "no picture"
				if t := s.Materials[p.Material].Texture(scene.RoleColour); t != nil {
					key, name = t.Picture, s.Pictures[t.Picture].Name
					name = strings.TrimSuffix(name, path.Ext(name))
				}
			}
		}
		k, ok := at[key]
		if !ok {
			k = len(out)
			at[key] = k
			out = append(out, scene.Mesh{Name: strings.TrimSpace(m.Name + " " + name)})
		}
		out[k].Parts = append(out[k].Parts, p)
	}
	return out
}

// stateWords are the states that names of materials end in.
var stateWords = []string{"whole", "intact", "broken", "damaged", "destroyed", "ruined", "burnt", "cracked",
	"open", "opened", "closed", "shut", "lit", "unlit", "on", "off", "clean", "dirty", "dry", "wet", "full", "empty"}

// stateOf is the state that the name of a part's material ends in, set off
// from what it is called; empty where it says none.
func stateOf(s *scene.Scene, p *scene.Part) string {
	if p.Material < 0 {
		return ""
	}
	name := strings.ToLower(s.Materials[p.Material].Name)
	at := strings.LastIndexAny(name, "_-. ")
	if at < 1 || !slices.Contains(stateWords, name[at+1:]) {
		return ""
	}
	return name[at+1:]
}

// splitFaces takes a mesh apart by what its faces are: their vertex colour in
// the first set, or the bone on which they hang most.
func splitFaces(s *scene.Scene, m *scene.Mesh, skin int, by string) (out []scene.Mesh) {
	at := map[string]int{}
	for j := range m.Parts {
		p := &m.Parts[j]
		of := make([]int32, len(p.Triangles)/3) // the group of each face
		here := map[string]int32{}
		var names []string
		for t := range of {
			name := colourOf(p, p.Triangles[3*t:3*t+3])
			if by == "bone" {
				name = boneOf(s, skin, p, p.Triangles[3*t:3*t+3])
			}
			k, ok := here[name]
			if !ok {
				k = int32(len(names))
				here[name] = k
				names = append(names, name)
			}
			of[t] = k
		}
		if len(names) == 0 { // lines and points alone
			names, of = []string{"rest"}, nil
		}
		lists := grouped(p.Triangles, of, len(names))
		for k, name := range names {
			q := *p
			if len(names) > 1 {
				lines, points := p.Lines, p.Points
				if k > 0 {
					lines, points = nil, nil
				}
				q = compact(p, lists[k], lines, points)
			}
			n, ok := at[name]
			if !ok {
				n = len(out)
				at[name] = n
				out = append(out, scene.Mesh{Name: strings.TrimSpace(m.Name + " " + name)})
			}
			out[n].Parts = append(out[n].Parts, q)
		}
	}
	return out
}

// colourOf is the mean colour of a face's corners, in eight bits a channel as
// screens show it.
func colourOf(p *scene.Part, face []uint32) string {
	if len(p.Colours) == 0 {
		return "no colour"
	}
	var c [3]float64
	for _, v := range face {
		for k := range c {
			c[k] += float64(p.Colours[0].Data[4*v+uint32(k)]) / 3
		}
	}
	return fmt.Sprintf("#%02x%02x%02x", pixel.Stored(c[0]), pixel.Stored(c[1]), pixel.Stored(c[2]))
}

// boneOf is the bone that has most of the weight of a face's corners.
func boneOf(s *scene.Scene, skin int, p *scene.Part, face []uint32) string {
	if skin < 0 || p.Influences == 0 {
		return "no bone"
	}
	sum := map[uint16]float32{}
	best, most := uint16(0), float32(0)
	for _, v := range face {
		for k := range p.Influences {
			j, w := p.Joints[int(v)*p.Influences+k], p.Weights[int(v)*p.Influences+k]
			if sum[j] += w; sum[j] > most || sum[j] == most && j < best {
				best, most = j, sum[j]
			}
		}
	}
	if most == 0 {
		return "no bone"
	}
	return s.Nodes[s.Skins[skin].Joints[best]].Name
}

// grouped sorts triangles by their group, in one pass.
func grouped(triangles []uint32, of []int32, n int) [][]uint32 {
	size := make([]int, n)
	for _, k := range of {
		size[k] += 3
	}
	all := make([]uint32, len(triangles))
	out := make([][]uint32, n)
	at := 0
	for k := range out {
		out[k] = all[at : at : at+size[k]]
		at += size[k]
	}
	for t, k := range of {
		out[k] = append(out[k], triangles[3*t:3*t+3]...)
	}
	return out
}
