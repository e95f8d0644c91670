package shipped

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"excavate/core/appraise"
	"excavate/core/scene"
)

// notCompared are fields that a comparison names as not looked at, or that
// change nothing that anybody sees.
var notCompared = regexp.MustCompile(`^(Name|Basis.*|Notes.*|Choices.*|` +
	`Nodes\[\d+\]\.(Name|Skin)|Meshes\[\d+\]\.Name|Meshes.*\.(UVs|Colours)\[\d+\]\.(Name|Made)|.*NormalsMade|Skins\[\d+\]\.(Name|Root)|` +
	`Pictures\[\d+\]\.(Name|Ref|Found|How|Looked|In|MIME|Width|Height)|` + // what a picture shows is compared; sizes are those of its texels
	`Motions.*\.Interp|Materials.*\.Cutoff|` + // of a cutout it is: see below
	`Avatar\.Version|Avatar\.Expressions\[\d+\]\.Overrides.*|Lights\[0\]\.(Inner|Outer)|Cameras\[0\]\.Height|Cameras\[1\]\.FovY|` + // of another kind
	`Nodes\[(\d|10)\]\.Parent|Nodes\[[4-9]\]\.Scale.*|` + // the hierarchy; what has no extent there
	`.*Rotation\[3\]|` + // another length is the same turn
	`Nodes\[25\]\.(Parent|Translation.*|Rotation.*|Scale.*)|` + // a skinned mesh is where its bones are
	`Materials\[0\]\.Textures\[(0|2|4)\]\.Scale|Materials\[3\]\.Textures\[0\]\.Scale|` + // of roles that have none
	`Skins\[0\]\.Joints|` + // the first and the last move nothing
	`Meshes\[2\].*\.Lines|Meshes\[3\].*\.Points|` + // the same ones in another order
	`.*\.Influences)$`)

// leaf is a field of a scene with where it lies.
type leaf struct {
	path string
	v    reflect.Value
}

func leaves(path string, v reflect.Value, out *[]leaf) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			leaves(path, v.Elem(), out)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			p := v.Type().Field(i).Name
			if path != "" {
				p = path + "." + p
			}
			leaves(p, v.Field(i), out)
		}
	case reflect.Slice:
		switch v.Type().Elem().Kind() {
		case reflect.Float32, reflect.Uint32, reflect.Uint16, reflect.Uint8, reflect.Int:
			*out = append(*out, leaf{path, v})
			return
		}
		for i := range v.Len() {
			leaves(fmt.Sprintf("%s[%d]", path, i), v.Index(i), out)
		}
	case reflect.Array:
		for i := range v.Len() {
			leaves(fmt.Sprintf("%s[%d]", path, i), v.Index(i), out)
		}
	case reflect.Map:
		*out = append(*out, leaf{path, v})
	default:
		*out = append(*out, leaf{path, v})
	}
}

// change makes something else of a field; false where it is empty.
func change(path string, v reflect.Value) bool {
	switch v.Kind() {
	case reflect.String:
		v.SetString(v.String() + "x")
	case reflect.Bool:
		v.SetBool(!v.Bool())
	case reflect.Float32, reflect.Float64:
		v.SetFloat(1.5*v.Float() + 0.3*map[bool]float64{true: 50, false: 1}[strings.Contains(path, "Translation")])
	case reflect.Int:
		v.SetInt((v.Int() + 1) % 2)
	case reflect.Slice:
		if v.Len() == 0 {
			return false
		}
		switch e := v.Index(0); e.Kind() {
		case reflect.Float32: // all but one, so that no turn is left as it was
			for i := range v.Len() - min(1, v.Len()-1) {
				v.Index(i).SetFloat(v.Index(i).Float()*1.5 + 0.4)
			}
		case reflect.Uint8:
			return false // below
		default:
			if v.Len() < 2 {
				return false
			}
			a, b := v.Index(0).Interface(), v.Index(v.Len()-1).Interface()
			if reflect.DeepEqual(a, b) {
				return false
			}
			v.Index(0).Set(reflect.ValueOf(b))
			v.Index(v.Len() - 1).Set(reflect.ValueOf(a))
		}
	case reflect.Map:
		keys := v.MapKeys()
		if len(keys) < 2 {
			return false
		}
		slices.SortFunc(keys, func(a, b reflect.Value) int { return slices.Compare([]byte(a.String()), []byte(b.String())) })
		a, b := v.MapIndex(keys[0]), v.MapIndex(keys[1])
		v.SetMapIndex(keys[0], b)
		v.SetMapIndex(keys[1], a)
	default:
		return false
	}
	return true
}

