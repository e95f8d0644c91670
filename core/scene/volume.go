package scene

import (
	"fmt"
	"hash/crc32"

	"excavate/core/limit"
	"excavate/core/numlist"
)

// VolumeBlock is the side of a volume's blocks, in voxels.
const VolumeBlock = 32

const blockVoxels = VolumeBlock * VolumeBlock * VolumeBlock

// Volume is a grid of voxels. A mesh that has one also has its surfaces as
// parts, so that whatever knows no volumes sees those; once a step changes the
// parts otherwise, the volume counts no more (see Mesh.Voxels).
//
// Voxels lie in blocks of 32 x 32 x 32. Each holds 0 for nothing, or the number
// of its colour in the palette, from 1 on. Equal blocks are stored once.
type Volume struct {
	Size    float32    `json:"size"`   // the side of a voxel in the mesh's units
	Origin  [3]float32 `json:"origin"` // the low corner of the first voxel
	Dims    [3]int     `json:"dims"`   // voxels along x, y and z
	Palette []Swatch   `json:"palette"`
	Index   []uint32   `json:"-"`     // for each block, x first: its place among Blocks from 1 on, 0 where it is empty
	Blocks  []uint16   `json:"-"`     // 32768 voxels a block, x first, then y, then z
	Faces   uint64     `json:"faces"` // of the parts that are its surfaces, see Fingerprint
}

// Swatch is a colour of a palette, with the name of what has it, such as a
// block's.
type Swatch struct {
	Name   string   `json:"name,omitempty"`
	Colour [3]uint8 `json:"colour"` // sRGB
}

// Grid is how many blocks there are along each axis.
func (v *Volume) Grid() (n [3]int) {
	for i, d := range v.Dims {
		n[i] = (d + VolumeBlock - 1) / VolumeBlock
	}
	return n
}

// Block is one block's voxels, nil where it is empty.
func (v *Volume) Block(x, y, z int) []uint16 {
	n := v.Grid()
	k := int(v.Index[(z*n[1]+y)*n[0]+x])
	if k == 0 {
		return nil
	}
	return v.Blocks[(k-1)*blockVoxels : k*blockVoxels]
}

// At is the voxel at a place; 0 outside of the grid.
func (v *Volume) At(x, y, z int) uint16 {
	if x < 0 || y < 0 || z < 0 || x >= v.Dims[0] || y >= v.Dims[1] || z >= v.Dims[2] {
		return 0
	}
	b := v.Block(x/VolumeBlock, y/VolumeBlock, z/VolumeBlock)
	if b == nil {
		return 0
	}
	return b[(z%VolumeBlock*VolumeBlock+y%VolumeBlock)*VolumeBlock+x%VolumeBlock]
}

// Validate checks the volume's numbers against each other.
func (v *Volume) Validate() error {
	n := 1
	for i, d := range v.Dims {
		if d < 1 || d > limit.VolumeSide {
			return fmt.Errorf("a volume of %d voxels along one side; there are 1 to %d", d, limit.VolumeSide)
		}
		n *= v.Grid()[i]
	}
	if !(v.Size > 0) || v.Size-v.Size != 0 || numlist.NotFinite(v.Origin[:]) >= 0 {
		return fmt.Errorf("a volume of voxels of %g at %v", v.Size, v.Origin)
	}
	if len(v.Index) != n || len(v.Blocks)%blockVoxels != 0 {
		return fmt.Errorf("a volume of %d blocks has %d places and %d voxels", n, len(v.Index), len(v.Blocks))
	}
	for _, k := range v.Index {
		if int(k) > len(v.Blocks)/blockVoxels {
			return fmt.Errorf("a volume names block %d, and there are %d", k, len(v.Blocks)/blockVoxels)
		}
	}
	for _, c := range v.Blocks {
		if int(c) > len(v.Palette) {
			return fmt.Errorf("a voxel has colour %d, and there are %d", c, len(v.Palette))
		}
	}
	return nil
}

// Voxels is the mesh's volume, if its parts are still the volume's surfaces.
func (m *Mesh) Voxels() *Volume {
	if m.Volume == nil || m.Volume.Faces != Fingerprint(m.Parts) {
		return nil
	}
	return m.Volume
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Fingerprint tells parts with other positions or triangles apart.
func Fingerprint(parts []Part) uint64 {
	var positions, triangles uint32
	for i := range parts {
		positions = crc32.Update(positions, castagnoli, numlist.Bytes(parts[i].Positions))
		triangles = crc32.Update(triangles, castagnoli, numlist.Bytes(parts[i].Triangles))
	}
	return uint64(positions)<<32 | uint64(triangles)
}
