package scene

import (
	"fmt"
	"slices"
	"strings"
)

// LevelOf is the level of detail that a name tells ("… lod 2", "house_LOD1"),
// and the name without it; 0 is the finest. ok tells whether it says one.
func LevelOf(name string) (base string, level int, ok bool) {
	i := len(name)
	for i > 0 && name[i-1] >= '0' && name[i-1] <= '9' {
		i--
	}
	k := i
	for k > 0 && (name[k-1] == ' ' || name[k-1] == '_') {
		k--
	}
	if i == len(name) || k < 3 || !strings.EqualFold(name[k-3:k], "lod") {
		return name, 0, false
	}
	for _, c := range name[i:] {
		if level < 100 {
			level = 10*level + int(c-'0')
		}
	}
	return strings.TrimRight(name[:k-3], " _-."), level, true
}

// DetailChoice is the name of the choice between levels of detail.
const DetailChoice = "level of detail"

// Levels is what a scene has in several levels of detail: nodes by level.
type Levels []map[int][]int

// Levels lists the things that the scene has in several levels of detail, and
// the coarsest of these levels.
func (s *Scene) Levels() (out Levels, most int) {
	at := map[string]int{}
	var all Levels
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		base, level, ok := LevelOf(s.Nodes[i].Name)
		if !ok {
			if b, l, there := LevelOf(s.Meshes[s.Nodes[i].Mesh].Name); there {
				base, level = b, l
			}
		}
		k, ok := at[base]
		if !ok {
			k = len(all)
			at[base] = k
			all = append(all, map[int][]int{})
		}
		all[k][level] = append(all[k][level], i)
	}
	for _, t := range all {
		if len(t) < 2 {
			continue
		}
		out = append(out, t)
		for l := range t {
			most = max(most, l)
		}
	}
	return out, most
}

// But lists the nodes of all levels but one, or where a thing does not have it
// the nearest finer one, in rising order.
func (t Levels) But(level int) (out []int) {
	for _, levels := range t {
		best, finest := -1, -1
		for l := range levels {
			if l <= level {
				best = max(best, l)
			}
			if finest < 0 || l < finest {
				finest = l
			}
		}
		if best < 0 {
			best = finest
		}
		for l, nodes := range levels {
			if l != best {
				out = append(out, nodes...)
			}
		}
	}
	slices.Sort(out)
	return out
}

// ChooseDetail leaves one level of detail of each thing that a scene has in
// several: the chosen one, or the nearest finer one. wanted is "all", "finest"
// or "level" and a number; what it does not know means all. The choice itself
// is added to the scene's, unless the file's own is there already.
func (s *Scene) ChooseDetail(wanted string) {
	things, most := s.Levels()
	if most == 0 || slices.ContainsFunc(s.Choices, func(c Choice) bool { return c.Name == DetailChoice }) {
		return
	}
	c := Choice{Name: DetailChoice, About: "the file has things in several levels of detail, 0 the finest", Options: []string{"all", "finest"}, Chosen: "all"}
	level := -1
	for l := 1; l <= min(most, 8); l++ {
		c.Options = append(c.Options, fmt.Sprintf("level %d", l))
	}
	for k, o := range c.Options {
		if o == wanted {
			c.Chosen, level = o, k-1
		}
	}
	s.Choices = append(s.Choices, c)
	if level < 0 {
		return
	}
	left := things.But(level)
	for _, n := range left {
		s.Nodes[n].Mesh, s.Nodes[n].Skin = None, None
	}
	s.Notes = append(s.Notes, Note{Text: fmt.Sprintf("%d meshes of other levels of detail are left out, as was chosen", len(left)), Loss: true})
	s.dropMeshes()
}

// dropMeshes takes out meshes that no node has.
func (s *Scene) dropMeshes() {
	to := make([]int, len(s.Meshes))
	for i := range to {
		to[i] = None
	}
	var kept []Mesh
	keep := func(m int) {
		if m >= 0 && to[m] == None {
			to[m] = len(kept)
			kept = append(kept, s.Meshes[m])
		}
	}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		keep(n.Mesh)
		n.Mesh = moved(n.Mesh, to)
		if n.Collider != nil {
			keep(n.Collider.Mesh)
			n.Collider = n.Collider.WithMesh(to)
		}
	}
	s.Meshes = kept
}
