package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"runcrowd/internal/grid"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Style says how a text report is drawn.
type Style struct {
	Color bool
	Width int // of the terminal; 0: tables are as wide as they are
}

// table is a table that fits.
func (st Style) table(t *grid.Grid, spare ...string) string {
	text, _ := t.Fit("  ", true, st.Width, spare...)
	return text
}

const (
	worstDevices = 5 // named at most
	perVerdict   = 3 // messages shown at most
)

func (s Style) paint(c text.Colors, t string) string {
	if !s.Color {
		return t
	}
	// Not c.Sprint: that asks a global switch.
	return c.EscapeSeq() + t + text.Reset.EscapeSeq()
}

var (
	good  = text.Colors{text.FgGreen, text.Bold}
	bad   = text.Colors{text.FgRed, text.Bold}
	doubt = text.Colors{text.FgYellow, text.Bold}
	faint = text.Colors{text.Faint}
	head  = text.Colors{text.Bold}
)

// Text makes the report for people.
func Text(in *Input, st Style) string {
	var b strings.Builder
	r := in.Result
	due := r.Total.Due()
	w := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }

	w("%s  run %s, %s, %s, %s due\n\n", st.paint(head, r.Crowd), r.Run, r.Start.UTC().Format("2006-01-02 15:04:05 MST"),
		plural(r.DeviceCount, "device"), plural(due, "message"))
	headline(&b, in, st)
	w("\n")
	proofs(&b, r, st)
	w("\n")
	b.WriteString(kinds(r, st))
	if len(r.Rounds) > 1 {
		w("\n")
		b.WriteString(rounds(r, st))
	}
	b.WriteString(delayTable(r, st))
	asides(&b, r)
	alerts(&b, r, st)
	counts(&b, r, st)
	actions(&b, r, st)
	commands(&b, r, st)
	b.WriteString(devices(r, st))
	b.WriteString(holes(r))
	b.WriteString(alike(r))
	b.WriteString(findings(r, st))
	w("\n%s\n", st.paint(head, "Requirements"))
	for _, c := range in.Checks {
		style, note := good, ""
		switch c.State {
		case proof.Undecided:
			style, note = doubt, "  not everything is known"
		case proof.NotMet:
			style = bad
		}
		w("  %s  %s: %s   %s%s\n", st.paint(style, fmt.Sprintf("%-9s", c.State)), c.Key, c.Want, st.paint(faint, c.Got), note)
	}
	return b.String()
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// headline says in one or two lines how it went.
func headline(b *strings.Builder, in *Input, st Style) {
	r := in.Result
	due, proven := r.Total.Asked(), r.Total[verdict.Proven]
	if text := Standing(r); text != "" {
		b.WriteString(text + "\n")
	}
	sum := summed(r)
	style := bad
	if len(in.Checks) > 0 {
		x := endOf(in, false)
		fmt.Fprintf(b, "%s  %s\n", st.paint(styles[x.state], x.word), x.what)
		if x.state == proof.Met { // it may be short of all, as far as is required
			style = faint
		}
	}
	switch {
	case sum.good:
		style = good
	case sum.doubt:
		style = doubt
	}
	word := st.paint(style, strings.ToUpper(sum.head))
	switch {
	case due == 0:
		fmt.Fprintf(b, "%s  No message was due. Is a reading's interval longer than the plan?\n", word)
	case proven == due:
		if r.MustNot > 0 && due > r.MustNot {
			fmt.Fprintf(b, "%s  %s: %d%s; %d kept out\n", word, plural(due, "message"), due-r.MustNot, everyProof(r), r.MustNot)
			break
		}
		if r.MustNot > 0 {
			fmt.Fprintf(b, "%s  all %s kept out, as they must be\n", word, plural(due, "message"))
			break
		}
		all := "all "
		if due == 1 {
			all = ""
		}
		fmt.Fprintf(b, "%s  %s%s:%s\n", word, all, plural(due, "message"), everyProof(r))
	case sum.doubt:
		fmt.Fprintf(b, "%s  %d of %s proven; %d unknown\n", word, proven, plural(due, "message"), due-proven)
	default:
		var parts []string
		for _, v := range verdict.All() {
			if v != verdict.Proven && r.Total[v] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", r.Total[v], v))
			}
		}
		fmt.Fprintf(b, "%s  %d of %s proven; %s\n", word, proven, plural(due, "message"), strings.Join(parts, ", "))
	}
	for _, s := range story(r) {
		fmt.Fprintf(b, "%s\n", s)
	}
	alertLine(b, r, st)
	for _, x := range remarks(r) {
		if x.Grave {
			x.What = st.paint(bad, x.What)
		}
		fmt.Fprintf(b, "%s%s\n", x.What, x.More)
	}
}

