package scene

import "slices"

// KeepNodes returns the scene with only the nodes that keep names. A node
// that is kept must have its parent kept. dropped are the nodes whose motion
// channels went with them. Joints are always kept by callers.
func (s *Scene) KeepNodes(keep []bool) (out *Scene, dropped []int) {
	o := *s
	at := make([]int, len(s.Nodes))
	o.Nodes = nil
	for i := range s.Nodes {
		at[i] = None
		if !keep[i] {
			continue
		}
		at[i] = len(o.Nodes)
		n := s.Nodes[i]
		if n.Parent >= 0 {
			n.Parent = at[n.Parent]
		}
		o.Nodes = append(o.Nodes, n)
	}
	o.Skins = slices.Clone(s.Skins)
	for i := range o.Skins {
		j := slices.Clone(o.Skins[i].Joints)
		for k := range j {
			j[k] = at[j[k]]
		}
		o.Skins[i].Joints = j
		if r := o.Skins[i].Root; r >= 0 {
			o.Skins[i].Root = at[r]
		}
	}
	lost := map[int]bool{}
	o.Motions = nil
	for _, m := range s.Motions {
		var ch []Channel
		for _, c := range m.Channels {
			if at[c.Node] < 0 {
				if !lost[c.Node] {
					lost[c.Node] = true
					dropped = append(dropped, c.Node)
				}
				continue
			}
			c.Node = at[c.Node]
			ch = append(ch, c)
		}
		if len(ch) > 0 || len(m.Channels) == 0 {
			m.Channels = ch
			o.Motions = append(o.Motions, m)
		}
	}
	o.Avatar = s.Avatar.moved(at)
	// Cameras and lights that no node holds any more.
	o.Cameras = nil
	o.Lights = nil
	for i := range o.Nodes {
		n := &o.Nodes[i]
		if n.Camera >= 0 {
			o.Cameras = append(o.Cameras, s.Cameras[n.Camera])
			n.Camera = len(o.Cameras) - 1
		}
		if n.Light >= 0 {
			o.Lights = append(o.Lights, s.Lights[n.Light])
			n.Light = len(o.Lights) - 1
		}
	}
	return &o, dropped
}

// Renumbered is the scene whose nodes have been given other places in the
// list already: to tells where each one is now. What names nodes by number
// follows.
func (s *Scene) Renumbered(to []int) *Scene {
	out := *s
	same := true
	for i, t := range to {
		same = same && i == t
	}
	if same {
		return &out
	}
	out.Skins = slices.Clone(s.Skins)
	for i := range out.Skins {
		j := slices.Clone(out.Skins[i].Joints)
		for k := range j {
			j[k] = to[j[k]]
		}
		out.Skins[i].Joints = j
		if r := out.Skins[i].Root; r >= 0 {
			out.Skins[i].Root = to[r]
		}
	}
	out.Motions = slices.Clone(s.Motions)
	for i := range out.Motions {
		c := slices.Clone(out.Motions[i].Channels)
		for k := range c {
			c[k].Node = to[c[k].Node]
		}
		out.Motions[i].Channels = c
	}
	out.Avatar = s.Avatar.moved(to)
	return &out
}

// WithNodesAt is the scene whose avatar names nodes by other numbers: at tells
// where each is now, None where it is gone.
func (s *Scene) WithNodesAt(at []int) *Scene {
	out := *s
	out.Avatar = s.Avatar.moved(at)
	return &out
}
