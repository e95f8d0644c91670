// Package scene is the neutral form that every reader produces, every step
// maps to a new one, and every writer takes: nodes, meshes of parts,
// materials, pictures, skins, motions and the basis that gives the numbers
// their meaning.
//
// A scene that has been handed on is never modified. A step copies the slices
// that it changes and shares the rest; Validate states the invariants.
package scene

import (
	"math"
	"slices"

	"excavate/core/geom"
)

// Scene is one decoded asset.
type Scene struct {
	Name      string     `json:"name"`
	Basis     geom.Basis `json:"basis"`
	Nodes     []Node     `json:"nodes"` // parents stand before their children
	Meshes    []Mesh     `json:"meshes"`
	Materials []Material `json:"materials"`
	Pictures  []Picture  `json:"pictures"`
	Skins     []Skin     `json:"skins"`
	Motions   []Motion   `json:"motions"`
	Cameras   []Camera   `json:"cameras"`
	Lights    []Light    `json:"lights"`
	Notes     []Note     `json:"notes"`
	Terms     Terms      `json:"terms"`
	Avatar    *Avatar    `json:"avatar,omitempty"`  // what makes the scene a person's avatar, where it is one
	Choices   []Choice   `json:"choices,omitempty"` // what the file left to whoever reads it
	// Variants are other looks of the asset by their names: each part says which
	// material it has in which (KHR_materials_variants).
	Variants []string `json:"variants,omitempty"`
}

// Choice is a reading of the file that could have been another: which of a
// product's variants, which scene.
type Choice struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Options []string `json:"options"` // the first is meant unless another is chosen
	Chosen  string   `json:"chosen"`
}

// Terms says whose the asset is and what may be done with it, as far as the
// file itself tells.
type Terms struct {
	Owner   string `json:"owner,omitempty"`
	Licence string `json:"licence,omitempty"`
	Text    string `json:"text,omitempty"`
}

// None marks an index that points at nothing.
const None = -1

// Node is a place in the tree. Its transform is translation * rotation *
// scale, relative to its parent. A camera or light looks along minus the
// basis' front axis with the basis' up axis upwards, as in glTF 2.0 section
// 3.10.
type Node struct {
	Name        string     `json:"name"`
	Parent      int        `json:"parent"`
	Translation [3]float32 `json:"t"`
	Rotation    [4]float32 `json:"r"` // quaternion x, y, z, w
	Scale       [3]float32 `json:"s"`
	Mesh        int        `json:"mesh"`
	Skin        int        `json:"skin"`
	Camera      int        `json:"camera"`
	Light       int        `json:"light"`
	Collider    *Collider  `json:"collider,omitempty"`
	// Props are the source's own words about the node: its class, state, tags.
	Props []Prop `json:"props,omitempty"`
}

// Prop is a key and what the source says of it.
type Prop struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// Prop returns the first value of a key.
func (n *Node) Prop(key string) (string, bool) {
	for _, p := range n.Props {
		if p.Key == key {
			return p.Value, true
		}
	}
	return "", false
}

// NewNode is a root node that does nothing.
func NewNode(name string) Node {
	return Node{Name: name, Parent: None, Rotation: [4]float32{0, 0, 0, 1}, Scale: [3]float32{1, 1, 1},
		Mesh: None, Skin: None, Camera: None, Light: None}
}

// Local is the node's transform relative to its parent.
func (n *Node) Local() geom.Mat4 {
	return geom.TRS(vec3(n.Translation), geom.Quat{float64(n.Rotation[0]), float64(n.Rotation[1]), float64(n.Rotation[2]), float64(n.Rotation[3])}, vec3(n.Scale))
}

// Put sets the node's translation, rotation and scale.
func (n *Node) Put(t geom.Vec3, q geom.Quat, s geom.Vec3) {
	for i := range 3 {
		n.Translation[i], n.Scale[i] = float32(t[i]), float32(s[i])
	}
	for i := range q {
		n.Rotation[i] = float32(q[i])
	}
}

// Place gives the node a transform. One that shears is more than a translation,
// a rotation and a scale can say: then above is a node to stand between this
// one and its parent, and both together are the transform.
func (n *Node) Place(m geom.Mat4) (above *Node) {
	t, q, s, exact := m.Decompose()
	if exact {
		n.Put(t, q, s)
		return nil
	}
	x := NewNode("shear")
	if n.Name != "" {
		x.Name = n.Name + " shear"
	}
	x.Parent = n.Parent
	t, u, s, v := m.Factor()
	x.Put(t, u, s)
	n.Put(geom.Vec3{}, v, geom.Vec3{1, 1, 1})
	return &x
}

