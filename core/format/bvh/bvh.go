// Package bvh reads and writes Biovision hierarchical motion: a skeleton and
// one motion of it, in text. There is no standard; the words and their meaning
// are those of Meredith and Maddock, "Motion Capture File Formats Explained",
// University of Sheffield, 2001.
package bvh

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Format is the reader for the registry.
func Format() format.Reader {
	return format.Reader{Name: "bvh", Title: "Biovision motion (BVH)", Read: Read, Probe: func(head []byte) bool {
		return bytes.HasPrefix(bytes.TrimLeft(format.UTF8(head), " \t\r\n"), []byte("HIERARCHY"))
	}}
}

// What a channel moves.
const (
	xPosition = iota
	yPosition
	zPosition
	xRotation
	yRotation
	zRotation
)

var channelNames = map[string]int{"xposition": xPosition, "yposition": yPosition, "zposition": zPosition, "xrotation": xRotation, "yrotation": yRotation, "zrotation": zRotation}

type joint struct {
	node     int
	channels []int
	offset   [3]float32
}

type parser struct {
	b      []byte
	line   int
	s      *scene.Scene
	joints []joint
	width  int // numbers of a frame
	ends   int // last bones whose length is told
}

func (p *parser) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", p.line), msg, a...)
}

// word is the next word; empty at the end.
func (p *parser) word() string {
	for len(p.b) > 0 && p.b[0] <= ' ' {
		if p.b[0] == '\n' {
			p.line++
		}
		p.b = p.b[1:]
	}
	i := 0
	for i < len(p.b) && p.b[i] > ' ' {
		i++
	}
	w := string(p.b[:i])
	p.b = p.b[i:]
	return w
}

// rest is the rest of the line: a name may hold blanks.
func (p *parser) rest() string {
	i := bytes.IndexByte(p.b, '\n')
	if i < 0 {
		i = len(p.b)
	}
	if k := bytes.IndexByte(p.b[:i], '{'); k >= 0 { // some put the brace on the same line
		i = k
	}
	w := string(p.b[:i])
	p.b = p.b[i:]
	return strings.TrimSpace(w)
}

func (p *parser) number() (float32, error) {
	w := p.word()
	v, rest, ok := format.Float([]byte(w))
	f, finite := format.Finite32(v)
	if !ok || !finite || len(rest) > 0 {
		return 0, p.errorf("%.40q is no finite number", w)
	}
	return f, nil
}

// Read decodes a file. It declares no axes and no unit.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	data, commas := format.DecimalCommas(format.UTF8(f.Data), true, "OFFSET", "Frame", "Time:")
	p := &parser{b: data, line: 1}
	name := f.Name[strings.LastIndexAny(f.Name, "/\\")+1:]
	p.s = &scene.Scene{Name: strings.TrimSuffix(name, ".bvh")}
	if commas > 0 {
		p.s.Notes = append(p.s.Notes, scene.Note{Text: format.CommasNote})
	}
	if p.word() != "HIERARCHY" {
		return nil, p.errorf("the file does not begin with HIERARCHY")
	}
	for {
		switch w := p.word(); w {
		case "ROOT":
			if err := p.joint(p.rest(), scene.None, 0); err != nil {
				return nil, err
			}
		case "MOTION":
			if err := p.motion(ctx); err != nil {
				return nil, err
			}
			return p.finish()
		case "":
			if len(p.s.Nodes) == 0 {
				return nil, p.errorf("there is no ROOT")
			}
			p.s.Notes = append(p.s.Notes, scene.Note{Text: "the file has a skeleton and no motion"})
			return p.finish()
		default:
			return nil, p.errorf("%.40q stands where ROOT or MOTION is due", w)
		}
	}
}

