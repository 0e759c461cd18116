package report

import (
	"fmt"
	"strings"

	"runcrowd/internal/grid"
	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// mostInMarkdown is how many findings a summary lists.
const mostInMarkdown = 10

// Markdown makes a summary for a ticket or the summary page of a CI system.
func Markdown(in *Input) string {
	var b strings.Builder
	r := in.Result
	w := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	due, proven := r.Total.Asked(), r.Total[verdict.Proven]
	word := strings.ToUpper(summed(r).head)
	if len(in.Checks) > 0 {
		word = endOf(in, false).word
	}
	w("## %s: %s, %d of %s proven\n\n", escape(r.Crowd), word, proven, plural(due, "message"))
	w("Run `%s`, %s, %s.", r.Run, r.Start.UTC().Format("2006-01-02 15:04:05 MST"), plural(r.DeviceCount, "device"))
	if text := Standing(r); text != "" {
		w(" **%s**", escape(text))
	}
	w("\n")
	if list := story(r); len(list) > 0 {
		w("%s\n", escape(strings.Join(list, " ")))
	}
	for _, x := range remarks(r) {
		w("\n- %s", escape(x.What+x.More))
	}
	t := grid.New("requirement", "wanted", "got", "state")
	for _, c := range in.Checks {
		t.Row(c.Key, c.Want, c.Got, c.State)
	}
	w("\n\n%s", t.Markdown(func(s string) string {
		if s == string(proof.NotMet) || s == string(proof.Undecided) {
			return "**" + s + "**"
		}
		return escape(s)
	}))
	t = grid.New("verdict", ">messages")
	for _, v := range verdict.All() {
		if r.Total[v] > 0 {
			t.Row(v, r.Total[v])
		}
	}
	w("\n%s", t.Markdown(escape))
	if d := []struct {
		name string
		of   delays
	}{{"acknowledged", ms(r.Acknowledged)}, {"received", ms(r.Received)},
		{"stored", ms(r.Stored)}}; d[0].of.Messages+d[1].of.Messages+d[2].of.Messages > 0 {
		t := grid.New("time until", ">messages", ">p50", ">p90", ">p99", ">worst")
		ms := func(x float64) string { return fmt.Sprintf("%.1f ms", x) }
		for _, x := range d {
			if x.of.Messages > 0 {
				t.Row(x.name, x.of.Messages, ms(x.of.P50), ms(x.of.P90), ms(x.of.P99), ms(x.of.Worst))
			}
		}
		w("\n%s", t.Markdown(escape))
	}
	for _, x := range r.Witnesses {
		if !x.Heard {
			w("\n**The witness %s was not heard to the end**: %s\n", escape(x.Name), escape(strings.Join(x.Why, "; ")))
		}
	}
	for i := range r.Counted {
		c := &r.Counted[i]
		if !c.Heard {
			w("\n**The witness %s could not count to the end.**\n", escape(c.Witness))
			continue
		}
		w("\nThe witness %s counts %d messages; %s went out.\n", escape(c.Witness), c.Theirs, ourCount(c.Least, c.Most))
	}
	if len(r.Findings) > 0 {
		t := grid.New("message", "verdict", "what was found")
		for i := range r.Findings[:min(mostInMarkdown, len(r.Findings))] {
			f := &r.Findings[i]
			var says []string
			for _, t := range f.Testimony {
				text := t.Witness + ": " + t.Says
				for _, d := range t.Differences {
					text += fmt.Sprintf(" (%s: sent %s, found %s)", d.Field, d.Sent, d.Found)
				}
				says = append(says, text)
			}
			if len(says) == 0 {
				says = append(says, f.Outcome+" "+f.Said)
			}
			t.Row(fmt.Sprintf("%s %s #%d", f.Device, f.Reading, f.Seq), f.Verdict, strings.Join(says, "; "))
		}
		w("\n%s", t.Markdown(escape))
		if n := due - proven; n > mostInMarkdown {
			w("\nand %d more.\n", n-min(mostInMarkdown, len(r.Findings)))
		}
	}
	return b.String()
}

// escape keeps a text from being read as Markdown or HTML.
func escape(s string) string {
	return strings.NewReplacer("\\", "\\\\", "|", "\\|", "`", "\\`", "*", "\\*", "_", "\\_", "[", "\\[", "<", "&lt;", "&",
		"&amp;", "\n", " ", "\r", " ").Replace(s)
}