func vec3(a [3]float32) geom.Vec3 {
	return geom.Vec3{float64(a[0]), float64(a[1]), float64(a[2])}
}

// Mesh is a list of parts, one for each material.
type Mesh struct {
	Name   string  `json:"name"`
	Parts  []Part  `json:"parts"`
	Volume *Volume `json:"volume,omitempty"` // of which the parts are the surfaces
}

// Part is a triangle list with its vertex attributes; it may hold lines and
// points over the same vertices, which only some formats and no target know. With n vertices the
// flat slices hold: Positions and Normals 3n, Tangents 4n (x, y, z, sign),
// each UV set 2n, each colour set 4n (linear RGBA), Joints and Weights
// Influences*n. Nil means that the file has none.
type Part struct {
	Material   int           `json:"material"`
	Influences int           `json:"influences"` // joints per vertex
	Positions  []float32     `json:"-"`
	Normals    []float32     `json:"-"`
	Tangents   []float32     `json:"-"`
	Joints     []uint16      `json:"-"` // index into the skin's joints
	Weights    []float32     `json:"-"`
	Triangles  []uint32      `json:"-"` // three vertex indices each, wound counter-clockwise seen from the front
	Lines      []uint32      `json:"-"` // two vertex indices each
	Points     []uint32      `json:"-"` // a vertex index each
	UVs        []AttrSet     `json:"uvs"`
	Colours    []AttrSet     `json:"colours"`
	Morphs     []MorphTarget `json:"morphs"`

	// NormalsMade says that the file had no normals: these were computed.
	NormalsMade bool `json:"normalsMade,omitempty"`

	// Variants holds a material for each of the scene's variants, None where the
	// part looks as ever; of those beyond its end it does.
	Variants []int `json:"variants,omitempty"`

	// Quads is how triangles pair to faces of four corners in formats that have
	// them; nil is not at all.
	Quads *Quads `json:"quads,omitempty"`
}

// Quads says which two triangles become one face.
type Quads struct {
	Bend float32 `json:"bend"` // degrees between the two, at most
	Skew float32 `json:"skew"` // degrees that a corner of the face is off a right angle, at most
}

// Looks are the materials that the part has: the one that is shown, then those
// of variants. None may stand among them.
func (p *Part) Looks() []int { return append([]int{p.Material}, p.Variants...) }

// WithLooks is the part with other materials in all its looks.
func (p Part) WithLooks(to func(material int) int) Part {
	p.Material = to(p.Material)
	p.Variants = slices.Clone(p.Variants)
	for i, m := range p.Variants {
		p.Variants[i] = to(m)
	}
	return p
}

// Empty tells whether the part shows nothing.
func (p *Part) Empty() bool {
	return p.Vertices() == 0 || len(p.Triangles)+len(p.Lines)+len(p.Points) == 0
}

// Vertices is the number of vertices.
func (p *Part) Vertices() int { return len(p.Positions) / 3 }

// AttrSet is a named UV or colour set.
type AttrSet struct {
	Name string    `json:"name"`
	Data []float32 `json:"-"`
	Made bool      `json:"made,omitempty"` // the file had none: this one was computed
}

// MorphTarget holds offsets from the rest shape, 3 per vertex; nil is none.
type MorphTarget struct {
	Name      string    `json:"name"`
	Weight    float32   `json:"weight"`
	Positions []float32 `json:"-"`
	Normals   []float32 `json:"-"`
	Tangents  []float32 `json:"-"`
}

// AlphaMode says what a material's alpha does, as in glTF 2.0 section 3.9.4.
type AlphaMode string

// The alpha modes.
const (
	Opaque AlphaMode = "opaque"
	Cutout AlphaMode = "cutout"
	Blend  AlphaMode = "blend"
)