// Ending is one line that says how a run went, as the exit code does: what is required decides.
// cut tells that the run was interrupted.
func Ending(in *Input, cut bool, st Style) string {
	x := endOf(in, cut)
	return fmt.Sprintf("%s  %s; %d of %s proven\n", st.paint(styles[x.state], x.word), x.what, in.Result.Total[verdict.Proven],
		plural(in.Result.Total.Asked(), "message"))
}

// styles are those of the words that tell how a run ended.
var styles = map[proof.State]text.Colors{proof.Met: good, proof.NotMet: bad, proof.Undecided: doubt}

func were(n int) string {
	if n == 1 {
		return "1 message was"
	}
	return fmt.Sprintf("%d messages were", n)
}

func are(n int) string {
	if n == 1 {
		return "1 message is"
	}
	return fmt.Sprintf("%d messages are", n)
}

// such gives examples of many.
func such(list []string, of int) string {
	switch {
	case len(list) == 0:
		return ""
	case len(list) == of:
		return " (" + strings.Join(list, ", ") + ")"
	}
	return " (such as " + strings.Join(list, ", ") + ")"
}

// wasAsked tells whether a proof was asked for.
func wasAsked(r *tally.Result, name string) bool {
	for _, p := range r.Proofs {
		if p.Name == name {
			return p.Asked > 0
		}
	}
	return false
}

