package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

func (e *env) signals() *cobra.Command {
	var out string
	var seed uint64
	cmd := &cobra.Command{
		Use:   "signals [NAME]",
		Short: "List the signals that fields can have, or explain one",
		Long: `Signals lists the generators of values that a field of a crowd file can have.
With a NAME it explains one: its parameters, an example to copy, and a plot of
that example.`,
		Example: "  runcrowd signals\n  runcrowd signals walk\n  runcrowd signals swell --out swell.png",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return fmt.Errorf("signals takes at most one name, and %q is too much", args[1])
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				if out != "" {
					return errors.New("--out goes with the name of a signal")
				}
				e.listSignals()
				return nil
			}
			spec, ok := signal.Find(args[0])
			if !ok {
				return unknownName("signals", "there is no signal", args[0], signal.Names())
			}
			return e.explain(spec, out, seed)
		},
	}
	cmd.Flags().StringVar(&out, "out", "", "write the plot to this file, .png or .svg, and nothing else")
	cmd.Flags().Uint64Var(&seed, "seed", 1907, "seed of the plot")
	return cmd
}

func (e *env) listSignals() {
	group := ""
	for _, s := range signal.All() {
		if s.Group != group {
			if group != "" {
				fmt.Fprintln(e.stdout)
			}
			group = s.Group
			fmt.Fprintln(e.stdout, e.paint(text.Bold, strings.ToUpper(group[:1])+group[1:]))
		}
		for i, line := range wrap(s.Doc, 62) {
			name := ""
			if i == 0 {
				name = s.Name
			}
			fmt.Fprintf(e.stdout, "  %-13s %s\n", name, line)
		}
	}
	fmt.Fprintf(e.stdout, "\n%s\n", e.paint(text.Bold, "With any field, in this order"))
	for _, x := range finishDocs {
		fmt.Fprintf(e.stdout, "  %-13s %s\n", x[0], x[1])
	}
	fmt.Fprintf(e.stdout, "\nOne of them, with an example and a plot: %s signals NAME\n", e.program)
}

// finishDocs are the options that go with any field.
var finishDocs = [][2]string{
	{"convert", "to another unit: m/s to kn"},
	{"noise", "a normal error of this standard deviation: 0.05"},
	{"spike", "now and then far off: {chance: 0.5%, by: 20}"},
	{"min, max", "a floor and a ceiling: 0"},
	{"resolution", "a whole multiple of this, as of a converter: 0.25"},
	{"round", "at most this many decimals: 2"},
	{"digits", "always this many decimals, 12.50 and not 12.5: 2"},
	{"stuck", "at times the value stays as it is: {chance: 1%, for: 30s}"},
	{"drop", "at times it is left out, or replaced: {chance: 2%, as: null}"},
	{"unit", "what it is measured in, for previews and SenML: Cel"},
	{"tolerance", "how far a found number may be off and still be the same: 0.01"},
}

