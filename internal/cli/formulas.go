package cli

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/formula"
)

func (e *env) formulas() *cobra.Command {
	return &cobra.Command{
		Use:   "formulas [NAME]",
		Short: "List the operators and functions of formulas, or explain one",
		Long: `Formulas lists all that a formula can hold: values, operators, functions, and what
holds throughout. A formula stands in a field ({formula: …}), in a placeholder
(${…}) and in a selection of devices. With a NAME it explains one function.`,
		Example: "  runcrowd formulas\n  runcrowd formulas round",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return fmt.Errorf("formulas takes at most one name, and %q is too much", args[1])
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				e.listFormulas()
				return nil
			}
			var names []string
			for _, f := range formula.Functions() {
				if f.Name == args[0] {
					fmt.Fprintf(e.stdout, "%s\n\n  %s\n\nFor example\n\n  %s   gives   %s\n",
						e.paint(text.Bold, f.Name+"("+f.Args+")"), f.Doc, f.Example, f.Result)
					e.sample()
					return nil
				}
				names = append(names, f.Name)
			}
			for _, o := range formula.Operators() {
				for _, name := range strings.Fields(o.Name) {
					if name == args[0] {
						fmt.Fprintf(e.stdout, "%s\n\n  %s\n\nFor example\n\n  %s   gives   %s\n", e.paint(text.Bold, o.Name), o.Doc,
							o.Example, o.Result)
						e.sample()
						return nil
					}
				}
			}
			return unknownName("formulas", "there is no function", args[0], names)
		},
	}
}

// sample says what the names in examples stand for.
func (e *env) sample() {
	fmt.Fprintln(e.stdout, "\nIn examples: n is 7, site 'outer', level_m 4.6, draught_m 1.4, mooring 58.02,-6.41,\ntime "+
		"2030-03-17T17:46:40Z; previous is empty, as at the first message.")
}

func (e *env) listFormulas() {
	heading := func(s string) { fmt.Fprintln(e.stdout, e.paint(text.Bold, strings.ToUpper(s[:1])+s[1:])) }
	line := func(name, doc, example, result string) {
		if example != "" && len([]rune(example)) <= 34 {
			example = example + " is " + result
		} else {
			example = ""
		}
		for i, part := range wrap(doc, 42) {
			head, tail := "", ""
			if i == 0 {
				head, tail = name, example
			}
			fmt.Fprintln(e.stdout, strings.TrimRight(fmt.Sprintf("  %-22s %-42s  %s", head, part, tail), " "))
		}
	}
	heading("values")
	for _, v := range formula.Values() {
		line(v.Name, v.Doc, v.Example, v.Result)
	}
	fmt.Fprintln(e.stdout)
	heading("operators, the loosest first")
	for _, o := range formula.Operators() {
		line(o.Name, o.Doc, o.Example, o.Result)
	}
	group := ""
	for _, f := range formula.Functions() {
		if f.Group != group {
			group = f.Group
			fmt.Fprintln(e.stdout)
			heading(group)
		}
		line(f.Name+"("+f.Args+")", f.Doc, f.Example, f.Result)
	}
	fmt.Fprintln(e.stdout)
	heading("what holds throughout")
	for _, r := range formula.Rules() {
		for i, part := range wrap(r, 76) {
			fmt.Fprintf(e.stdout, "  %s%s\n", map[bool]string{true: "- ", false: "  "}[i == 0], part)
		}
	}
	fmt.Fprintln(e.stdout)
	heading("names")
	for _, l := range [][2]string{
		{"n, device, kind, tags", "the device's number, name, kind and tags"}, {"crowd", "the crowd's name"},
		{"env.NAME", "an environment variable; its value is never printed"},
		{"PROPERTY, FIELD", "each property of the device; each field above in the reading"}, {"reading, seq", "of the " +
			"message: its reading, its number from 1"},
		{"time, elapsed", "of the message: when it is due, seconds since the round began"}, {"previous.FIELD", "a field of " +
			"the message before; nothing at the first"},
		{"request.method, .host, .path, .query, .body, .time", "of the request that is about to be sent: in signing, and in query " +
			"and headers beside it"},
		{"ask.NAME", "in commands: what the platform sent"}, {"from, to, issued, expiry", "in questions and in tokens: the " +
			"times they concern"},
	} {
		line(l[0], l[1], "", "")
	}
	e.sample()
}