// everyProof names the proofs that were had of every message, and of how many the others.
func everyProof(r *tally.Result) string {
	var list []string
	witnessed := false
	for _, p := range r.Proofs {
		if p.Asked == 0 || p.AsSent != p.Asked {
			continue
		}
		witnessed = witnessed || p.Name != "acknowledged"
		if p.NotAsked > 0 {
			list = append(list, fmt.Sprintf("%d %s", p.Asked, p.Name))
		} else {
			list = append(list, p.Name)
		}
	}
	if len(list) == 0 {
		return ""
	}
	said := " " + list[0]
	if n := len(list); n > 1 {
		said = " " + strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	if !witnessed {
		return said + " (no witness looked for them)"
	}
	return said + " once, as sent"
}

func proofs(b *strings.Builder, r *tally.Result, st Style) {
	by := map[string][]string{}
	how := map[string]string{"acknowledged": "the platform's own answer to each message", "received": "came out of the " +
		"platform, by the witness ",
		"stored": "found where the platform keeps it, by the witness "}
	for _, w := range r.Witnesses {
		by[w.Proves] = append(by[w.Proves], w.Name)
	}
	for _, p := range r.Proofs {
		var line string
		switch {
		case p.Name != "acknowledged" && len(by[p.Name]) == 0:
			line = st.paint(faint, "not checked (no witness for it)")
		case p.Asked == 0:
			line = st.paint(faint, "not asked")
			switch {
			case r.Total.Asked() == r.MustNot:
				line += st.paint(faint, ": no message was due that should be")
			case p.Name == "acknowledged":
				line += st.paint(faint, ": QoS 0 gives no acknowledgement")
			}
		default:
			c := good
			if p.AsSent < p.Asked {
				c = bad
				if p.AsSent+p.Unknown+p.Open == p.Asked {
					c = doubt
				}
			}
			count := fmt.Sprintf("%6d of %d", p.Seen, p.Asked)
			if p.Seen != p.AsSent+p.Open { // found, but altered, repeated, late or elsewhere
				count += fmt.Sprintf(" seen, %d as sent", p.AsSent)
			}
			line = st.paint(c, count) + st.paint(faint, "   "+how[p.Name]+strings.Join(by[p.Name], ", "))
			if p.Open > 0 {
				line += fmt.Sprintf(", %d of them partly unknown", p.Open)
			}
			if p.Unknown > 0 {
				line += fmt.Sprintf(", %d not known", p.Unknown)
			}
			if p.NotAsked > 0 {
				why := "not looked for"
				if p.Name == "acknowledged" {
					why = "not asked (QoS 0)"
				}
				line += fmt.Sprintf(", %d %s", p.NotAsked, why)
			}
		}
		fmt.Fprintf(b, "  %-13s %s\n", p.Name, line)
	}
	if r.MustNot > 0 {
		c := good
		if r.KeptOut < r.MustNot {
			c = bad
		}
		fmt.Fprintf(b, "  %-13s %s\n", "kept out", st.paint(c, fmt.Sprintf("%6d of %d", r.KeptOut, r.MustNot))+
			st.paint(faint, "   had to be refused or discarded, and to be found nowhere"))
	}
	for _, w := range r.Witnesses {
		for _, why := range w.Why {
			fmt.Fprintf(b, "  %s %s: %s\n", st.paint(doubt, "witness"), w.Name, why)
		}
	}
}

// columns are the verdicts that the table shows: those that occur, and proven.
func columns(r *tally.Result) []verdict.Verdict {
	list := []verdict.Verdict{verdict.Proven}
	for _, v := range verdict.All() {
		if v != verdict.Proven && r.Total[v] > 0 {
			list = append(list, v)
		}
	}
	return list
}

func verdictTable(first string, groups []tally.Group, total *tally.Group, cols []verdict.Verdict, st Style) string {
	t := grid.New(first, ">due")
	for _, v := range cols {
		t.Column(">" + v.String())
	}
	row := func(g *tally.Group) []any {
		r := []any{g.Name, g.Counts.Due()}
		for _, v := range cols {
			if g.Counts[v] == 0 {
				r = append(r, "-")
			} else {
				r = append(r, g.Counts[v])
			}
		}
		return r
	}
	for i := range groups {
		t.Row(row(&groups[i])...)
	}
	if total != nil {
		t.Sum(row(total)...)
	}
	return st.table(t)
}

func kinds(r *tally.Result, st Style) string {
	var total *tally.Group
	if len(r.Kinds) > 1 {
		total = &tally.Group{Name: "all", Counts: r.Total}
	}
	return verdictTable("kind", r.Kinds, total, columns(r), st)
}

func rounds(r *tally.Result, st Style) string {
	list := r.Rounds
	const most = 12
	cut := 0
	if len(list) > most {
		cut = len(list) - most
		list = list[cut:]
	}
	s := verdictTable("round", list, nil, columns(r), st)
	if cut > 0 {
		s += fmt.Sprintf("  (and %d rounds before these; all are in %s)\n", cut, "report.json")
	}
	return s
}

func delayTable(r *tally.Result, st Style) string {
	t := grid.New("time", ">p50", ">p90", ">p99", ">worst", "")
	for _, d := range []struct {
		name, note string
		d          tally.Delays
	}{
		{"behind schedule", "sent after it was due", r.Lag},
		{"to acknowledgement", "after it was sent", r.Acknowledged},
		{"to reception", "after it was sent", r.Received},
		{"to storage", "after it was sent", r.Stored},
	} {
		if d.d.N > 0 {
			t.Row(d.name, verdict.Span(d.d.P50), verdict.Span(d.d.P90), verdict.Span(d.d.P99), verdict.Span(d.d.Worst), d.note)
		}
	}
	if len(t.Rows) == 0 {
		return ""
	}
	return "\n" + st.table(t)
}

// asides are counts beside the verdicts.
func asides(b *strings.Builder, r *tally.Result) {
	var list []string
	if r.OutOfOrder > 0 {
		list = append(list, fmt.Sprintf("%d out of order%s", r.OutOfOrder, behind(r.OutOfOrderAt)))
	}
	if r.UnmatchedCount > 0 {
		list = append(list, fmt.Sprintf("%d unmatched (sightings of this run that match no message sent)", r.UnmatchedCount))
	}
	if r.Resent > 0 {
		list = append(list, fmt.Sprintf("%d sent more than once", r.Resent))
	}
	if len(list) > 0 {
		fmt.Fprintf(b, "\n  Beside the verdicts: %s.\n", strings.Join(list, "; "))
	}
	for _, s := range r.Unmatched[:min(3, len(r.Unmatched))] {
		fmt.Fprintf(b, "    unmatched at %s: %s\n", s.Witness, s.Mark)
	}
	if r.Links.Drops > 0 {
		fmt.Fprintf(b, "\n  Connections were lost or failed %s:\n", times(r.Links.Drops))
		reasons(b, r.Links.Why)
	}
	for _, c := range r.Closings {
		if c.Times < 2 {
			continue
		}
		more := ""
		if c.Devices > 1 {
			more = fmt.Sprintf(", and %d times in all with %d devices", c.Times, c.Devices)
		}
		fmt.Fprintf(b, "  The platform closed the connection %s right after %s #%d of %s%s.\n", times(c.Most), c.Reading,
			c.Seq, c.Device, more)
	}
	if len(r.Links.Remarks) > 0 {
		fmt.Fprintf(b, "\n  Connections with something to mention:\n")
		reasons(b, r.Links.Remarks)
	}
	for _, x := range r.Left {
		kept := "without end"
		if x.Kept > 0 {
			kept = "for " + quantity.FormatDuration(x.Kept)
		}
		fmt.Fprintf(b, "\n  Sessions were left on the broker by %s of the link %s: it keeps them %s; end_session: true "+
			"ends them.\n", plural(x.Devices, "device"), x.Link, kept)
	}
	for _, x := range r.Retained {
		fmt.Fprintf(b, "\n  Retained messages were left on the broker of the link %s, on %s; runcrowd unregister FILE removes "+
			"those of readings and wills.\n", x.Link, plural(x.Topics, "topic"))
	}
	if r.Links.Renewed > 0 {
		fmt.Fprintf(b, "\n  Access tokens were renewed %s.\n", times(r.Links.Renewed))
	}
}

// reasons lists why something happened, the most frequent first.
func reasons(b *strings.Builder, why map[string]int) {
	list := slices.Collect(maps.Keys(why))
	slices.SortFunc(list, func(x, y string) int { return cmp.Or(why[y]-why[x], strings.Compare(x, y)) })
	for _, x := range list[:min(5, len(list))] {
		fmt.Fprintf(b, "  %5d  %s\n", why[x], x)
	}
}

// mostActions is how many actions of events are listed.
const mostActions = 20

// actions tells what the plan did to devices.
func actions(b *strings.Builder, r *tally.Result, st Style) {
	if len(r.Actions) == 0 {
		return
	}
	fmt.Fprintf(b, "\n")
	t := grid.New("event", "what was done", ">times", ">devices", "first", "last", "")
	for _, x := range r.Actions[:min(mostActions, len(r.Actions))] {
		what := x.Kind
		if x.Name != "" {
			what += " " + x.Name
		}
		if x.Value != "" && x.Kind != "send" {
			what += ": " + clipped(x.Value, 40)
		}
		note := ""
		if x.Failed > 0 {
			note = fmt.Sprintf("could not be done %s: %s", times(x.Failed), x.Why)
		}
		at := func(t time.Time) string { return t.UTC().Format("15:04:05") }
		t.Row(x.Event, what, x.Times, x.Devices, at(x.First), at(x.Last), note)
	}
	b.WriteString(st.table(t, "last", "first"))
	if n := len(r.Actions) - mostActions; n > 0 {
		fmt.Fprintf(b, "  … and %d more\n", n)
	}
	if n := r.Total[verdict.Dropped]; n > 0 {
		fmt.Fprintf(b, "  Devices dropped %s, as the plan says: no share counts them.\n", plural(n, "message"))
	}
}

// clipped is a text of at most so many characters.
func clipped(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// commands tells what the platform asked of the devices.
func commands(b *strings.Builder, r *tally.Result, st Style) {
	if len(r.Links.NotHearing) > 0 {
		fmt.Fprintf(b, "\n  Devices could not listen for commands:\n")
		reasons(b, r.Links.NotHearing)
	}
	if len(r.Commands) == 0 {
		return
	}
	number := func(n int) string {
		if n == 0 {
			return "-"
		}
		return fmt.Sprint(n)
	}
	failed := false
	for _, a := range r.Commands {
		failed = failed || a.Failed > 0
	}
	onPurpose := ""
	for _, a := range r.Commands {
		if a.Wrongly+a.Silent > 0 {
			onPurpose = " (wrongly and silent: on purpose, as the file says)"
		}
	}
	t := grid.New("command", ">came", ">obeyed", ">answered", ">wrongly", ">silent", ">answer after p50", ">worst")
	if failed {
		t.Column(">answer not taken")
	}
	for _, a := range r.Commands {
		name, p50, worst := a.Name, "-", "-"
		if name == "" {
			name = "(not known)"
		}
		if a.Delays.N > 0 {
			p50, worst = verdict.Span(a.Delays.P50), verdict.Span(a.Delays.Worst)
		}
		row := []any{name, number(a.Came), number(a.Obeyed), number(a.Answered), number(a.Wrongly), number(a.Silent), p50, worst}
		if failed {
			row = append(row, number(a.Failed))
		}
		t.Row(row...)
	}
	fmt.Fprintf(b, "\nCommands to the devices%s\n%s", onPurpose, st.table(t, "worst", "silent", "wrongly"))
	for _, m := range r.Mishaps[:min(perVerdict, len(r.Mishaps))] {
		name := m.Command
		if name == "" {
			name = m.Topic + " " + clip(m.Body)
		}
		fmt.Fprintf(b, "  %s %s at %s: %s\n", m.Device, name, m.At.UTC().Format("15:04:05.000"), m.Why)
	}
	if more := len(r.Mishaps) - perVerdict; more > 0 {
		fmt.Fprintf(b, "  … and more; report.json has them\n")
	}
}

// clip cuts a long text short, in one line.
func clip(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "?")), " ")
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

