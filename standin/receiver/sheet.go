package receiver

import (
	"fmt"
	"regexp"
	"strings"

	"excavate/targets"

	"github.com/goccy/go-yaml"
)

// sheet is what a receiver knows of its own rules: the parts of a target sheet
// that it goes by, read by itself.
type sheet struct {
	ID     string `yaml:"-"`
	Target string `yaml:"target"`
	Format string `yaml:"format"`
	Basis  *struct {
		Up            string  `yaml:"up"`
		MetresPerUnit float64 `yaml:"metres_per_unit"`
	} `yaml:"basis"`
	Size *struct {
		Least float64 `yaml:"least"`
		Most  float64 `yaml:"most"`
	} `yaml:"size"`
	Ground   bool   `yaml:"ground"`
	Centred  bool   `yaml:"centred"`
	Root     string `yaml:"root_bone"`
	EndBones *bool  `yaml:"end_bones"`
	Skeleton *struct {
		Bones []struct {
			Name   string `yaml:"name"`
			Parent string `yaml:"parent"`
		} `yaml:"bones"`
	} `yaml:"skeleton"`
	Joints  int   `yaml:"joints_per_vertex"`
	Cameras *bool `yaml:"cameras"`
	Lights  *bool `yaml:"lights"`
	Helpers *bool `yaml:"helpers"`
	Limits  struct {
		Triangles int     `yaml:"triangles"`
		Meshes    int     `yaml:"meshes"`
		Nodes     int     `yaml:"nodes"`
		Materials int     `yaml:"materials"`
		Bones     int     `yaml:"bones"`
		UVSets    int     `yaml:"uv_sets"`
		Colours   int     `yaml:"colour_sets"`
		Memory    float64 `yaml:"picture_memory"`
	} `yaml:"limits"`
	Names *struct {
		Unique  bool   `yaml:"unique"`
		Pattern string `yaml:"pattern"`
		Longest int    `yaml:"longest"`
	} `yaml:"names"`
	Materials *struct {
		There []string `yaml:"there"`
		Once  bool     `yaml:"once"`
	} `yaml:"materials"`
	Pictures *struct {
		Required bool `yaml:"required"`
		Largest  int  `yaml:"largest"`
		Powers   bool `yaml:"powers_of_two"`
	} `yaml:"pictures"`
	Transparency bool `yaml:"transparency"`
	Normals      bool `yaml:"normals"`
	Colliders    *struct {
		As      string `yaml:"as"`
		Ending  string `yaml:"ending"`
		Shapes  []string
		Without *struct {
			Node any `yaml:"node"`
		} `yaml:"without"`
	} `yaml:"colliders"`
	Motions *struct {
		None bool `yaml:"none"`
	} `yaml:"motions"`
	Variants string `yaml:"variants"`
	Licence  *struct {
		Avatar bool `yaml:"avatar"`
	} `yaml:"licence"`
	Rules []struct {
		Rule  string `yaml:"rule"`
		Where struct {
			Material string `yaml:"material"`
		} `yaml:"where"`
	} `yaml:"rules"`
	Delivery struct {
		Folder     string   `yaml:"folder"`
		Model      string   `yaml:"model"`
		SearchFile string   `yaml:"search_file"`
		SearchLine string   `yaml:"search_line"`
		Overwrites []string `yaml:"overwrites"`
	} `yaml:"delivery"`

	pattern *regexp.Regexp
}

// loadSheet reads one of the sheets that ship.
func loadSheet(id string) (*sheet, error) {
	text, err := targets.FS.ReadFile(id + ".yaml")
	if err != nil {
		return nil, err
	}
	return parseSheet(id, text)
}

func parseSheet(id string, text []byte) (s *sheet, err error) {
	s = &sheet{ID: id}
	if err := yaml.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("%s: %w", id, err)
	}
	if s.Names != nil && s.Names.Pattern != "" {
		if s.pattern, err = regexp.Compile(s.Names.Pattern); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// metres is what one unit of a file's numbers is here.
func (s *sheet) metres() float64 {
	if s.Basis != nil && s.Basis.MetresPerUnit > 0 {
		return s.Basis.MetresPerUnit
	}
	return 1
}

// up is the axis that points up, 0 to 2.
func (s *sheet) up() int {
	if s.Basis != nil && len(s.Basis.Up) == 2 {
		if k := strings.IndexByte("XYZ", s.Basis.Up[1]&^0x20); k >= 0 { // in capitals
			return k
		}
	}
	return 1
}

// open are globs of the names of things that one must be able to pass.
func (s *sheet) open() (out []string) {
	if s.Colliders == nil || s.Colliders.Without == nil {
		return nil
	}
	switch v := s.Colliders.Without.Node.(type) {
	case string:
		return []string{v}
	case []any:
		for _, x := range v {
			if t, ok := x.(string); ok {
				out = append(out, t)
			}
		}
	}
	return out
}

// fits tells whether one of the globs, in which * is anything, fits a name.
func fits(globs []string, name string) bool {
	for _, g := range globs {
		re := "^" + strings.ReplaceAll(regexp.QuoteMeta(g), `\*`, ".*") + "$"
		if ok, err := regexp.MatchString("(?s)"+re, name); err == nil && ok {
			return true
		}
	}
	return false
}
