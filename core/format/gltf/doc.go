// Package gltf reads and writes glTF 2.0, as GLB and as JSON with its
// companions. Section numbers are those of the glTF 2.0 specification,
// version 2.0.1 (Khronos, 2021).
package gltf

import "encoding/json"

// The document, section 5. Only what is read or written is here.
type document struct {
	Asset              asset          `json:"asset"`
	Scene              *int           `json:"scene,omitempty"`
	Scenes             []gscene       `json:"scenes,omitempty"`
	Nodes              []node         `json:"nodes,omitempty"`
	Meshes             []mesh         `json:"meshes,omitempty"`
	Materials          []material     `json:"materials,omitempty"`
	Textures           []texture      `json:"textures,omitempty"`
	Images             []gimage       `json:"images,omitempty"`
	Samplers           []sampler      `json:"samplers,omitempty"`
	Skins              []skin         `json:"skins,omitempty"`
	Animations         []animation    `json:"animations,omitempty"`
	Cameras            []camera       `json:"cameras,omitempty"`
	Accessors          []accessor     `json:"accessors,omitempty"`
	BufferViews        []bufferView   `json:"bufferViews,omitempty"`
	Buffers            []buffer       `json:"buffers,omitempty"`
	ExtensionsUsed     []string       `json:"extensionsUsed,omitempty"`
	ExtensionsRequired []string       `json:"extensionsRequired,omitempty"`
	Extensions         *docExtensions `json:"extensions,omitempty"`
}

type docExtensions struct {
	Lights *struct {
		Lights []light `json:"lights"`
	} `json:"KHR_lights_punctual,omitempty"`
	Variants *xVariantNames  `json:"KHR_materials_variants,omitempty"`
	Shapes   *xShapes        `json:"KHR_implicit_shapes,omitempty"`
	VRM0     json.RawMessage `json:"VRM,omitempty"`
	VRM      json.RawMessage `json:"VRMC_vrm,omitempty"`
	Springs  json.RawMessage `json:"VRMC_springBone,omitempty"`
}

// xVariantNames of a document, KHR_materials_variants.
type xVariantNames struct {
	Variants []xVariantName `json:"variants"`
}

type xVariantName struct {
	Name string `json:"name"`
}

// xVariants of a primitive, KHR_materials_variants.
type xVariants struct {
	Mappings []xVariantMaterial `json:"mappings"`
}

type xVariantMaterial struct {
	Material int   `json:"material"`
	Variants []int `json:"variants"`
}

type asset struct {
	Version    string `json:"version"`
	MinVersion string `json:"minVersion,omitempty"`
	Generator  string `json:"generator,omitempty"`
	Copyright  string `json:"copyright,omitempty"`

	Extras *assetExtras `json:"extras,omitempty"`
}

// assetExtras keeps what copyright, one line, has no place for.
type assetExtras struct {
	Licence string `json:"licence,omitempty"`
	Terms   string `json:"terms,omitempty"`
}

// UnmarshalJSON ignores extras of any other shape.
func (a *assetExtras) UnmarshalJSON(b []byte) error {
	type plain assetExtras
	var p plain
	if json.Unmarshal(b, &p) == nil {
		*a = assetExtras(p)
	}
	return nil
}

type gscene struct {
	Name  string `json:"name,omitempty"`
	Nodes []int  `json:"nodes,omitempty"`
}

type node struct {
	Name        string          `json:"name,omitempty"`
	Children    []int           `json:"children,omitempty"`
	Matrix      *[16]float64    `json:"matrix,omitempty"`
	Translation *[3]float32     `json:"translation,omitempty"`
	Rotation    *[4]float32     `json:"rotation,omitempty"`
	Scale       *[3]float32     `json:"scale,omitempty"`
	Mesh        *int            `json:"mesh,omitempty"`
	Skin        *int            `json:"skin,omitempty"`
	Camera      *int            `json:"camera,omitempty"`
	Weights     []float32       `json:"weights,omitempty"`
	Extensions  *nodeExtensions `json:"extensions,omitempty"`
	Extras      nodeExtras      `json:"extras,omitempty"`
}

