package layout

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

func compiledSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("layout.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("layout.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestTheSchemaKnowsWhatTheCompilerKnows holds the schema against layouts
// that compile, and against ones that do not.
func TestTheSchemaKnowsWhatTheCompilerKnows(t *testing.T) {
	s := compiledSchema(t)
	docs := map[string]string{"small": small, "model": fmt.Sprintf(model, "little"), "reed": reedLayout, "mist": mistLayout, "tideMill": tideMill, "sluice": sluice, "heron": heron, "punt": punt, "raft": raftDoc()}
	files, err := filepath.Glob("../../layouts/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal("no layouts that ship")
	}
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		docs[f] = string(b)
	}
	check := func(doc string) error {
		b, err := yaml.YAMLToJSON([]byte(doc))
		if err != nil {
			return err
		}
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		if err != nil {
			return err
		}
		return s.Validate(v)
	}
	for name, doc := range docs {
		if err := check(doc); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, bad := range map[string]string{
		"key":  strings.Replace(small, "  as: e\n", "  az: e\n", 1),
		"kind": strings.Replace(small, "kind: container", "kind: drawer", 1),
		"gone": strings.Replace(small, "  size: e.size\n", "", 1),
	} {
		if check(bad) == nil {
			t.Errorf("%s: the schema has nothing against it", name)
		}
	}
	// Every key that the compiler takes somewhere is in the schema, and none
	// that it does not.
	src := ""
	for _, f := range []string{"layout.go", "container.go", "picture.go", "model.go", "mesh.go", "node.go", "motion.go", "program.go", "codecs.go", "space.go", "names.go", "reading.go"} {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		src += string(b)
	}
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if props, ok := v["properties"].(map[string]any); ok {
				for k := range props {
					if !strings.Contains(src, `"`+k+`"`) {
						t.Errorf("the schema knows %q, and the compiler does not", k)
					}
				}
			}
			for _, x := range v {
				walk(x)
			}
		case []any:
			for _, x := range v {
				walk(x)
			}
		}
	}
	var all any
	if err := json.Unmarshal(Schema(), &all); err != nil {
		t.Fatal(err)
	}
	walk(all)
}
