package project

import (
	"math"

	"excavate/core/find"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Model is what the interface shows of a scene. Its JSON is the contract's
// Model.
type Model struct {
	Scene     string      `json:"scene"`
	Name      string      `json:"name"`
	Format    string      `json:"format"`
	Stats     scene.Stats `json:"stats"`
	Basis     Basis       `json:"basis"`
	RootBone  string      `json:"rootBone"`
	Pictures  []Picture   `json:"pictures"`
	Materials []string    `json:"materials"`
	Cameras   []string    `json:"cameras"`
	Helpers   []string    `json:"helpers"`
	Motions   []Motion    `json:"motions"`
	Notes     []string    `json:"notes"`
	Readings  []Reading   `json:"readings,omitempty"`
	Declared  *Basis      `json:"declared,omitempty"` // the file's basis, where the porter decided on another

	// Origins are the sources that it came from, with their terms as they were.
	Origins []find.Origin `json:"origins"`
}

// Reading is a choice that a layout leaves to the porter.
type Reading struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Choices []string `json:"choices"`
	Chosen  string   `json:"chosen"`
}

// Basis is a basis with words for people.
type Basis struct {
	Up            string  `json:"up"`
	Front         string  `json:"front"`
	Handedness    string  `json:"handedness"`
	MetresPerUnit float64 `json:"metresPerUnit"`
	Text          string  `json:"text"`
}

// NewBasis states a basis.
func NewBasis(b geom.Basis) Basis {
	return Basis{b.Up.String(), b.Front.String(), string(b.Handed), b.MetresPerUnit, b.String()}
}

// Picture is a picture of a model and where it was found, or not.
type Picture struct {
	Name      string   `json:"name"`
	Ref       string   `json:"ref"`
	Missing   bool     `json:"missing"`
	Found     string   `json:"found,omitempty"`
	How       string   `json:"how,omitempty"`
	Looked    []string `json:"looked"`
	In        string   `json:"in,omitempty"`
	Width     int      `json:"width,omitempty"`
	Height    int      `json:"height,omitempty"`
	Materials []string `json:"materials"`
}

// Motion names a motion.
type Motion struct {
	Name    string  `json:"name"`
	Seconds float64 `json:"seconds"`
}

// NewModel states what a scene holds.
func NewModel(s *scene.Scene, digest, format string) Model {
	m := Model{Scene: digest, Name: s.Name, Format: format, Stats: s.Stats(), Basis: NewBasis(s.Basis), Pictures: []Picture{}, Materials: []string{}, Cameras: []string{}, Helpers: []string{}, Motions: []Motion{}, Notes: []string{}, Origins: []find.Origin{}}
	if r := s.RootBone(); r >= 0 {
		m.RootBone = s.Nodes[r].Name
	}
	for i := range s.Pictures {
		p := &s.Pictures[i]
		x := Picture{Name: p.Name, Ref: p.Ref, Missing: p.Missing(), Found: p.Found, How: p.How, Looked: append([]string{}, p.Looked...), In: p.In, Width: p.Width, Height: p.Height, Materials: []string{}}
		for _, mat := range s.Materials {
			for _, t := range mat.Textures {
				if t.Picture == i {
					x.Materials = append(x.Materials, mat.Name+" · "+string(t.Role))
				}
			}
		}
		m.Pictures = append(m.Pictures, x)
	}
	for i := range s.Materials {
		m.Materials = append(m.Materials, s.Materials[i].Name)
	}
	h := s.Helpers()
	for i := range s.Nodes {
		if s.Nodes[i].Camera >= 0 {
			m.Cameras = append(m.Cameras, s.Nodes[i].Name)
		}
		if h[i] {
			m.Helpers = append(m.Helpers, s.Nodes[i].Name)
		}
	}
	for i := range s.Motions {
		m.Motions = append(m.Motions, Motion{s.Motions[i].Name, math.Round(s.Motions[i].Seconds()*1000) / 1000})
	}
	for _, n := range s.Notes {
		m.Notes = append(m.Notes, n.Text)
	}
	return m
}