type nodeExtensions struct {
	Light *struct {
		Light int `json:"light"`
	} `json:"KHR_lights_punctual,omitempty"`
	Body *xCollider `json:"KHR_physics_rigid_bodies,omitempty"`
}

type mesh struct {
	Name       string      `json:"name,omitempty"`
	Primitives []primitive `json:"primitives"`
	Weights    []float32   `json:"weights,omitempty"`
	Extras     *meshExtras `json:"extras,omitempty"`
}

// meshExtras follows the convention that section 3.7.2.2 recommends.
type meshExtras struct {
	TargetNames []string `json:"targetNames,omitempty"`
}

// UnmarshalJSON ignores extras of any other shape.
func (m *meshExtras) UnmarshalJSON(b []byte) error {
	var x struct {
		TargetNames []string `json:"targetNames"`
	}
	if json.Unmarshal(b, &x) == nil {
		m.TargetNames = x.TargetNames
	}
	return nil
}

type primitive struct {
	Attributes map[string]int             `json:"attributes"`
	Indices    *int                       `json:"indices,omitempty"`
	Material   *int                       `json:"material,omitempty"`
	Mode       *int                       `json:"mode,omitempty"`
	Targets    []map[string]int           `json:"targets,omitempty"`
	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
	Extras     *primitiveExtras           `json:"extras,omitempty"`
}

// primitiveExtras keeps the names of UV and colour sets, which glTF numbers.
type primitiveExtras struct {
	UVSets     []string `json:"uvSetNames,omitempty"`
	ColourSets []string `json:"colourSetNames,omitempty"`
}

// UnmarshalJSON ignores extras of any other shape.
func (p *primitiveExtras) UnmarshalJSON(b []byte) error {
	type plain primitiveExtras
	var x plain
	if json.Unmarshal(b, &x) == nil {
		*p = primitiveExtras(x)
	}
	return nil
}

type material struct {
	Name        string                     `json:"name,omitempty"`
	PBR         *pbr                       `json:"pbrMetallicRoughness,omitempty"`
	Normal      *textureInfo               `json:"normalTexture,omitempty"`
	Occlusion   *textureInfo               `json:"occlusionTexture,omitempty"`
	Emissive    *textureInfo               `json:"emissiveTexture,omitempty"`
	EmissiveF   *[3]float32                `json:"emissiveFactor,omitempty"`
	AlphaMode   string                     `json:"alphaMode,omitempty"`
	AlphaCutoff *float32                   `json:"alphaCutoff,omitempty"`
	DoubleSided bool                       `json:"doubleSided,omitempty"`
	Extensions  map[string]json.RawMessage `json:"extensions,omitempty"`
}

type pbr struct {
	Colour      *[4]float32  `json:"baseColorFactor,omitempty"`
	ColourTex   *textureInfo `json:"baseColorTexture,omitempty"`
	Metallic    *float32     `json:"metallicFactor,omitempty"`
	Roughness   *float32     `json:"roughnessFactor,omitempty"`
	MetalRghTex *textureInfo `json:"metallicRoughnessTexture,omitempty"`
}

