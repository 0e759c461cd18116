package report

import (
	"fmt"
	"io"
	"strings"

	"runcrowd/internal/foreign"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Lines is the form that messages prints for people: a line each.
func Lines(color bool) *Format {
	return &Format{Name: "text", Messages: true, open: func(w io.Writer) Sink {
		return &lines{w: w,
			st: Style{Color: color}}
	}}
}

type lines struct {
	w  io.Writer
	st Style
	n  tally.Counts
}

// Message implements Sink.
func (x *lines) Message(m *Message) error {
	v := byName(m.Verdict)
	x.n[v]++
	style := bad
	switch v {
	case verdict.Proven:
		style = good
	case verdict.Unknown, verdict.Dropped:
		style = doubt
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s %s #%d", x.st.paint(style, fmt.Sprintf("%-14s", m.Verdict)), m.Device, m.Reading, m.Seq)
	if m.Due != nil {
		fmt.Fprintf(&b, "  due %s", m.Due.Format("15:04:05.000"))
	}
	if m.Sent != nil && m.Due != nil {
		fmt.Fprintf(&b, "  sent %s later", verdict.Span(m.Sent.Sub(*m.Due)))
	}
	fmt.Fprintf(&b, "  %s", m.Outcome)
	if m.Answered != nil && m.Sent != nil {
		fmt.Fprintf(&b, " after %s", verdict.Span(m.Answered.Sub(*m.Sent)))
	}
	if m.Said != "" {
		fmt.Fprintf(&b, " (%s)", m.Said)
	}
	for i := range m.Witnesses {
		t := &m.Witnesses[i]
		says := t.State
		if t.Says != "" && t.State != verdict.Found.String() {
			says = t.Says
		}
		if t.State == verdict.Unasked.String() {
			continue
		}
		fmt.Fprintf(&b, "  %s: %s", t.Witness, says)
		if at := t.Seen; m.Sent != nil && at != nil && t.State == verdict.Found.String() {
			// By the platform's clock, where that can be ours.
			if x := t.Stored; x != nil && !x.Before(*m.Sent) && !x.After(*at) {
				at = x
			}
			fmt.Fprintf(&b, " after %s", verdict.Span(max(0, at.Sub(*m.Sent))))
		}
	}
	fmt.Fprintf(&b, "  %s", x.st.paint(faint, clipped(foreign.Line(string(foreign.JSON(m.Carried)), 0), 200)))
	for i := range m.Witnesses {
		for _, d := range differences(m.Witnesses[i].Differences) {
			fmt.Fprintf(&b, "\n%16s%s: %s", "", m.Witnesses[i].Witness, d)
		}
	}
	b.WriteString("\n")
	_, err := io.WriteString(x.w, b.String())
	return err
}

// End implements Sink.
func (x *lines) End(*Input) error {
	if x.n.Due() == 0 {
		_, err := fmt.Fprintln(x.w, "No message fits.")
		return err
	}
	var parts []string
	for _, v := range verdict.All() {
		if x.n[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", x.n[v], v))
		}
	}
	_, err := fmt.Fprintf(x.w, "\n%s: %s\n", plural(x.n.Due(), "message"), strings.Join(parts, ", "))
	return err
}
