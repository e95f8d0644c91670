package step

import (
	"context"
	"fmt"
	"math"
	"path"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// BringInParams says what comes in and where it stands.
type BringInParams struct {
	From  string     `json:"from" jsonschema:"title=Asset,minLength=1,maxLength=4096,description=Its path in the search order or beside the chain's document; or chain: and the name of another chain for what that one ends with" jsonschema_extras:"chooser=model"`
	At    [3]float64 `json:"at" jsonschema:"title=At,description=x y z along this scene's axes" jsonschema_extras:"unit=m"`
	Turn  float64    `json:"turn" jsonschema:"title=Turn about up,minimum=-360,maximum=360,description=Counter-clockwise seen from above" jsonschema_extras:"unit=degrees"`
	Scale float64    `json:"scale" jsonschema:"title=Times,exclusiveMinimum=0,maximum=1e+06"`
	Name  string     `json:"name,omitempty" jsonschema:"title=Under a node named,maxLength=1000,description=Empty is the asset's name"`
}

// Validate refuses places that no numbers of a file hold.
func (p *BringInParams) Validate() error {
	for _, x := range p.At {
		if !(math.Abs(x) <= 1e9) {
			return fmt.Errorf("at is three numbers of metres, of a million kilometres at most")
		}
	}
	return nil
}

func (p *BringInParams) asks() []Ask { return []Ask{{Asset: p.From}} }

var _ = registerBeyond(Kind{Name: "bring-in", Title: "Bring in another asset", Family: Geometry, Version: 1,
	Purpose: "Place another asset in this one. It is turned into this one's axes and unit; equal meshes, materials and pictures become one."},
	BringInParams{Scale: 1}, bringIn)

func bringIn(ctx context.Context, s *scene.Scene, p BringInParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.From == "" {
		r.Nothing("no asset is named")
		return s, nil
	}
	o, err := other(ctx, b, p.From, s, r)
	if err != nil {
		return nil, err
	}
	if len(s.Nodes)+len(o.Nodes) >= limit.Nodes {
		return nil, fmt.Errorf("%d nodes and %d of %s are more than %d",
			len(s.Nodes), len(o.Nodes), p.From, limit.Nodes)
	}
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	n := scene.NewNode(first(p.Name, first(o.Name, strings.TrimSuffix(path.Base(p.From), path.Ext(p.From)))))
	turn := geom.IdentityQuat
	if p.Turn != 0 {
		if s.Basis.Up == 0 {
			return nil, errNoUp
		}
		turn = s.Basis.UpTurn(p.Turn)
	}
	n.Put(geom.Vec3(p.At).Mul(1/unit), turn, geom.Vec3{p.Scale, p.Scale, p.Scale})
	grown := *s
	grown.Nodes = append(slices.Clone(s.Nodes), n)
	shared := grown.Appended(o, len(s.Nodes))
	r.Say("%s brought in: %s, %s, %s",
		n.Name, count(len(o.Nodes), "node", "nodes"), count(o.Stats().Triangles, "triangle", "triangles"), count(len(o.Materials), "material", "materials"))
	if m := len(s.Materials) + len(o.Materials) - len(shared.Materials); m > 0 {
		r.Say("%s there already", count(m, "material was", "materials were"))
	}
	if m := len(s.Pictures) + len(o.Pictures) - len(shared.Pictures); m > 0 {
		r.Say("%s there already", count(m, "picture was", "pictures were"))
	}
	if o.Avatar != nil {
		r.Lose("what makes %s an avatar: expressions, springs and licence fields stay behind", n.Name)
	}
	if t := o.Terms; t.Owner != "" || t.Licence != "" {
		r.Say("whose it is: %s", strings.Trim(t.Owner+", "+t.Licence, ", "))
	}
	return shared, nil
}

// other is another asset in the axes and unit of the scene.
func other(ctx context.Context, b Beyond, from string, s *scene.Scene, r *Report) (*scene.Scene, error) {
	o, err := b.Asset(ctx, from)
	if err != nil {
		return nil, err
	}
	if o, err = toBasisOf(o, s.Basis, r); err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	return o, nil
}

// toBasisOf is another asset in a basis; what it does not declare is taken for
// what that one is.
func toBasisOf(o *scene.Scene, to geom.Basis, r *Report) (*scene.Scene, error) {
	if !to.Oriented() {
		if o.Basis.Oriented() {
			r.Say("this asset declares no axes: the other's numbers stay as they are")
		}
		return o, nil
	}
	full := *o
	full.Basis = o.Basis.Completed(to)
	if full.Basis != o.Basis {
		r.Say("what %s does not declare of its axes and unit is taken for this one's", o.Name)
	}
	if to.MetresPerUnit == 0 {
		to.MetresPerUnit = full.Basis.MetresPerUnit
	}
	return full.InBasis(to)
}
