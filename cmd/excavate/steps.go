package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"excavate/core/document"
	"excavate/core/step"

	"github.com/spf13/cobra"
)

func stepsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "steps [NAME]", Short: "List the steps of chains, with their parameters", Args: cobra.MaximumNArgs(1), ValidArgsFunction: completeSteps,
		Long: "Lists every step that a chain document may have: what it is for, its parameters with type, unit, bounds, default and meaning, and an example."}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object per step and line; parameters as a JSON Schema")
	c.RunE = func(cmd *cobra.Command, args []string) error {
		list := step.All()
		if len(args) == 1 {
			k, err := step.Get(args[0])
			if err != nil {
				var names []string
				for _, k := range list {
					names = append(names, k.Name)
				}
				return errors.New(document.Unknown("step", args[0], names))
			}
			list = []*step.Kind{k}
		}
		for i, k := range list {
			if asJSON {
				err := printJSON(cmd.OutOrStdout(), struct {
					Name    string          `json:"name"`
					Title   string          `json:"title"`
					Family  step.Family     `json:"family"`
					Purpose string          `json:"purpose"`
					Version int             `json:"version"`
					Schema  json.RawMessage `json:"parameters"`
				}{k.Name, k.Title, k.Family, k.Purpose, k.Version, k.Schema})
				if err != nil {
					return err
				}
				continue
			}
			if i > 0 {
				fmt.Fprintln(cmd.OutOrStdout())
			}
			if err := printStep(cmd.OutOrStdout(), k); err != nil {
				return err
			}
		}
		return nil
	}
	return c
}

// parameter is what a step's JSON Schema says of one.
type parameter struct {
	Title       string               `json:"title"`
	Description string               `json:"description"`
	Type        string               `json:"type"`
	Unit        string               `json:"unit"`
	Enum        []any                `json:"enum"`
	Minimum     *float64             `json:"minimum"`
	Maximum     *float64             `json:"maximum"`
	Properties  map[string]parameter `json:"properties"`
	Items       *parameter           `json:"items"`
	Default     map[string]any       `json:"default"`
}

func printStep(w io.Writer, k *step.Kind) error {
	var p parameter
	if err := json.Unmarshal(k.Schema, &p); err != nil {
		return err
	}
	fmt.Fprintf(w, "%s  %s\n  %s\n", k.Name, k.Title, k.Purpose)
	for _, name := range k.Order {
		printParameter(w, "  ", name, p.Properties[name], p.Default[name])
	}
	return nil
}

func printParameter(w io.Writer, in, name string, p parameter, usual any) {
	kind := map[string]string{"number": "number", "integer": "whole number", "boolean": "true or false", "string": "text", "array": "list", "object": "mapping"}[p.Type]
	if len(p.Enum) > 0 {
		var list []string
		for _, e := range p.Enum {
			if e != "" {
				list = append(list, fmt.Sprint(e))
			}
		}
		kind = strings.Join(list, ", ")
	}
	if p.Unit != "" {
		kind += ", " + p.Unit
	}
	switch {
	case p.Minimum != nil && p.Maximum != nil:
		kind += fmt.Sprintf(", %g to %g", *p.Minimum, *p.Maximum)
	case p.Minimum != nil:
		kind += fmt.Sprintf(", at least %g", *p.Minimum)
	}
	if usual != nil {
		b, _ := json.Marshal(usual)
		kind += "; without it " + string(b)
	}
	fmt.Fprintf(w, "%s%s: %s. %s", in, name, kind, p.Title)
	if p.Description != "" {
		fmt.Fprintf(w, ": %s", p.Description)
	}
	fmt.Fprintln(w)
	for _, inner := range []*parameter{&p, p.Items} {
		if inner == nil {
			continue
		}
		for _, key := range sortedKeys(inner.Properties) {
			printParameter(w, in+"  ", key, inner.Properties[key], nil)
		}
	}
}

func sortedKeys(m map[string]parameter) []string { return slices.Sorted(maps.Keys(m)) }
