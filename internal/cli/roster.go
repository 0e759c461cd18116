package cli

import (
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/grid"
)

// hidden stands for a secret that is not shown.
const hidden = "••••"

func (e *env) roster() *cobra.Command {
	var who []string
	var format string
	var secrets, all bool
	var with changes
	cmd := &cobra.Command{
		Use:   "roster [FILE]",
		Short: "List the devices of a crowd file with their properties",
		Long: `Roster makes the devices of a crowd file and lists them with their properties,
as a table, as CSV or as JSON. The CSV can serve as a roster again: name it in
a crowd file with roster: FILE.

Secrets are shown as ` + hidden + ` and left empty in CSV and JSON, unless --secrets asks
for them; then user names and passwords are listed, too.`,
		Example: "  runcrowd roster harbour/crowd.yaml\n  runcrowd roster harbour/crowd.yaml --who 'site == \"outer\"' " +
			"--format csv > outer.csv",
		Args: oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if format != "text" && format != "csv" && format != "json" {
				return fmt.Errorf("--format is text, csv or json, not %q", format)
			}
			f, err := loadFleet(crowdFile(args), with)
			if err != nil {
				return err
			}
			devices, err := selectDevices(f, "who", who)
			if err != nil {
				return err
			}
			return e.listDevices(f, devices, format, secrets, all)
		},
	}
	with.flag(cmd)
	cmd.Flags().StringArrayVar(&who, "who", nil, "only these devices: a name, kind, tag, pattern, share or formula (may "+
		"be given more than once)")
	cmd.Flags().StringVar(&format, "format", "text", "text, csv or json")
	cmd.Flags().BoolVar(&secrets, "secrets", false, "show secrets")
	cmd.Flags().BoolVar(&all, "all", false, "list all devices; the table stops at 50 without it")
	return cmd
}

// tableRows is how many devices a table shows unless all are asked for.
const tableRows = 50

func (e *env) listDevices(f *fleet.Fleet, devices []*fleet.Device, format string, secrets, all bool) error {
	names := propertyNames(devices, secrets)
	// value is a property as it is listed; a secret is replaced.
	value := func(d *fleet.Device, name, instead string) any {
		if secrets {
			switch name {
			case "username":
				if _, own := d.Env[name]; !own {
					return d.Username
				}
			case "password":
				if _, own := d.Env[name]; !own {
					return d.Password
				}
			}
		}
		v, has := d.Env[name]
		if !has {
			return ""
		}
		s, isText := v.(string)
		if !secrets && (d.Cast.Secrets[name] || isText && f.Crowd.Redact(s) != s) {
			return instead
		}
		return v
	}
	switch format {
	case "json":
		list := []map[string]any{}
		for _, d := range devices {
			props := map[string]any{}
			for _, n := range names {
				if v := value(d, n, ""); v != "" {
					props[n] = v
				}
			}
			tags := d.Tags
			if tags == nil {
				tags = []string{}
			}
			list = append(list, map[string]any{"device": d.Name, "kind": d.Cast.Kind.Name, "n": d.N, "tags": tags,
				"link": d.Cast.Link.Name, "properties": props})
		}
		return e.json(map[string]any{"crowd": f.Crowd.Name, "devices": list})
	case "csv":
		t := grid.New(append([]string{"device", "kind", "n", "tags"}, names...)...)
		for _, d := range devices {
			row := []any{foreign.Cell(d.Name), d.Cast.Kind.Name, d.N, strings.Join(d.Tags, " ")}
			for _, n := range names {
				row = append(row, foreign.Cell(formula.String(value(d, n, ""))))
			}
			t.Row(row...)
		}
		return t.CSV(e.raw)
	}
	tagged := false
	links := map[*crowd.Link]bool{}
	for _, d := range devices {
		tagged = tagged || len(d.Tags) > 0
		links[d.Cast.Link] = true
	}
	t := grid.New("device", "kind", "n")
	if tagged {
		t.Column("tags")
	}
	if len(links) > 1 {
		t.Column("link")
	}
	for _, n := range names {
		t.Column(n)
	}
	for i := range t.Columns { // those that hold nothing but numbers
		t.Columns[i].Right = true
	}
	for i, d := range devices {
		if i == tableRows && !all {
			break
		}
		row := []any{d.Name, d.Cast.Kind.Name, d.N}
		if tagged {
			row = append(row, strings.Join(d.Tags, " "))
		}
		if len(links) > 1 {
			row = append(row, d.Cast.Link.Name)
		}
		for _, n := range names {
			row = append(row, foreign.Line(formula.String(value(d, n, hidden)), foreign.Most))
		}
		for k, cell := range row {
			_, is := crowd.Number(fmt.Sprint(cell))
			t.Columns[k].Right = t.Columns[k].Right && (is || cell == "")
		}
		t.Row(row...)
	}
	spare := []string{"link", "tags", "n"}
	for i := len(names) - 1; i > 0; i-- {
		spare = append(spare, names[i])
	}
	e.table(t, spare...)
	if more := len(devices) - tableRows; more > 0 && !all {
		fmt.Fprintf(e.stdout, "… and %d more; --all shows them\n", more)
	}
	fmt.Fprintf(e.stdout, "%s", plural(len(devices), "device"))
	if len(devices) < len(f.Devices) {
		fmt.Fprintf(e.stdout, " of %d", len(f.Devices))
	}
	fmt.Fprintf(e.stdout, " in %s\n", f.Crowd.Path)
	return nil
}

// propertyNames are those of all devices: in the file's order for each group.
func propertyNames(devices []*fleet.Device, secrets bool) []string {
	seen := map[string]bool{}
	var names []string
	casts := map[*crowd.Cast]bool{}
	credentials := map[string]bool{}
	for _, d := range devices {
		if secrets {
			if d.Username != "" {
				credentials["username"] = true
			}
			if d.Password != "" {
				credentials["password"] = true
			}
		}
		if casts[d.Cast] {
			continue
		}
		casts[d.Cast] = true
		for _, p := range d.Cast.Properties {
			if !seen[p.Name] {
				seen[p.Name] = true
				names = append(names, p.Name)
			}
		}
	}
	var more []string
	for n := range credentials {
		if !seen[n] {
			more = append(more, n)
		}
	}
	sort.Strings(more)
	return append(names, more...)
}