// wrap breaks a text into lines of at most so many letters.
func wrap(s string, width int) []string {
	var lines []string
	line := ""
	for _, w := range strings.Fields(s) {
		if line != "" && len([]rune(line))+1+len([]rune(w)) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(lines, line)
}

func (e *env) explain(s *signal.Spec, out string, seed uint64) error {
	if out == "" {
		fmt.Fprintf(e.stdout, "%s: %s\n\n", e.paint(text.Bold, s.Name), strings.Join(wrap(s.Doc, 78-len(s.Name)), "\n"))
		gives := "a " + s.Gives.String()
		switch s.Gives {
		case signal.Null:
			gives = "a number, a text or true and false, as its parameters say"
		case signal.Bool:
			gives = "true or false"
		}
		if s.Unit != "" {
			gives += ", in " + s.Unit
		}
		fmt.Fprintf(e.stdout, "Gives %s.\n\n%s\n", gives, e.paint(text.Bold, "Parameters"))
		for _, p := range s.Params {
			def := ""
			switch {
			case p.Default != nil:
				def = "; " + tellDefault(p) + " if not given"
			case p.Optional:
				def = "; may be left out"
			}
			kind := p.Type.String()
			if p.Type == signal.Word {
				kind = "one of " + strings.Join(p.Words, ", ")
			}
			for i, line := range wrap(fmt.Sprintf("%s (%s%s)", p.Doc, kind, def), 62) {
				name := ""
				if i == 0 {
					name = p.Name
				}
				fmt.Fprintf(e.stdout, "  %-13s %s\n", name, line)
			}
		}
		fmt.Fprintf(e.stdout, "\n%s\n  %s\n\n", e.paint(text.Bold, "Example"), s.Example)
	}
	return e.plotSignal(s, out, seed)
}

func tellDefault(p signal.Param) string {
	switch v := p.Default.(type) {
	case time.Duration:
		if p.Type == signal.Clock {
			return fmt.Sprintf("%02d:%02d", int(v.Hours()), int(v.Minutes())%60)
		}
		return quantity.FormatDuration(v)
	case bool:
		return map[bool]string{true: "true", false: "false"}[v]
	case int:
		return time.Date(2001, 1, 1+v, 0, 0, 0, 0, time.UTC).Format("01-02")
	case float64:
		switch p.Type {
		case signal.Share:
			return fmt.Sprintf("%g%%", v*100)
		case signal.Length:
			return fmt.Sprintf("%gm", v)
		case signal.Speed:
			return fmt.Sprintf("%gm/s", v)
		}
	}
	return fmt.Sprint(p.Default)
}

// spans are how long the plots of signals are that do not show much in five
// minutes.
var spans = map[string]time.Duration{
	"daily": 48 * time.Hour, "yearly": 730 * quantity.Day, "tide": 48 * time.Hour, "derived": 48 * time.Hour,
	"drain":  60 * time.Hour,
	"charge": 4 * time.Hour, "route": 40 * time.Minute, "wander": time.Hour, "recorded": 48 * time.Hour,
	"saw":  6 * time.Minute,
	"ramp": 40 * time.Second, "acceleration": time.Minute, "rotation": time.Minute, "states": 5 * time.Minute,
}

// levels is the file that the example of recorded values reads.
func levels() []byte {
	var b strings.Builder
	b.WriteString("at,level\n")
	for h := range 26 {
		fmt.Fprintf(&b, "2030-06-0%dT%02d:00:00Z,%.2f\n", 1+h/24, h%24,
			[...]float64{1.9, 1.6, 0.9, 0.1, -0.8, -1.5, -1.8, -1.6, -1, -0.1, 0.8, 1.6, 2}[h%13])
	}
	return []byte(b.String())
}

// plotSignal plays a signal's example for a while and draws it.
func (e *env) plotSignal(s *signal.Spec, out string, seed uint64) error {
	span := spans[s.Name]
	if span == 0 {
		span = 5 * time.Minute
	}
	before := ""
	if s.Name == "derived" {
		before = "          water_c: {signal: daily, low: 8, high: 12}\n"
	}
	example := fmt.Sprintf(`crowd: example
seed: %d
links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds:
  buoy:
    readings:
      state:
        every: %s
        topic: t
        turns: together
        fields:
%s          %s
devices: [{kind: buoy, name: example}]
plan: {for: %s}
`, seed, quantity.FormatDuration(span/300), before, s.Example, quantity.FormatDuration(span))
	c, err := file.Parse("example", []byte(example),
		file.Sources{Open: func(string) ([]byte, error) { return levels(), nil }})
	if err != nil {
		return err
	}
	f, err := fleet.Build(c, credential.New(c))
	if err != nil {
		return err
	}
	field, _, _ := strings.Cut(s.Example, ":")
	var values fieldValues
	var texts []string
	begin := time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
	engine.Rehearse(f, f.Streams, begin, func(r *engine.Rehearsed) bool {
		return values.add(r.Stream, field, "", r.Written.Carried, r.Due.Sub(begin).Seconds())
	})
	for _, v := range values.values[f.Streams[0]] {
		if len(texts) < 6 {
			texts = append(texts, fmt.Sprint(v))
		}
	}
	ch, err := values.chart(field, "")
	if err != nil {
		if out != "" {
			return fmt.Errorf("--out: %w", err)
		}
		fmt.Fprintf(e.stdout, "Its first values: %s\n", strings.Join(texts, ", "))
		return nil
	}
	if s.Name == "clock" {
		fmt.Fprintf(e.stdout, "Its first values: %s\n", strings.Join(texts, ", "))
	}
	ch.Title = fmt.Sprintf("%s over %s", field, quantity.FormatDuration(span))
	for i := range ch.Series {
		ch.Series[i].Name = strings.TrimSpace(strings.TrimPrefix(ch.Series[i].Name, "example"))
	}
	if s.Name == "steps" || s.Name == "pulse" {
		ch.Steps = true
	}
	if ch.Time {
		ch.Span = [2]float64{0, span.Seconds()}
	}
	return e.draw(ch, out)
}