// Material is the metallic-roughness model of glTF 2.0 section 3.9.
type Material struct {
	Name       string     `json:"name"`
	BaseColour [4]float32 `json:"baseColour"` // linear RGBA
	Metallic   float32    `json:"metallic"`
	Roughness  float32    `json:"roughness"`
	Emissive   [3]float32 `json:"emissive"`
	Alpha      AlphaMode  `json:"alpha"`
	Cutoff     float32    `json:"cutoff"`
	TwoSided   bool       `json:"twoSided"`
	Unlit      bool       `json:"unlit"`
	Textures   []Texture  `json:"textures"`
	Layers     *Layers    `json:"layers,omitempty"`
	Toon       *Toon      `json:"toon,omitempty"`
}

// Layers is what the KHR_materials extensions of glTF 2.0 add to a surface,
// under their names. Only formats that know them carry them.
type Layers struct {
	IOR                *float32    `json:"ior,omitempty"`
	Clearcoat          *float32    `json:"clearcoat,omitempty"`
	ClearcoatRoughness *float32    `json:"clearcoatRoughness,omitempty"`
	Specular           *float32    `json:"specular,omitempty"`
	SpecularColour     *[3]float32 `json:"specularColour,omitempty"` // linear
	Transmission       *float32    `json:"transmission,omitempty"`
	SheenColour        *[3]float32 `json:"sheenColour,omitempty"` // linear
	SheenRoughness     *float32    `json:"sheenRoughness,omitempty"`
}

// NewMaterial has the default values of glTF 2.0 but for a dull, non-metal
// surface, which is what a file without surface properties means.
func NewMaterial(name string) Material {
	return Material{Name: name, BaseColour: [4]float32{1, 1, 1, 1}, Roughness: 1, Alpha: Opaque, Cutoff: 0.5}
}

// Role is the job of a picture in a material.
type Role string

// The picture roles of the metallic-roughness model, then those of the layers
// above it.
const (
	RoleColour    Role = "colour"
	RoleMetalRgh  Role = "metallic-roughness"
	RoleNormal    Role = "normal"
	RoleOcclusion Role = "occlusion"
	RoleEmission  Role = "emission"

	RoleClearcoat          Role = "clearcoat"
	RoleClearcoatRoughness Role = "clearcoat roughness"
	RoleClearcoatNormal    Role = "clearcoat normal"
	RoleSpecular           Role = "specular"
	RoleSpecularColour     Role = "specular colour"
	RoleTransmission       Role = "transmission"
	RoleSheenColour        Role = "sheen colour"
	RoleSheenRoughness     Role = "sheen roughness"

	RoleShade   Role = "toon shade" // of toon surfaces
	RoleShift   Role = "toon shading shift"
	RoleMatcap  Role = "toon matcap"
	RoleRim     Role = "toon rim"
	RoleOutline Role = "toon outline width"
)

// Roles lists every role in the order in which materials show them.
var Roles = []Role{RoleColour, RoleMetalRgh, RoleNormal, RoleOcclusion, RoleEmission, RoleClearcoat, RoleClearcoatRoughness, RoleClearcoatNormal,
	RoleSpecular, RoleSpecularColour, RoleTransmission, RoleSheenColour, RoleSheenRoughness,
	RoleShade, RoleShift, RoleMatcap, RoleRim, RoleOutline}

// Colour tells whether the role's texels are colours as screens show them, not
// plain numbers.
func (r Role) Colour() bool {
	return r == RoleColour || r == RoleEmission || r == RoleSpecularColour || r == RoleSheenColour || r == RoleShade || r == RoleMatcap || r == RoleRim
}

// Texture binds a picture to a role.
type Texture struct {
	Role    Role    `json:"role"`
	Picture int     `json:"picture"`
	UVSet   int     `json:"uvSet"`
	Scale   float32 `json:"scale"` // normal scale or occlusion strength; 1 elsewhere
	WrapU   Wrap    `json:"wrapU"`
	WrapV   Wrap    `json:"wrapV"`
	Nearest bool    `json:"nearest"`
	// Transform moves the UVs before the picture is looked up.
	Transform *UVTransform `json:"transform,omitempty"`
}

// UVTransform is that of KHR_texture_transform: scale, then rotate
// counter-clockwise about the origin, then offset. V counts from above.
type UVTransform struct {
	Offset   [2]float32 `json:"offset"`
	Rotation float32    `json:"rotation"` // radians
	Scale    [2]float32 `json:"scale"`
}

// Apply maps a UV.
func (t *UVTransform) Apply(u, v float32) (float32, float32) {
	sin, cos := math.Sincos(float64(t.Rotation))
	x, y := float64(u*t.Scale[0]), float64(v*t.Scale[1])
	return float32(x*cos+y*sin) + t.Offset[0], float32(y*cos-x*sin) + t.Offset[1]
}

