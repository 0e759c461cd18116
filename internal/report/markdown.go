package report

import (
	"fmt"
	"strings"

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
	w("## %s: %s, %d of %s proven\n\n", escape(r.Crowd), strings.ToUpper(summed(r).head), proven, plural(due, "message"))
	w("Run `%s`, %s, %s.", r.Run, r.Start.UTC().Format("2006-01-02 15:04:05 MST"), plural(r.DeviceCount, "device"))
	if text := Standing(r); text != "" {
		w(" **%s**", escape(text))
	}
	w("\n")
	for _, x := range remarks(r) {
		w("\n- %s", escape(x.What+x.More))
	}
	w("\n\n| requirement | wanted | got | state |\n|---|---|---|---|\n")
	for _, c := range in.Checks {
		state := string(c.State)
		if c.State != proof.Met {
			state = "**" + state + "**"
		}
		w("| %s | %s | %s | %s |\n", escape(c.Key), escape(c.Want), escape(c.Got), state)
	}
	w("\n| verdict | messages |\n|---|---:|\n")
	for _, v := range verdict.All() {
		if r.Total[v] > 0 {
			w("| %s | %d |\n", v, r.Total[v])
		}
	}
	if d := []struct {
		name string
		of   delays
	}{{"acknowledged", ms(r.Acknowledged)}, {"received", ms(r.Received)},
		{"stored", ms(r.Stored)}}; d[0].of.Messages+d[1].of.Messages+d[2].of.Messages > 0 {
		w("\n| time until | messages | p50 | p90 | p99 | worst |\n|---|---:|---:|---:|---:|---:|\n")
		for _, x := range d {
			if x.of.Messages > 0 {
				w("| %s | %d | %.1f ms | %.1f ms | %.1f ms | %.1f ms |\n", x.name, x.of.Messages, x.of.P50, x.of.P90, x.of.P99,
					x.of.Worst)
			}
		}
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
		w("\n| message | verdict | what was found |\n|---|---|---|\n")
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
			w("| %s %s #%d | %s | %s |\n", escape(f.Device), escape(f.Reading), f.Seq, f.Verdict,
				escape(strings.Join(says, "; ")))
		}
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
