package report

import (
	"fmt"
	"strings"

	"runcrowd/internal/grid"
	"runcrowd/internal/tally"
)

// mostCounts is how many devices of a count are listed.
const mostCounts = 20

// counts tells what witnesses say that tell how many messages there are, beside ours.
func counts(b *strings.Builder, r *tally.Result, st Style) {
	for i := range r.Counted {
		c := &r.Counted[i]
		fits := c.Theirs >= c.Least && c.Theirs <= c.Most
		switch {
		case !c.Heard:
			fmt.Fprintf(b, "\n%s\n", st.paint(doubt, fmt.Sprintf("The witness %s could not count to the end", c.Witness)))
			continue
		case c.OfAll:
			fmt.Fprintf(b, "\n%s\n", st.paint(doubt, fmt.Sprintf("The witness %s counts %d messages, of all parts of the crowd together; %s went out of "+
				"those that are judged", c.Witness, c.Theirs, ourCount(c.Least, c.Most))))
			continue
		case c.Of == 0 || c.Differ == 0:
			style, how := good, ""
			if !fits {
				style = bad
			} else if c.Of > 0 {
				how = fmt.Sprintf(", and each of %s has its own", plural(c.Of, "device"))
			}
			fmt.Fprintf(b, "\n%s%s.\n", st.paint(style, fmt.Sprintf("The witness %s counts %d messages; %s went out", c.Witness,
				c.Theirs, ourCount(c.Least, c.Most))), how)
			continue
		}
		fmt.Fprintf(b, "\n%s\n", st.paint(bad, fmt.Sprintf("The witness %s counts %d messages, and %s went out; %d of %s "+
			"differ", c.Witness, c.Theirs, ourCount(c.Least, c.Most), c.Differ, plural(c.Of, "device"))))
		t := grid.New("device", "ours", "theirs", "")
		for i := range c.Devices[:min(len(c.Devices), c.Differ, mostCounts)] {
			d := &c.Devices[i]
			how := fmt.Sprintf("%d too many", d.Theirs-d.Most)
			if d.Theirs < d.Least {
				how = fmt.Sprintf("%d too few", d.Least-d.Theirs)
			}
			t.Row(d.Device, ourCount(d.Least, d.Most), d.Theirs, how)
		}
		b.WriteString(st.table(t))
		if c.Differ > mostCounts {
			fmt.Fprintf(b, "  and %d more; report.json has them\n", c.Differ-mostCounts)
		}
	}
}

func ourCount(least, most int64) string {
	if least == most {
		return fmt.Sprint(least)
	}
	return fmt.Sprintf("%d to %d", least, most)
}
