package find

import (
	"fmt"
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Inspection is what "excavate inspect" says of a file.
type Inspection struct {
	File       string         `json:"file"`
	Format     string         `json:"format"`
	Triangles  int            `json:"triangles"`
	Vertices   int            `json:"vertices"`
	Meshes     int            `json:"meshes"`
	Materials  []string       `json:"materials"`
	UVSets     int            `json:"uvSets"`
	ColourSets int            `json:"colourSets"`
	Normals    bool           `json:"normals"`  // every part has some in the file
	Computed   []string       `json:"computed"` // what the file does not have and was made while it was read: normals, uv
	Bones      int            `json:"bones"`
	Motions    []MotionInfo   `json:"motions"`
	Morphs     int            `json:"morphs"`
	Cameras    int            `json:"cameras"`
	Lights     int            `json:"lights"`
	Lines      int            `json:"lines"`
	Points     int            `json:"points"`
	Area       float64        `json:"area"`   // of all surfaces, in the file's unit squared
	Bounds     *Bounds        `json:"bounds"` // null if there is no vertex
	Size       *[3]float64    `json:"size"`   // metres; null if the unit is unknown
	Basis      BasisInfo      `json:"basis"`
	Pictures   []PicInfo      `json:"pictures"`
	Readings   []scene.Choice `json:"readings"` // what could have been read otherwise
	Terms      scene.Terms    `json:"terms"`    // that the file itself carries
	Origins    []Origin       `json:"origins"`  // what it was read from, with all terms that are known
	Notes      []string       `json:"notes"`
}

// MotionInfo names a motion.
type MotionInfo struct {
	Name    string  `json:"name"`
	Seconds float64 `json:"seconds"`
}

// Bounds are in world space, rest pose, in the file's own axes and unit.
type Bounds struct {
	Min [3]float64 `json:"min"`
	Max [3]float64 `json:"max"`
}

// BasisInfo is a basis with null for what the file does not declare.
type BasisInfo struct {
	Up            *string  `json:"up"`
	Front         *string  `json:"front"`
	Handedness    *string  `json:"handedness"`
	MetresPerUnit *float64 `json:"metresPerUnit"`
}

// PicInfo says whether a picture was found.
type PicInfo struct {
	Name  string `json:"name"`
	Found bool   `json:"found"`
}

// NewBasisInfo states a basis.
func NewBasisInfo(b geom.Basis) (out BasisInfo) {
	text := func(s string) *string {
		if s == "" {
			return nil
		}
		return &s
	}
	out.Up, out.Front, out.Handedness = text(b.Up.String()), text(b.Front.String()), text(string(b.Handed))
	if b.MetresPerUnit > 0 {
		out.MetresPerUnit = &b.MetresPerUnit
	}
	return out
}

// stored tells normals and UV sets that the file has from those that were made.
func (x *Inspection) stored(s *scene.Scene) {
	x.Computed, x.UVSets = []string{}, 0
	normals, uv := false, false
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			normals = normals || p.NormalsMade
			sets := 0
			for _, u := range p.UVs {
				if u.Made {
					uv = true
				} else {
					sets++
				}
			}
			x.UVSets = max(x.UVSets, sets)
		}
	}
	if normals {
		x.Normals = false
		x.Computed = append(x.Computed, "normals")
	}
	if uv {
		x.Computed = append(x.Computed, "uv")
	}
}

// Inspect states what a scene holds.
func Inspect(file, format string, s *scene.Scene) Inspection {
	st := s.Stats()
	out := Inspection{File: file, Format: format, Triangles: st.Triangles, Vertices: st.Vertices, Meshes: st.Meshes, Materials: []string{}, UVSets: st.UVSets,
		ColourSets: st.ColourSets, Normals: st.Normals, Bones: st.Bones, Motions: []MotionInfo{}, Morphs: st.Morphs, Cameras: st.Cameras, Lights: st.Lights, Lines: st.Lines, Points: st.Points, Area: st.Area, Size: st.Size, Basis: NewBasisInfo(s.Basis), Pictures: []PicInfo{}, Readings: append([]scene.Choice{}, s.Choices...), Notes: []string{}}
	out.stored(s)
	out.Terms, out.Origins = s.Terms, []Origin{}
	if st.Vertices > 0 {
		out.Bounds = &Bounds{st.Min, st.Max}
	}
	for i := range s.Materials {
		out.Materials = append(out.Materials, s.Materials[i].Name)
	}
	for i := range s.Motions {
		out.Motions = append(out.Motions, MotionInfo{s.Motions[i].Name, math.Round(s.Motions[i].Seconds()*1e6) / 1e6})
	}
	for i := range s.Pictures {
		p := &s.Pictures[i]
		out.Pictures = append(out.Pictures, PicInfo{p.Name, !p.Missing()})
		for _, l := range p.Looked {
			out.Notes = append(out.Notes, fmt.Sprintf("picture %s not found: looked for %s", p.Name, l))
		}
	}
	for _, n := range s.Notes {
		out.Notes = append(out.Notes, n.Text)
	}
	return out
}