// Wrap says what happens outside 0..1.
type Wrap string

// The wrap modes; the empty string is Repeat.
const (
	Repeat Wrap = ""
	Clamp  Wrap = "clamp"
	Mirror Wrap = "mirror"
)

// Texture returns the material's texture in a role, or nil.
func (m *Material) Texture(r Role) *Texture {
	for i := range m.Textures {
		if m.Textures[i].Role == r {
			return &m.Textures[i]
		}
	}
	return nil
}

// Picture is an encoded picture (PNG or JPEG), or the wish for one that was
// not found.
type Picture struct {
	Name   string   `json:"name"`
	Ref    string   `json:"ref"`             // as the file asks for it
	MIME   string   `json:"mime,omitempty"`  // of Data
	Width  int      `json:"width,omitempty"` // texels
	Height int      `json:"height,omitempty"`
	Found  string   `json:"found,omitempty"`  // where it was found: "source: path", or "inside the file"
	How    string   `json:"how,omitempty"`    // how surely: same path, other ending, same name
	Looked []string `json:"looked,omitempty"` // what was looked for, and where, in vain
	In     string   `json:"in,omitempty"`     // the file whose bytes its texels lie in, where it is not a file of its own
	Data   []byte   `json:"-"`
}

// Missing tells whether the picture was not found.
func (p *Picture) Missing() bool { return len(p.Data) == 0 }

// Skin binds vertices to nodes. InverseBind holds 16 numbers a joint,
// column-major: mesh space to joint space in the bind pose.
type Skin struct {
	Name        string    `json:"name"`
	Joints      []int     `json:"joints"`
	Root        int       `json:"root"` // common root node, or None
	InverseBind []float32 `json:"-"`
}

// Motion is a clip: channels of keys.
type Motion struct {
	Name     string    `json:"name"`
	Channels []Channel `json:"channels"`
}

// Path is the property that a channel moves.
type Path string

// The channel paths, with the numbers a key holds: 3, 4, 3, and one for each
// morph target.
const (
	PathTranslation Path = "translation"
	PathRotation    Path = "rotation"
	PathScale       Path = "scale"
	PathWeights     Path = "weights"
)

// Interp is how values between keys are made (glTF 2.0 appendix C).
type Interp string

// The interpolations. Cubic holds three values a key: in-tangent, value,
// out-tangent.
const (
	Linear Interp = "linear"
	Step   Interp = "step"
	Cubic  Interp = "cubic"
)

// Channel moves one property of one node. Times are seconds, rising.
type Channel struct {
	Node   int       `json:"node"`
	Path   Path      `json:"path"`
	Interp Interp    `json:"interp"`
	Times  []float32 `json:"-"`
	Values []float32 `json:"-"`
}

// Seconds is the time of the last key of any channel.
func (m *Motion) Seconds() float64 {
	var t float32
	for i := range m.Channels {
		if n := len(m.Channels[i].Times); n > 0 && m.Channels[i].Times[n-1] > t {
			t = m.Channels[i].Times[n-1]
		}
	}
	return float64(t)
}

// Camera is a leftover of the source; none of our targets wants one.
type Camera struct {
	Name         string  `json:"name"`
	Orthographic bool    `json:"orthographic"`
	FovY         float32 `json:"fovY"`   // radians, perspective
	Aspect       float32 `json:"aspect"` // width over height, 0 unknown
	Height       float32 `json:"height"` // half of the height seen, orthographic
	Near         float32 `json:"near"`
	Far          float32 `json:"far"`
}

// Light is a punctual light.
type Light struct {
	Name      string     `json:"name"`
	Type      string     `json:"type"` // directional, point, spot
	Colour    [3]float32 `json:"colour"`
	Intensity float32    `json:"intensity"`       // candela, of directional ones lux
	Range     float32    `json:"range,omitempty"` // 0 is without end
	Inner     float32    `json:"inner,omitempty"` // spot: radians from the axis where the light begins to fall off
	Outer     float32    `json:"outer,omitempty"` // spot: radians from the axis where it ends
}

// Note says what a reader or writer could not carry over, or had to assume.
type Note struct {
	Text  string `json:"text"`
	Where string `json:"where,omitempty"`
	Loss  bool   `json:"loss,omitempty"`
}