// Every field of a scene that has everything is changed in turn, and each time
// the comparison tells.
func TestComparisonTellsOfEveryField(t *testing.T) {
	var first []leaf
	s, err := everything()
	if err != nil {
		t.Fatal(err)
	}
	leaves("", reflect.ValueOf(s).Elem(), &first)
	told, unsound := 0, 0
	for i := range first {
		path := first[i].path
		if notCompared.MatchString(path) {
			continue
		}
		a, _ := everything()
		b, _ := everything()
		var list []leaf
		leaves("", reflect.ValueOf(b).Elem(), &list)
		if !change(path, list[i].v) {
			continue
		}
		if b.Validate() != nil {
			unsound++
			continue
		}
		if c := appraise.Compare(a, b, 0); c.Same {
			t.Errorf("%s: %s", path, c.Verdict)
		} else {
			told++
		}
	}
	t.Logf("%d fields told of, %d would make no sound scene", told, unsound)
	if told < 250 {
		t.Errorf("%d fields only", told)
	}
	a, _ := everything()
	b, _ := everything()
	if c := appraise.Compare(a, b, 0); !c.Same {
		t.Errorf("a scene and itself: %s", c.Verdict)
	}
	if len(appraise.Compare(a, b, 0).NotCompared) == 0 {
		t.Error("what is not compared is not named")
	}
}

// What whole things are exchanged, taken away or added.
func TestComparisonTellsOfWhatIsExchanged(t *testing.T) {
	for name, f := range map[string]func(s *scene.Scene){
		"an expression less": func(s *scene.Scene) { s.Avatar.Expressions = nil },
		"hands exchanged": func(s *scene.Scene) {
			b := s.Avatar.Bones
			b["leftHand"], b["rightHand"] = b["rightHand"], b["leftHand"]
		},
		"no avatar":     func(s *scene.Scene) { s.Avatar = nil },
		"another owner": func(s *scene.Scene) { s.Terms.Owner = "somebody else" },
		"no licence":    func(s *scene.Scene) { s.Terms.Licence = "" },
		"motions of two bones exchanged": func(s *scene.Scene) {
			c := s.Motions[0].Channels
			c[0].Node = s.Avatar.Bones["leftHand"]
		},
		"legs exchanged": func(s *scene.Scene) {
			m := &s.Motions[1]
			m.Channels[0].Node, m.Channels[1].Node = m.Channels[1].Node, m.Channels[0].Node
		},
		"a wrap":           func(s *scene.Scene) { s.Materials[0].Textures[0].WrapU = scene.Repeat },
		"no transform":     func(s *scene.Scene) { s.Materials[3].Textures[0].Transform = nil },
		"a light less":     func(s *scene.Scene) { s.Nodes[8].Light, s.Nodes[7].Light = scene.None, scene.None },
		"faces turned":     func(s *scene.Scene) { t := s.Meshes[0].Parts[0].Triangles; t[1], t[2] = t[2], t[1] },
		"normals are gone": func(s *scene.Scene) { s.Meshes[0].Parts[0].Normals = nil },
		"a spring less":    func(s *scene.Scene) { s.Avatar.Springs = nil },
		"cutoff":           func(s *scene.Scene) { s.Materials[0].Cutoff = 0.75 },
	} {
		a, err := everything()
		if err != nil {
			t.Fatal(err)
		}
		b, _ := everything()
		for i := range b.Nodes {
			if name == "a light less" {
				b.Nodes[i].Light = scene.None
			}
		}
		f(b)
		if c := appraise.Compare(a, b, 0); c.Same {
			t.Errorf("%s: %s", name, c.Verdict)
		}
	}
}
