package gltf

import (
	"bytes"
	"encoding/json"

	"excavate/core/scene"
)

// nodeExtras is what a file says of a node in its own words (glTF 2.0 section
// 3.12.2, application-specific data): the members of an object in their order.
// What is no text is kept as the JSON that it is. Extras of another shape say
// nothing that could be asked for by name, and are ignored.
type nodeExtras []scene.Prop

func (x *nodeExtras) UnmarshalJSON(b []byte) error {
	*x = nil
	d := json.NewDecoder(bytes.NewReader(b))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil
	}
	for d.More() {
		k, err := d.Token()
		if err != nil {
			return nil
		}
		var v json.RawMessage
		if d.Decode(&v) != nil {
			return nil
		}
		key, _ := k.(string)
		var text string
		if json.Unmarshal(v, &text) != nil {
			var short bytes.Buffer
			if json.Compact(&short, v) != nil {
				return nil
			}
			text = short.String()
		}
		if string(v) != "null" {
			*x = append(*x, scene.Prop{Key: key, Value: text})
		}
	}
	return nil
}

// MarshalJSON writes an object. Of a key that stands twice the first is kept,
// which is the one that rules look at.
func (x nodeExtras) MarshalJSON() ([]byte, error) {
	out := []byte{'{'}
	seen := map[string]bool{}
	for _, p := range x {
		if seen[p.Key] {
			continue
		}
		if seen[p.Key] = true; len(out) > 1 {
			out = append(out, ',')
		}
		for i, t := range []string{p.Key, p.Value} {
			b, err := json.Marshal(t)
			if err != nil {
				return nil, err
			}
			if out = append(out, b...); i == 0 {
				out = append(out, ':')
			}
		}
	}
	return append(out, '}'), nil
}