func devices(r *tally.Result, _ Style) string {
	if len(r.Devices) == 0 || r.DeviceCount == 1 {
		return ""
	}
	var b strings.Builder
	if len(r.Devices) <= worstDevices {
		fmt.Fprintf(&b, "\nDevices with messages that are not proven\n")
	} else {
		fmt.Fprintf(&b, "\nWorst devices, of %d with messages that are not proven\n", len(r.Devices))
	}
	for _, g := range r.Devices[:min(worstDevices, len(r.Devices))] {
		var parts []string
		for _, v := range verdict.All() {
			if v != verdict.Proven && g.Counts[v] > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", g.Counts[v], v))
			}
		}
		fmt.Fprintf(&b, "  %-20s %d of %d: %s\n", g.Name, g.Counts.Due()-g.Counts[verdict.Proven], g.Counts.Due(),
			strings.Join(parts, ", "))
	}
	return b.String()
}

// behind tells which messages came out of order.
func behind(list []tally.Behind) string {
	var parts []string
	for _, x := range list[:min(len(list), 3)] {
		var ranges []string
		for _, r := range x.Ranges[:min(len(x.Ranges), 4)] {
			ranges = append(ranges, span(r[0], r[1]))
		}
		if len(x.Ranges) > 4 {
			ranges = append(ranges, "…")
		}
		parts = append(parts, fmt.Sprintf("%s %s %s", x.Device, x.Reading, strings.Join(ranges, ", ")))
	}
	if len(list) > 3 {
		parts = append(parts, "…")
	}
	if len(parts) == 0 {
		return ""
	}
	return " (" + strings.Join(parts, "; ") + ")"
}

