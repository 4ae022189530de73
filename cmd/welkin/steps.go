package main

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/invopop/jsonschema"

	"welkin/core/expr"
	"welkin/core/step"
)

type stepsCommand struct{}

// Run writes the kinds of step, their settings and the functions as Markdown.
func (stepsCommand) Run() error {
	out := &strings.Builder{}
	fmt.Fprintln(out, "# Steps and functions\n\nWritten by `welkin steps`; don't edit it by hand.\n\n## Kinds of step")
	for _, k := range step.All() {
		fmt.Fprintf(out, "\n### %s\n\n%s For example: `%s`.\n\n", k.Name, k.Help, k.Example)
		tellSettings(out, "", k.JSONSchema())
	}
	fmt.Fprintln(out, "\n## Functions\n\nPostgreSQL's, with its meaning, unless marked as Welkin's own. `core/expr/expr.go` lists what differs.")
	group := ""
	for _, fn := range expr.Catalogue() {
		if fn.Group != group {
			group = fn.Group
			fmt.Fprintf(out, "\n### %s\n\n| function | gives | example |\n| --- | --- | --- |\n", group)
		}
		cell := func(s string) string { return strings.ReplaceAll(s, "|", "\\|") }
		fmt.Fprintf(out, "| `%s` | %s | `%s` |\n", cell(fn.Signature()), cell(fn.Help), cell(fn.Example))
	}
	help := func(title string, list []expr.AggregateHelp) {
		fmt.Fprintf(out, "\n### %s\n\n| function | gives | example |\n| --- | --- | --- |\n", title)
		for _, a := range list {
			fmt.Fprintf(out, "| `%s` | %s | `%s` |\n", a.Name, a.Help, a.Example)
		}
	}
	help("aggregates", expr.Aggregates())
	help("windows", expr.WindowNames())
	_, err := os.Stdout.WriteString(out.String())
	return err
}

// tellSettings lists settings, and under each the settings it is made of.
func tellSettings(out io.Writer, indent string, s *jsonschema.Schema) {
	if s.Items != nil {
		s = s.Items
	}
	if s.Properties == nil || s.Type == "string" { // what is written as one word has no settings within
		return
	}
	for p := s.Properties.Oldest(); p != nil; p = p.Next() {
		words := p.Value.Description
		choices := p.Value.Enum
		if p.Value.Items != nil {
			choices = p.Value.Items.Enum
		}
		if len(choices) > 0 {
			var values []string
			for _, v := range choices {
				values = append(values, fmt.Sprint("`", v, "`"))
			}
			words = strings.TrimSpace(words + " " + strings.Join(values, ", "))
		}
		fmt.Fprintln(out, strings.TrimRight(indent+"- `"+p.Key+"` "+words, " "))
		tellSettings(out, indent+"  ", p.Value)
	}
}