type textureInfo struct {
	Index      int                        `json:"index"`
	TexCoord   int                        `json:"texCoord,omitempty"`
	Scale      *float32                   `json:"scale,omitempty"`
	Strength   *float32                   `json:"strength,omitempty"`
	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

type texture struct {
	Name       string                     `json:"name,omitempty"`
	Source     *int                       `json:"source,omitempty"`
	Sampler    *int                       `json:"sampler,omitempty"`
	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

type gimage struct {
	Name       string `json:"name,omitempty"`
	URI        string `json:"uri,omitempty"`
	MIME       string `json:"mimeType,omitempty"`
	BufferView *int   `json:"bufferView,omitempty"`
}

type sampler struct {
	Mag   int `json:"magFilter,omitempty"`
	Min   int `json:"minFilter,omitempty"`
	WrapS int `json:"wrapS,omitempty"`
	WrapT int `json:"wrapT,omitempty"`
}

type skin struct {
	Name        string `json:"name,omitempty"`
	InverseBind *int   `json:"inverseBindMatrices,omitempty"`
	Skeleton    *int   `json:"skeleton,omitempty"`
	Joints      []int  `json:"joints"`
}

type animation struct {
	Name     string        `json:"name,omitempty"`
	Channels []achannel    `json:"channels"`
	Samplers []animSampler `json:"samplers"`
}

type achannel struct {
	Sampler int `json:"sampler"`
	Target  struct {
		Node *int   `json:"node,omitempty"`
		Path string `json:"path"`
	} `json:"target"`
}

type animSampler struct {
	Input  int    `json:"input"`
	Output int    `json:"output"`
	Interp string `json:"interpolation,omitempty"`
}

type camera struct {
	Name         string `json:"name,omitempty"`
	Type         string `json:"type"`
	Perspective  *persp `json:"perspective,omitempty"`
	Orthographic *ortho `json:"orthographic,omitempty"`
}

type persp struct {
	Aspect float32 `json:"aspectRatio,omitempty"`
	YFov   float32 `json:"yfov"`
	ZFar   float32 `json:"zfar,omitempty"`
	ZNear  float32 `json:"znear"`
}

type ortho struct {
	XMag  float32 `json:"xmag"`
	YMag  float32 `json:"ymag"`
	ZFar  float32 `json:"zfar"`
	ZNear float32 `json:"znear"`
}

type light struct {
	Name      string      `json:"name,omitempty"`
	Type      string      `json:"type"`
	Colour    *[3]float32 `json:"color,omitempty"`
	Intensity *float32    `json:"intensity,omitempty"`
	Range     float32     `json:"range,omitempty"`
	Spot      *spot       `json:"spot,omitempty"`
}

type spot struct {
	Inner float32  `json:"innerConeAngle,omitempty"`
	Outer *float32 `json:"outerConeAngle,omitempty"`
}

type accessor struct {
	BufferView *int      `json:"bufferView,omitempty"`
	Offset     int64     `json:"byteOffset,omitempty"`
	Component  int       `json:"componentType"`
	Normalised bool      `json:"normalized,omitempty"`
	Count      int64     `json:"count"`
	Type       string    `json:"type"`
	Min        []float64 `json:"min,omitempty"`
	Max        []float64 `json:"max,omitempty"`
	Sparse     *sparse   `json:"sparse,omitempty"`
}

type sparse struct {
	Count   int64 `json:"count"`
	Indices struct {
		BufferView int   `json:"bufferView"`
		Offset     int64 `json:"byteOffset"`
		Component  int   `json:"componentType"`
	} `json:"indices"`
	Values struct {
		BufferView int   `json:"bufferView"`
		Offset     int64 `json:"byteOffset"`
	} `json:"values"`
}

type bufferView struct {
	Buffer int   `json:"buffer"`
	Offset int64 `json:"byteOffset,omitempty"`
	Length int64 `json:"byteLength"`
	Stride int64 `json:"byteStride,omitempty"`
	Target int   `json:"target,omitempty"`

	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

type buffer struct {
	URI    string `json:"uri,omitempty"`
	Length int64  `json:"byteLength"`
}

// packedView is a buffer view's EXT_meshopt_compression.
type packedView struct {
	Buffer int    `json:"buffer"`
	Offset int64  `json:"byteOffset"`
	Length int64  `json:"byteLength"`
	Stride int64  `json:"byteStride"`
	Count  int64  `json:"count"`
	Mode   string `json:"mode"`
	Filter string `json:"filter"`
}

// Component types, section 3.6.2.2, with their bytes.
const (
	cByte   = 5120
	cUByte  = 5121
	cShort  = 5122
	cUShort = 5123
	cUInt   = 5125
	cFloat  = 5126
)

var componentBytes = map[int]int64{cByte: 1, cUByte: 1, cShort: 2, cUShort: 2, cUInt: 4, cFloat: 4}

var typeCount = map[string]int64{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