func span(from, to uint64) string {
	if from == to {
		return fmt.Sprintf("#%d", from)
	}
	return fmt.Sprintf("#%d..%d", from, to)
}

// mostHoles is how many rows of messages are told.
const mostHoles = 8

// holes tells where many messages in a row are not proven, and why.
func holes(r *tally.Result) string {
	if len(r.Holes) == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteString("\nGaps: messages in a row that are not proven\n")
	for _, h := range r.Holes[:min(len(r.Holes), mostHoles)] {
		when := ""
		if !h.FirstDue.IsZero() && !h.LastDue.IsZero() {
			when = fmt.Sprintf(", %s to %s", h.FirstDue.UTC().Format("15:04:05"), h.LastDue.UTC().Format("15:04:05"))
		}
		why := ""
		if h.Why != "" {
			why = ": " + h.Why
		}
		fmt.Fprintf(&b, "  %s %s %s%s, %s%s\n", h.Device, h.Reading, span(h.From, h.To), when, h.Verdict, why)
	}
	if more := r.HoleCount - min(len(r.Holes), mostHoles); more > 0 {
		fmt.Fprintf(&b, "  … and %d more\n", more)
	}
	return b.String()
}

// mostAlike is how many ways of altering are told.
const mostAlike = 8

// alike tells in what way messages were altered, each way in a line: from two messages on.
func alike(r *tally.Result) string {
	var b strings.Builder
	n := 0
	for _, a := range r.Alike {
		if a.Messages < 2 {
			break
		}
		if n++; n == 1 {
			b.WriteString("\nHow messages were altered\n")
		}
		if n > mostAlike {
			fmt.Fprintf(&b, "  … and in %d other ways; report.json has them\n", len(r.Alike)-mostAlike)
			break
		}
		note := a.Note
		if note == "" {
			note = "has other values"
		}
		example := ""
		if note != "missing" {
			example = fmt.Sprintf(", such as %s -> %s", a.Sent, a.Found)
		}
		fmt.Fprintf(&b, "  %6d  %s %s, found by %s: %s %s%s\n", a.Messages, a.Kind, a.Reading, a.Witness, a.Field, note,
			example)
	}
	return b.String()
}

