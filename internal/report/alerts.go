package report

import (
	"fmt"
	"strings"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/grid"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

type alert struct {
	tally.AlertCount
	Delays delays `json:"delays_ms"`
}

// alertLine says in one line how the alerts fared.
func alertLine(b *strings.Builder, r *tally.Result, st Style) {
	if len(r.Alerts) == 0 || r.Total.Due() == 0 {
		return
	}
	var all tally.AlertCount
	for _, n := range r.Alerts {
		all.Called, all.Given, all.Missing, all.Late = all.Called+n.Called, all.Given+n.Given, all.Missing+
			n.Missing, all.Late+n.Late
		all.Unknown, all.Repeated, all.Unexpected = all.Unknown+n.Unknown, all.Repeated+n.Repeated, all.Unexpected+
			n.Unexpected
	}
	var parts []string
	for _, x := range alertParts(&all) {
		if x.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", x.n, x.verdict))
		}
	}
	given := fmt.Sprintf("%d of %s given", all.Given, plural(all.Called, "alert"))
	heard := true
	for _, n := range r.Alerts {
		for _, w := range r.Witnesses {
			heard = heard && (w.Name != n.Witness || w.Heard)
		}
	}
	switch {
	case len(parts) == 0 && !heard:
		fmt.Fprintf(b, "%s  %s, but its witness was not heard to the end\n", st.paint(doubt, "ALERTS UNDECIDED"), given)
	case len(parts) > 0 && len(parts) == 1 && all.Unknown > 0:
		fmt.Fprintf(b, "%s  %s; %s\n", st.paint(doubt, "ALERTS UNDECIDED"), given, parts[0])
	case len(parts) > 0:
		fmt.Fprintf(b, "%s  %s; %s\n", st.paint(bad, "ALERTS NOT EXACT"), given, strings.Join(parts, ", "))
	case all.Called == 0:
		fmt.Fprintf(b, "%s  none was called for, and none came\n", st.paint(good, "ALERTS EXACT"))
	default:
		fmt.Fprintf(b, "%s  %s, each once and in time, and no other one\n", st.paint(good, "ALERTS EXACT"), given)
	}
}

type alertPart struct {
	n       int
	verdict tally.AlertVerdict
	meaning string
}

// alertParts are what is not as it should be, the worst first.
func alertParts(n *tally.AlertCount) []alertPart {
	return []alertPart{
		{n.Missing, tally.Missing, "it was called for, and never heard"},
		{n.Unexpected, tally.Unexpected, "it was heard, and nobody had called for it"},
		{n.Repeated, tally.Twice, "it was heard more than once"},
		{n.Late, tally.LateOne, "it was heard after the time allowed"},
		{n.Unknown, tally.Unsure, "whether it was given, or called for, is not known"},
	}
}

// alerts tells how each alert fared, and what was wrong.
func alerts(b *strings.Builder, r *tally.Result, st Style) {
	if len(r.Alerts) == 0 {
		return
	}
	number := func(n int) string {
		if n == 0 {
			return "-"
		}
		return fmt.Sprint(n)
	}
	t := grid.New("alert", ">called for", ">given", ">missing", ">late", ">repeated", ">unexpected", ">unknown", ">p50",
		">worst")
	var all tally.AlertCount
	strange := 0
	for _, n := range r.Alerts {
		p50, worst := "-", "-"
		if n.Delays.N > 0 {
			p50, worst = verdict.Span(n.Delays.P50), verdict.Span(n.Delays.Worst)
		}
		t.Row(n.Name, number(n.Called), number(n.Given), number(n.Missing), number(n.Late), number(n.Repeated),
			number(n.Unexpected), number(n.Unknown), p50, worst)
		all.Missing, all.Late, all.Unknown = all.Missing+n.Missing, all.Late+n.Late, all.Unknown+n.Unknown
		all.Repeated, all.Unexpected = all.Repeated+n.Repeated, all.Unexpected+n.Unexpected
		strange += n.Strange
	}
	fmt.Fprintf(b, "\nAlerts: what the platform had to say by itself\n%s", st.table(t))
	if strange > 0 {
		fmt.Fprintf(b, "  %d more were about devices that are none of this run.\n", strange)
	}
	for _, x := range alertParts(&all) {
		if x.n == 0 {
			continue
		}
		style := bad
		if x.verdict == tally.Unsure {
			style = doubt
		}
		fmt.Fprintf(b, "\n%s: %s", st.paint(style, string(x.verdict)), x.meaning)
		if x.n > perVerdict {
			fmt.Fprintf(b, " (%d of %d shown)", perVerdict, x.n)
		}
		b.WriteByte('\n')
		shown := 0
		for i := range r.AlertFindings {
			if f := &r.AlertFindings[i]; f.Verdict == x.verdict && shown < perVerdict {
				shown++
				alertFinding(b, f, st)
			}
		}
	}
}

// alertFinding tells one alert, with its messages.
func alertFinding(b *strings.Builder, f *tally.AlertFinding, st Style) {
	fmt.Fprintf(b, "  %s %s", st.paint(head, f.Device), f.Alert)
	if !f.Heard.IsZero() {
		fmt.Fprintf(b, "  heard %s", stamp(f.Heard))
	}
	if f.Why != "" {
		fmt.Fprintf(b, "  %s", f.Why)
	}
	b.WriteByte('\n')
	turn := func(what string, t *tally.Turn) {
		if t != nil {
			fmt.Fprintf(b, "    %-10s %s #%d at %s  %s\n", what, f.Reading, t.Seq, stamp(t.Sent), clip(foreign.Line(t.Carried, 0)))
		}
	}
	turn("before", f.Before)
	turn("called by", f.Call)
	turn("armed by", f.Armed)
	if f.Said != "" {
		fmt.Fprintf(b, "    %-10s %s\n", "said", clip(f.Said))
	}
}

func stamp(t time.Time) string { return t.UTC().Format("15:04:05.000") }