func (p *parser) finish() (*scene.Scene, error) {
	if p.ends > 0 {
		p.s.Notes = append(p.s.Notes, scene.Note{Text: fmt.Sprintf("where %s (End Site) is not kept: it is no bone", format.Counted(p.ends, "last bone ends", "last bones end")), Loss: true})
	}
	skin := scene.Skin{Name: p.s.Name, Root: 0}
	for i := range p.s.Nodes {
		skin.Joints = append(skin.Joints, i)
	}
	// The bind pose is the one without rotations.
	world := p.s.World()
	for _, j := range skin.Joints {
		inv, ok := world[j].Inverse()
		if !ok {
			inv = geom.Identity
		}
		for _, v := range inv {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	p.s.Skins = []scene.Skin{skin}
	if err := p.s.Validate(); err != nil {
		return nil, format.Errorf("", "the file makes no sound skeleton: %v", err)
	}
	return p.s, nil
}

func (p *parser) joint(name string, parent, depth int) error {
	if depth > 512 || len(p.s.Nodes) >= math.MaxUint16 {
		return p.errorf("more than 512 joints within each other, or more than %d", math.MaxUint16)
	}
	n := scene.NewNode(name)
	n.Parent = parent
	j := joint{node: len(p.s.Nodes)}
	at := len(p.joints)
	p.s.Nodes = append(p.s.Nodes, n)
	p.joints = append(p.joints, j)
	if w := p.word(); w != "{" {
		return p.errorf("%.40q stands where { is due", w)
	}
	for {
		switch w := p.word(); w {
		case "OFFSET":
			for k := range 3 {
				v, err := p.number()
				if err != nil {
					return err
				}
				p.joints[at].offset[k] = v
			}
			p.s.Nodes[j.node].Translation = p.joints[at].offset
		case "CHANNELS":
			w := p.word()
			n, err := strconv.Atoi(w)
			if err != nil || n < 0 || n > 6 {
				return p.errorf("%.40q channels; there are 0 to 6", w)
			}
			for range n {
				w := p.word()
				c, ok := channelNames[strings.ToLower(w)]
				if !ok {
					return p.errorf("%.40q is no channel", w)
				}
				p.joints[at].channels = append(p.joints[at].channels, c)
				p.width++
			}
		case "JOINT":
			if err := p.joint(p.rest(), j.node, depth+1); err != nil {
				return err
			}
		case "End":
			if err := p.endSite(); err != nil {
				return err
			}
		case "}":
			return nil
		case "":
			return p.errorf("the file ends within joint %q: it is cut off", p.s.Nodes[j.node].Name)
		default:
			return p.errorf("%.40q stands where OFFSET, CHANNELS, JOINT, End Site or } is due", w)
		}
	}
}

// endSite passes over where a last bone ends: that is a length, not a bone.
func (p *parser) endSite() error {
	p.rest()
	if w := p.word(); w != "{" {
		return p.errorf("%.40q stands where { is due", w)
	}
	var v [3]float32
	for {
		switch w := p.word(); w {
		case "OFFSET":
			for k := range v {
				var err error
				if v[k], err = p.number(); err != nil {
					return err
				}
			}
		case "}":
			if v != [3]float32{} {
				p.ends++
			}
			return nil
		default:
			return p.errorf("%.40q stands where OFFSET or } of an End Site is due", w)
		}
	}
}

func (p *parser) motion(ctx context.Context) error {
	expect := func(words ...string) error {
		for _, want := range words {
			if w := p.word(); w != want {
				return p.errorf("%.40q stands where %q is due", w, want)
			}
		}
		return nil
	}
	if err := expect("Frames:"); err != nil {
		return err
	}
	w := p.word()
	frames, err := strconv.Atoi(w)
	// A number takes at least a digit and a blank.
	if err != nil || frames < 0 || p.width > 0 && frames > len(p.b)/2/p.width+1 || frames > limit.Records {
		return p.errorf("%.40q frames of %d numbers, and %d bytes are left", w, p.width, len(p.b))
	}
	if err := expect("Frame", "Time:"); err != nil {
		return err
	}
	step, err := p.number()
	if err != nil {
		return err
	}
	if step <= 0 {
		return p.errorf("a frame of %g seconds", step)
	}
	times := make([]float32, frames)
	for i := range times {
		times[i] = float32(float64(i) * float64(step))
	}
	m := scene.Motion{Name: p.s.Name}
	type track struct{ t, r []float32 }
	tracks := make([]track, len(p.joints))
	for k, j := range p.joints {
		moves, turns := false, false
		for _, c := range j.channels {
			moves, turns = moves || c <= zPosition, turns || c > zPosition
		}
		if moves {
			tracks[k].t = make([]float32, 0, 3*frames)
		}
		if turns {
			tracks[k].r = make([]float32, 0, 4*frames)
		}
	}
	axes := [3]geom.Vec3{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}
	for i := range frames {
		if i%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		for k := range p.joints {
			j := &p.joints[k]
			at, q := j.offset, geom.IdentityQuat
			for _, c := range j.channels {
				v, err := p.number()
				if err != nil {
					return fmt.Errorf("frame %d of %d: %w", i, frames, err)
				}
				if c <= zPosition {
					at[c] += v
				} else {
					q = q.Mul(geom.AxisAngle(axes[c-xRotation], float64(v)*math.Pi/180))
				}
			}
			if tracks[k].t != nil {
				tracks[k].t = append(tracks[k].t, at[:]...)
			}
			if r := tracks[k].r; r != nil {
				// The quaternion nearest to the last one, so that in between the short way is taken.
				if n := len(r); n >= 4 && float64(r[n-4])*q[0]+float64(r[n-3])*q[1]+float64(r[n-2])*q[2]+float64(r[n-1])*q[3] < 0 {
					q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
				}
				tracks[k].r = append(r, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
			}
		}
	}
	if w := p.word(); w != "" {
		p.s.Notes = append(p.s.Notes, scene.Note{Text: fmt.Sprintf("what follows the %d frames was left out", frames), Loss: true})
	}
	for k, j := range p.joints {
		if tracks[k].t != nil {
			m.Channels = append(m.Channels, scene.Channel{Node: j.node, Path: scene.PathTranslation, Interp: scene.Linear, Times: times, Values: tracks[k].t})
		}
		if tracks[k].r != nil {
			m.Channels = append(m.Channels, scene.Channel{Node: j.node, Path: scene.PathRotation, Interp: scene.Linear, Times: times, Values: tracks[k].r})
		}
	}
	if frames > 0 {
		p.s.Motions = []scene.Motion{m}
	}
	return nil
}
