package report

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/grid"
	"runcrowd/internal/tally"
)

// Compared is two runs that were compared.
type Compared struct {
	Runs    [2]string     `json:"runs"`
	Folders [2]string     `json:"folders"`
	Worse   bool          `json:"worse"`
	Margin  float64       `json:"margin_percent"`
	Least   time.Duration `json:"-"`
	*tally.Comparison
}

// CompareJSON makes the document.
func CompareJSON(c *Compared) ([]byte, error) {
	b, err := json.MarshalIndent(c, "", "  ")
	return append(foreign.JSON(b), '\n'), err
}

// mostCompared is how many devices that changed are listed.
const mostCompared = 20

// titled is a table with a title.
type titled struct {
	title string
	*grid.Grid
}

// tables makes the tables of a comparison.
func (c *Compared) tables(mark func(tally.Trend) string) (list []titled) {
	add := func(title string, heads ...string) *grid.Grid {
		t := grid.New(heads...)
		list = append(list, titled{title, t})
		return t
	}
	t := add("Verdicts", "", ">first", ">second", "")
	for _, v := range c.Verdicts {
		t.Row(v.Verdict, v.N[0], v.N[1])
	}
	t.Row("proven, of all", fmt.Sprintf("%.3f%%", c.ProvenShare[0]), fmt.Sprintf("%.3f%%", c.ProvenShare[1]),
		mark(c.Proven))
	t = add("Requirements", "", "first", "second", "")
	for _, q := range c.Requirements {
		t.Row(q.Key, orNone(string(q.State[0])), orNone(string(q.State[1])), mark(q.Trend))
	}
	measures := func(title string, list []tally.MeasureChange, unit string) {
		t := add(title, "", ">first", ">second", ">difference (99 % interval)", "")
		for _, m := range list {
			between := "too few messages to tell"
			if m.Low != 0 || m.High != 0 || m.Trend != tally.Unclear {
				between = fmt.Sprintf("%+.4g to %+.4g", m.Low, m.High)
			}
			if m.Busy {
				between += ", as the machine was busy"
			}
			t.Row(m.Name, fmt.Sprintf("%.4g %s", m.Value[0], unit), fmt.Sprintf("%.4g %s", m.Value[1], unit), between,
				mark(m.Trend))
		}
	}
	measures("Delays after sending, and lag", c.Delays, "ms")
	measures("Messages a second", c.Rates, "/s")
	title := "Devices that changed: messages not proven"
	if more := c.DeviceCount - mostCompared; more > 0 {
		title += fmt.Sprintf(" (%d more are in the JSON)", more)
	}
	t = add(title, "", ">first", ">second", "")
	for _, d := range c.Devices[:min(len(c.Devices), mostCompared)] {
		trend := tally.Better
		if d.Bad[1] > d.Bad[0] {
			trend = tally.Worse
		}
		t.Row(d.Device, fmt.Sprintf("%d of %d", d.Bad[0], d.Due[0]), fmt.Sprintf("%d of %d", d.Bad[1], d.Due[1]), mark(trend))
	}
	return slices.DeleteFunc(list, func(t titled) bool { return len(t.Rows) == 0 })
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// notes tell what keeps the runs from being alike.
func (c *Compared) notes() (list []string) {
	for i, run := range []string{"first", "second"} {
		if !c.Whole[i] {
			list = append(list, fmt.Sprintf("The %s run was not played to its end.", run))
		}
		if why := c.Late[i]; why != "" {
			list = append(list, fmt.Sprintf("The machine that played the %s run did not keep up: %s. Delays and rates decide "+
				"nothing.", run, why))
		}
		if n := c.OnlyIn[i]; n > 0 {
			list = append(list, fmt.Sprintf("Only in the %s run: %s.", run, plural(n, "device")))
		}
	}
	return list
}

// head is the comparison in a sentence.
func (c *Compared) head() string {
	if c.Worse {
		return "WORSE"
	}
	better := c.Proven == tally.Better
	for _, list := range [][]tally.MeasureChange{c.Delays, c.Rates} {
		for _, m := range list {
			better = better || m.Trend == tally.Better && !strings.HasPrefix(m.Name, "lag ")
		}
	}
	if better {
		return "BETTER"
	}
	return "NO CHANGE"
}

// CompareText makes the comparison for people.
func CompareText(c *Compared, st Style) string {
	var b strings.Builder
	style := good
	if c.Worse {
		style = bad
	}
	fmt.Fprintf(&b, "first:   %s\nsecond:  %s\n\n%s  differences of less than %g%%, and of delays of less than %s, do "+
		"not count\n", c.Folders[0], c.Folders[1], st.paint(style, c.head()), c.Margin, c.Least)
	for _, text := range c.notes() {
		b.WriteString(text + "\n")
	}
	list := c.tables(func(t tally.Trend) string {
		switch t {
		case tally.Worse:
			return st.paint(bad, string(t))
		case tally.Better:
			return st.paint(good, string(t))
		}
		return st.paint(faint, string(t))
	})
	for _, t := range list {
		text, _ := t.Fit("  ", true, st.Width)
		fmt.Fprintf(&b, "\n%s\n%s", st.paint(head, t.title), text)
	}
	return b.String()
}

// CompareMarkdown makes it for a ticket.
func CompareMarkdown(c *Compared) string {
	var b strings.Builder
	fmt.Fprintf(&b, "## %s: run %s against run %s\n\nDifferences of less than %g%%, and of delays of less than %s, do "+
		"not count.\n", c.head(), c.Runs[1], c.Runs[0], c.Margin, c.Least)
	for _, text := range c.notes() {
		b.WriteString("\n" + text + "\n")
	}
	const worse = "**worse**"
	for _, t := range c.tables(func(t tally.Trend) string {
		if t == tally.Worse {
			return worse
		}
		return string(t)
	}) {
		fmt.Fprintf(&b, "\n### %s\n\n%s", t.title, t.Markdown(func(s string) string {
			if s == worse {
				return s
			}
			return escape(s)
		}))
	}
	return b.String()
}
