package chain

import (
	"fmt"

	"excavate/core/document"
	"excavate/core/step"

	"github.com/goccy/go-yaml"
)

// Parse reads a chain document in YAML and checks every step's parameters.
// What is wrong is told with its line and column.
func Parse(doc []byte) (*Chain, error) {
	var y struct {
		Chain string           `yaml:"chain"`
		Steps []*document.Node `yaml:"steps"`
	}
	n, err := document.Parse(doc)
	if err == nil {
		err = n.Decode(&y)
	}
	if err == nil && n.Get("steps").Empty() {
		err = n.Errorf("the document has no steps; write them under the key steps")
	}
	if err == nil && len(y.Steps) > MaxSteps {
		err = n.Errorf("%d steps, at most %d", len(y.Steps), MaxSteps)
	}
	if err != nil {
		return nil, fmt.Errorf("chain: %w", err)
	}
	c := &Chain{Name: y.Chain}
	for i, s := range y.Steps {
		out, err := parseStep(s)
		if err != nil {
			return nil, fmt.Errorf("chain step %d: %w", i+1, err)
		}
		c.Steps = append(c.Steps, out)
	}
	return c, nil
}

func parseStep(n *document.Node) (out Step, err error) {
	var y struct {
		Step  *document.Node `yaml:"step"`
		With  *document.Node `yaml:"with"`
		Off   bool           `yaml:"off"`
		Group *document.Node `yaml:"group"`
	}
	if err := n.Decode(&y); err != nil {
		return out, err
	}
	if y.Step.Empty() {
		return out, n.Errorf("the key step, which names the step, is missing")
	}
	out = Step{Step: y.Step.Text, Off: y.Off}
	if !y.Group.Empty() {
		if err := groupSound(y.Group.Text); err != nil {
			return out, y.Group.Errorf("%v", err)
		}
		out.Group = y.Group.Text
	}
	k, err := step.Get(out.Step)
	if err != nil {
		var names []string
		for _, k := range step.All() {
			names = append(names, k.Name)
		}
		return out, y.Step.Errorf("%s", document.Unknown("step", out.Step, names))
	}
	if y.With.Empty() {
		return out, nil
	}
	if err := y.With.Against(k.Schema); err != nil {
		return out, fmt.Errorf("%s: %w", k.Name, err)
	}
	if out.With, err = y.With.JSON(); err != nil {
		return out, err
	}
	if err := k.Check(out.With); err != nil {
		return out, y.With.Errorf("%v", err)
	}
	return out, nil
}

// yamlStep is Step as YAML has it.
type yamlStep struct {
	Step  string `yaml:"step"`
	With  any    `yaml:"with,omitempty"`
	Off   bool   `yaml:"off,omitempty"`
	Group string `yaml:"group,omitempty"`
}

// YAML writes the chain as a document that Parse reads.
func (c *Chain) YAML() ([]byte, error) {
	y := struct {
		Chain string     `yaml:"chain"`
		Steps []yamlStep `yaml:"steps"`
	}{Chain: c.Name, Steps: []yamlStep{}}
	for _, s := range c.Steps {
		out := yamlStep{Step: s.Step, Off: s.Off, Group: s.Group}
		if len(s.With) > 0 {
			if err := yaml.UnmarshalWithOptions(s.With, &out.With, yaml.UseOrderedMap()); err != nil {
				return nil, err
			}
		}
		y.Steps = append(y.Steps, out)
	}
	return yaml.Marshal(y)
}