func findings(r *tally.Result, st Style) string {
	var b strings.Builder
	shown := map[string]int{}
	for i := range r.Findings {
		f := &r.Findings[i]
		if shown[f.Verdict]++; shown[f.Verdict] > perVerdict {
			continue
		}
		if shown[f.Verdict] == 1 {
			v := byName(f.Verdict)
			c := bad
			if v == verdict.Unknown {
				c = doubt
			}
			fmt.Fprintf(&b, "\n%s: %s", st.paint(c, f.Verdict), v.Meaning())
			if n := r.Total[v]; n > perVerdict {
				fmt.Fprintf(&b, " (%d of %d shown)", perVerdict, n)
			}
			b.WriteByte('\n')
		}
		b.WriteString(finding(f, st))
	}
	return b.String()
}

func byName(name string) verdict.Verdict {
	for _, v := range verdict.All() {
		if v.String() == name {
			return v
		}
	}
	return verdict.Unknown
}

// finding tells one message: what was sent, answered and found.
func finding(f *verdict.Finding, st Style) string {
	var b strings.Builder
	fmt.Fprintf(&b, "  %s %s #%d", st.paint(head, f.Device), f.Reading, f.Seq)
	if f.Sent != nil {
		fmt.Fprintf(&b, "  sent %s", f.Sent.UTC().Format("15:04:05.000"))
	} else if !f.Due.IsZero() {
		fmt.Fprintf(&b, "  due %s", f.Due.UTC().Format("15:04:05.000"))
	}
	if f.Attempts > 1 {
		fmt.Fprintf(&b, " (%d times)", f.Attempts)
	}
	switch f.Outcome {
	case "accepted":
		fmt.Fprintf(&b, ", acknowledged after %s", verdict.Span(f.Took))
	case "not asked":
		b.WriteString(", no acknowledgement asked")
	case "open":
		b.WriteString(", no answer")
	default:
		fmt.Fprintf(&b, ", %s", f.Outcome)
	}
	if f.Said != "" {
		fmt.Fprintf(&b, ": %s", f.Said)
	}
	b.WriteByte('\n')
	for _, t := range f.Testimony {
		fmt.Fprintf(&b, "    %-8s %s", t.Witness, t.Says)
		if len(t.Differences) > 0 {
			parts := differences(t.Differences)
			const most = 4
			if len(parts) > most {
				parts = append(parts[:most], fmt.Sprintf("and %d more fields", len(parts)-most))
			}
			fmt.Fprintf(&b, ": %s", strings.Join(parts, ", "))
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// differences are values that differ, field by field: what was sent, and what was found.
func differences(list []verdict.Difference) (parts []string) {
	for _, d := range list {
		if d.Unit != "" {
			d.Sent += " " + d.Unit
		}
		switch {
		case d.Note == "missing":
			parts = append(parts, fmt.Sprintf("%s %s -> missing", d.Field, d.Sent))
		case d.Note != "":
			parts = append(parts, fmt.Sprintf("%s %s -> %s (%s)", d.Field, d.Sent, d.Found, d.Note))
		default:
			parts = append(parts, fmt.Sprintf("%s %s -> %s", d.Field, d.Sent, d.Found))
		}
	}
	return parts
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
