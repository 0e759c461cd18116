package cli

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"runcrowd/internal/chart"
	"runcrowd/internal/check"
	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/wholefile"
)

// previewing is what preview was asked for.
type previewing struct {
	with    changes
	count   int
	devices []string
	reading string
	at      string
	after   string
	plain   bool
	format  string
	plot    string
	out     string
	story   bool
	values  bool
	force   bool
}

func (e *env) preview() *cobra.Command {
	var p previewing
	cmd := &cobra.Command{
		Use:   "preview [FILE]",
		Short: "Show the messages that a crowd file would send, without sending any",
		Long: `Preview makes messages as a run would make them and shows each to the byte: topic
or request, headers, and payload, with sizes. Nothing is sent. The run's name in
the marks is ` + engine.PreviewRun + `, which is as long as that of a run.

Without --who it shows the first device of each kind. With --plot it draws a
field over the plan, for up to six devices, in the terminal or into a file. With
--values it draws all fields of a device, one below the other. With --timeline it draws the
events of the plan: what happens, to whom, when.

Secrets are not shown; the sizes are those of the whole message all the same.`,
		Example: `  runcrowd preview harbour/crowd.yaml
  runcrowd preview harbour/crowd.yaml --who buoy-007 -n 3 --at 15:00
  runcrowd preview harbour/crowd.yaml --plot wave_m --who 'first 3 of buoy'
  runcrowd preview harbour/crowd.yaml --plot battery_v --out battery.svg
  runcrowd preview harbour/crowd.yaml --values --who buoy-007
  runcrowd preview harbour/crowd.yaml --timeline`,
		Args: oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := checkFormat(p.format); err != nil {
				return err
			}
			if p.count < 1 || p.count > 10_000 {
				return fmt.Errorf("-n is from 1 to 10000, not %d", p.count)
			}
			if p.out != "" && p.plot == "" && !p.story {
				return errors.New("--out goes with --plot and --timeline: it names the picture to write")
			}
			pictures := 0
			for _, asked := range []bool{p.plot != "", p.story, p.values} {
				if asked {
					pictures++
				}
			}
			if pictures > 1 {
				return errors.New("--plot, --values and --timeline are different pictures; ask for one of them")
			}
			if p.out != "" {
				if err := wholefile.Free(p.out, p.force); err != nil {
					return fmt.Errorf("--out: %w", err)
				}
			}
			return e.previewFile(crowdFile(args), &p)
		},
	}
	p.with.flag(cmd)
	f := cmd.Flags()
	f.IntVarP(&p.count, "count", "n", 1, "how many messages of each reading")
	f.StringArrayVar(&p.devices, "who", nil, "whose messages: a name, kind, tag, pattern, share or formula (may be "+
		"given more than once)")
	f.StringVar(&p.reading, "reading", "", "only this reading")
	f.StringVar(&p.at, "at", "", "when the plan begins: a time of today (UTC) such as 15:00, or RFC 3339; now if not "+
		"given")
	f.StringVar(&p.after, "after", "0s", "skip what is due before so much of the plan is over, such as 5m")
	f.BoolVar(&p.plain, "plain", false, "the payload as it is sent, not laid out")
	f.StringVar(&p.format, "format", "text", "text or json")
	f.StringVar(&p.plot, "plot", "", "draw this field over the plan")
	f.BoolVar(&p.values, "values", false, "draw all fields of a device over the plan, one below the other")
	f.BoolVar(&p.story, "timeline", false, "draw what happens in a round: its events")
	f.StringVar(&p.out, "out", "", "write the picture to this file, .png or .svg")
	f.BoolVar(&p.force, "force", false, "write over a file that is there already")
	return cmd
}

func (e *env) previewFile(path string, p *previewing) error {
	f, err := loadFleet(path, p.with)
	if err != nil {
		return err
	}
	begin, err := parseMoment(p.at, time.Now())
	if err != nil {
		return err
	}
	if p.at == "" {
		begin = begins(&f.Crowd.Plan, begin)
	}
	after, err := quantity.ParseDuration(p.after)
	if err != nil {
		return fmt.Errorf("--after: %w", err)
	}
	if p.story {
		return e.timeline(f, p)
	}
	if lasts := f.Crowd.Plan.Lasts(begin); after < 0 || after >= lasts {
		return fmt.Errorf("--after: %s does not lie within the plan, which takes %s", p.after, quantity.FormatDuration(lasts))
	}
	devices, err := selectDevices(f, "who", p.devices)
	if err != nil {
		return err
	}
	if len(p.devices) == 0 {
		devices = firstOfKinds(devices)
	}
	streams, err := streamsOf(f, devices, p.reading)
	if err != nil {
		return err
	}
	if p.plot != "" {
		return e.plotField(f, streams, begin, p)
	}
	if p.values {
		return e.plotValues(f, devices, streams, begin)
	}
	counts := map[*fleet.Stream]int{}
	var docs []any
	left := len(streams) * p.count
	first, never := true, true
	engine.Rehearse(f, streams, begin, func(r *engine.Rehearsed) bool {
		if r.Due.Sub(begin) < after || counts[r.Stream] == p.count {
			return true
		}
		counts[r.Stream]++
		left--
		never = false
		if p.format == "json" {
			docs = append(docs, previewDoc(f, r, begin))
		} else {
			if !first {
				fmt.Fprintln(e.stdout)
			}
			first = false
			out := e.stdout
			if p.plain { // a body as it is
				out = e.raw
			}
			fmt.Fprint(out, e.previewText(f, r, begin, p.plain))
		}
		return left > 0
	})
	switch {
	case p.format == "json":
		if docs == nil {
			docs = []any{}
		}
		return e.json(map[string]any{"crowd": f.Crowd.Name, "begin": begin.UTC(), "messages": docs})
	case never:
		fmt.Fprintf(e.stdout, "Nothing is due for %s in what is left of the plan.\n", plural(len(devices), "device"))
	case len(p.devices) == 0 && len(f.Devices) > len(devices):
		fmt.Fprintf(e.stdout, "\nThe first device of each kind; --who shows others of the %d, -n shows more.\n",
			len(f.Devices))
	}
	return nil
}

// firstOfKinds is the first device of each kind.
func firstOfKinds(devices []*fleet.Device) []*fleet.Device {
	var list []*fleet.Device
	seen := map[*crowd.Kind]bool{}
	for _, d := range devices {
		if !seen[d.Cast.Kind] {
			seen[d.Cast.Kind] = true
			list = append(list, d)
		}
	}
	return list
}

func streamsOf(f *fleet.Fleet, devices []*fleet.Device, reading string) ([]*fleet.Stream, error) {
	var streams []*fleet.Stream
	var known []string
	for _, d := range devices {
		for _, s := range d.Streams {
			known = append(known, s.Reading.Name)
			if reading == "" || s.Reading.Name == reading {
				streams = append(streams, s)
			}
		}
	}
	if len(streams) == 0 && reading != "" {
		return nil, unknownName("--reading", "these devices have no reading", reading, known)
	}
	return streams, nil
}

// unknownName is the error for a name that is none, with what it may have meant.
func unknownName(flag, what, name string, known []string) error {
	slices.Sort(known)
	known = slices.Compact(known)
	return fmt.Errorf("%s: %s %q%s", flag, what, name, formula.Hint(name, known))
}

func (e *env) paint(c text.Color, s string) string {
	if e.colored(e.stdout) {
		return c.Sprint(s)
	}
	return s
}

// previewText shows one message.
func (e *env) previewText(f *fleet.Fleet, r *engine.Rehearsed, begin time.Time, plain bool) string {
	s, w, l := r.Stream, &r.Written, r.Stream.Device.Cast.Link
	var b strings.Builder
	number := fmt.Sprintf("#%d", r.Seq)
	if n := len(w.Carried); n > 1 {
		number = fmt.Sprintf("#%d to #%d, a batch of %d", r.Seq, r.Seq+uint64(n)-1, n)
	}
	title := fmt.Sprintf("%s %s %s", s.Device.Name, s.Reading.Name, number)
	fmt.Fprintf(&b, "%s, due %s after the beginning, at %s\n", e.paint(text.Bold, title),
		r.Due.Sub(begin).Round(time.Millisecond), r.Due.UTC().Round(time.Millisecond).Format("2006-01-02 15:04:05.000Z"))
	line := func(name, format string, args ...any) {
		fmt.Fprintf(&b, "  %s %s\n", e.paint(text.Faint, fmt.Sprintf("%-9s", name)),
			f.Crowd.Redact(fmt.Sprintf(format, args...)))
	}
	if l.Protocol == crowd.MQTT {
		version := "5"
		if l.Version == 4 {
			version = "3.1.1"
		}
		line("link", "%s: MQTT %s to %s, client id %s", l.Name, version, l.Address, s.Device.ClientID)
		retain := ""
		if s.Reading.Retain {
			retain = ", retained"
		}
		line("topic", "%s", s.Target)
		line("sent with", "QoS %d%s%s", s.Reading.QoS, retain, properties(s, w, l.Version))
	} else {
		line("link", "%s: HTTP to %s", l.Name, l.Address)
		for i, h := range check.RequestHead(s, *w) {
			name := ""
			if i == 0 {
				name = "request"
			}
			line(name, "%s", h)
		}
	}
	if list := callsFor(f, r); len(list) > 0 {
		line("calls for", "%s", strings.Join(list, ", "))
	}
	line("size", "%s of payload, %s on the wire with its acknowledgement", plural(len(w.Body), "byte"),
		plural(check.WireSize(s, *w), "byte"))
	var units []string
	for i := range s.Reading.Fields {
		if x := &s.Reading.Fields[i]; x.Unit != "" {
			units = append(units, x.Name+" in "+x.Unit)
		}
	}
	if x := s.Device.Will; x != nil && r.Seq == 1 {
		line("will", "%s, QoS %d: %s", x.Topic, x.QoS, x.Body)
	}
	if k := s.Device.Commands; len(k) > 0 && r.Seq == 1 {
		var list []string
		for _, c := range k {
			list = append(list, fmt.Sprintf("%s at %s", c.Name, c.Filter))
		}
		line("commands", "%s", strings.Join(list, ", "))
	}
	if len(units) > 0 {
		line("units", "%s", strings.Join(units, ", "))
	}
	if r.Err != nil {
		line("problem", "%s", r.Err)
	}
	body := w.Body
	if s.Reading.Gzip {
		line("payload", "compressed:")
	}
	shown := f.Crowd.Redact(string(body))
	isText := !s.Reading.Gzip && utf8.Valid(body) && !bytes.ContainsFunc(body,
		func(c rune) bool { return c < ' ' && c != '\n' && c != '\r' && c != '\t' })
	switch {
	case len(body) == 0 && w.Target != "": // all of it stands in the request line
	case isText && plain:
		fmt.Fprintf(&b, "%s\n", shown)
	case isText:
		var pretty bytes.Buffer
		if json.Indent(&pretty, []byte(shown), "", "  ") == nil {
			shown = pretty.String()
		}
		for _, row := range strings.Split(shown, "\n") {
			fmt.Fprintf(&b, "    %s\n", row)
		}
	default:
		for _, row := range strings.Split(strings.TrimRight(hex.Dump(body), "\n"), "\n") {
			fmt.Fprintf(&b, "    %s\n", row)
		}
		if !plain || s.Reading.Gzip {
			b.WriteString(e.decoded(f, w))
		}
	}
	return b.String()
}

// decoded is what a body that is no text carries.
func (e *env) decoded(f *fleet.Fleet, w *engine.Written) string {
	var b strings.Builder
	for _, c := range w.Carried {
		fmt.Fprintf(&b, "  %s %s\n", e.paint(text.Faint, fmt.Sprintf("%-9s", "carries")), f.Crowd.Redact(string(c)))
	}
	return b.String()
}

func properties(s *fleet.Stream, w *engine.Written, version int) string {
	if version == 4 {
		return ""
	}
	var b strings.Builder
	if t := engine.ContentType(s); t != "" {
		fmt.Fprintf(&b, ", content type %s", t)
	}
	if w.Mark.Name != "" {
		fmt.Fprintf(&b, ", user property %s: %s", w.Mark.Name, w.Mark.Value)
	}
	for _, u := range s.User {
		fmt.Fprintf(&b, ", user property %s: %s", u.Name, u.Value)
	}
	if x := s.Reading.Expires; x > 0 {
		fmt.Fprintf(&b, ", expires after %s", quantity.FormatDuration(x))
	}
	return b.String()
}

// callsFor are the alerts that the values of a message call for.
func callsFor(f *fleet.Fleet, r *engine.Rehearsed) (list []string) {
	for i, n := range f.Crowd.Alerts {
		if slices.ContainsFunc(r.Written.Calls, func(calls uint64) bool { return calls>>(2*i)&1 != 0 }) {
			list = append(list, n.Name)
		}
	}
	return list
}

func previewDoc(f *fleet.Fleet, r *engine.Rehearsed, begin time.Time) map[string]any {
	s, w, l := r.Stream, &r.Written, r.Stream.Device.Cast.Link
	doc := map[string]any{"device": s.Device.Name, "kind": s.Device.Cast.Kind.Name, "reading": s.Reading.Name,
		"seq": r.Seq,
		"due": r.Due.UTC(), "after_seconds": r.Due.Sub(begin).Seconds(), "link": l.Name, "address": l.Address,
		"payload_bytes": len(w.Body), "wire_bytes": check.WireSize(s, *w), "content_type": engine.ContentType(s)}
	if len(w.Carried) > 1 {
		doc["messages"] = len(w.Carried)
	}
	if list := callsFor(f, r); len(list) > 0 {
		doc["calls_for"] = list
	}
	if l.Protocol == crowd.MQTT {
		doc["topic"], doc["qos"], doc["retain"] = f.Crowd.Redact(s.Target), s.Reading.QoS, s.Reading.Retain
	} else {
		var head []string
		for _, h := range check.RequestHead(s, *w) {
			head = append(head, f.Crowd.Redact(h))
		}
		doc["request"] = head
	}
	if len(s.User) > 0 {
		doc["user_properties"] = s.User
	}
	if x := s.Reading.Expires; x > 0 {
		doc["expires_seconds"] = x.Seconds()
	}
	if w.Mark.Name != "" {
		doc["mark"] = map[string]string{w.Mark.Name: w.Mark.Value}
	}
	if utf8.Valid(w.Body) {
		doc["payload"] = f.Crowd.Redact(string(w.Body))
	} else {
		doc["payload_base64"] = bytes.Clone(w.Body) // the next message is written over it
	}
	var carried []json.RawMessage
	for _, c := range w.Carried {
		carried = append(carried, json.RawMessage(f.Crowd.Redact(string(c))))
	}
	doc["carries"] = carried
	if r.Err != nil {
		doc["problem"] = f.Crowd.Redact(r.Err.Error())
	}
	return doc
}

// mostPlotted is how many devices one plot shows, and mostPoints how many values
// of each.
const (
	mostPlotted = 6
	mostPoints  = 20_000
)

// plotField draws a field over the plan.
func (e *env) plotField(f *fleet.Fleet, streams []*fleet.Stream, begin time.Time, p *previewing) error {
	field := p.plot
	var with []*fleet.Stream
	var known []string
	for _, s := range streams {
		for _, n := range s.Names {
			known = append(known, n)
			if n == field {
				with = append(with, s)
			}
		}
	}
	part := ""
	if base, tail, dotted := strings.Cut(field, "."); len(with) == 0 && dotted {
		for _, s := range streams {
			for _, n := range s.Names {
				if n == base {
					with, part = append(with, s), tail
				}
			}
		}
		field = base
	}
	if len(with) == 0 {
		return unknownName("--plot", "these devices have no field", p.plot, known)
	}
	if len(with) > mostPlotted {
		fmt.Fprintf(e.stderr, "The plot shows the first %d of %d devices.\n", mostPlotted, len(with))
		with = with[:mostPlotted]
	}
	lasts := f.Crowd.Plan.Lasts(begin)
	if lasts > mostPlottedTime {
		lasts = mostPlottedTime
		fmt.Fprintf(e.stderr, "The plot shows the first %s of the plan.\n", quantity.FormatDuration(lasts))
	}
	var values fieldValues
	engine.Rehearse(f, with, begin, func(r *engine.Rehearsed) bool {
		return r.Due.Sub(begin) < lasts && values.add(r.Stream, field, part, r.Written.Carried, r.Due.Sub(begin).Seconds())
	})
	c, err := values.chart(field, part)
	if err != nil {
		return fmt.Errorf("--plot: %w", err)
	}
	if c.Time {
		c.Span = [2]float64{0, lasts.Seconds()}
	}
	c.Title = fmt.Sprintf("%s of %s over the %s of the plan", p.plot, f.Crowd.Name, quantity.FormatDuration(lasts))
	for i := range with[0].Reading.Fields {
		if x := &with[0].Reading.Fields[i]; x.Name == field {
			c.YLabel = x.Unit
			if x.Unit != "" {
				c.Title += ", in " + x.Unit
			}
		}
	}
	return e.draw(c, p.out)
}

// plotValues draws all fields of some devices over the plan.
func (e *env) plotValues(f *fleet.Fleet, devices []*fleet.Device, streams []*fleet.Stream, begin time.Time) error {
	lasts := min(f.Crowd.Plan.Lasts(begin), mostPlottedTime)
	if len(devices) > mostPlotted {
		fmt.Fprintf(e.stderr, "The first %d of %d devices are shown.\n", mostPlotted, len(devices))
		devices = devices[:mostPlotted]
	}
	for i, d := range devices {
		if i > 0 {
			fmt.Fprintln(e.stdout)
		}
		fmt.Fprintf(e.stdout, "%s over the %s of the plan\n", e.paint(text.Bold, d.Name), quantity.FormatDuration(lasts))
		for _, s := range d.Streams {
			if !slices.Contains(streams, s) {
				continue
			}
			values := make([]fieldValues, len(s.Names))
			messages := 0
			engine.Rehearse(f, []*fleet.Stream{s}, begin, func(r *engine.Rehearsed) bool {
				if r.Due.Sub(begin) >= lasts {
					return false
				}
				more := true
				for i, name := range s.Names {
					if place := s.Place(name); place != "" {
						more = values[i].add(s, place, "", r.Written.Carried, r.Due.Sub(begin).Seconds()) && more
					}
				}
				messages++
				return more
			})
			fmt.Fprintf(e.stdout, "\n%s, %s\n", s.Reading.Name, plural(messages, "message"))
			for i, name := range s.Names {
				fmt.Fprint(e.stdout, e.valuesOf(s, i, name, &values[i], lasts))
			}
		}
	}
	return nil
}

// valuesOf is a field's values: in a line where there is nothing to draw, or as a small chart.
func (e *env) valuesOf(s *fleet.Stream, i int, name string, v *fieldValues, lasts time.Duration) string {
	unit := s.Reading.Fields[i].Unit
	if unit != "" {
		unit = ", in " + unit
	}
	var seen []string
	for _, x := range v.values[s] {
		b, _ := json.Marshal(x)
		if text := foreign.Line(string(b), 40); !slices.Contains(seen, text) {
			seen = append(seen, text)
		}
		if len(seen) > 3 {
			break
		}
	}
	switch {
	case len(seen) == 0:
		return fmt.Sprintf("  %s%s: in a text beside others\n", name, unit)
	case len(seen) == 1:
		return fmt.Sprintf("  %s%s: always %s\n", name, unit, seen[0])
	}
	c, err := v.chart(name, "")
	if err != nil { // texts of which there are many
		return fmt.Sprintf("  %s%s: %s, …\n", name, unit, strings.Join(seen, ", "))
	}
	if c.Time {
		c.Span = [2]float64{0, lasts.Seconds()}
	}
	for k := range c.Series {
		c.Series[k].Name = strings.TrimPrefix(c.Series[k].Name, s.Device.Name)
	}
	c.Title, c.YLabel = name+unit, ""
	width := 78
	if is, w := terminal(e.stdout); is && w > 20 {
		width = min(w-1, 110)
	}
	height := 5
	if c.Track {
		height = 8
	}
	var b strings.Builder
	for line := range strings.Lines(c.Text(width-2, height)) {
		b.WriteString("  " + line)
	}
	return b.String()
}

// mostPlottedTime is how much of a plan is plotted.
const mostPlottedTime = 31 * quantity.Day

// begins is when a plan's clock would begin now.
func begins(p *crowd.Plan, now time.Time) time.Time {
	switch {
	case !p.Begin.At.IsZero():
		return p.Begin.At
	case p.Begin.Past > 0:
		return now.Add(-p.Begin.Past)
	case p.Begin.Day.Is:
		return p.Begin.Day.Next(now)
	}
	return now
}

// draw shows a chart, or writes it to a file.
func (e *env) draw(c *chart.Chart, out string) error {
	if out != "" {
		if err := c.File(out); err != nil {
			return err
		}
		fmt.Fprintf(e.stdout, "Wrote %s.\n", out)
		return nil
	}
	width := 78
	if is, w := terminal(e.stdout); is && w > 20 {
		width = min(w-1, 110)
	}
	height := 12
	if len(c.Series) > 1 {
		height = 6
	}
	_, err := fmt.Fprint(e.stdout, c.Text(width, height))
	return err
}

// fieldValues gathers the values of one field of some streams.
type fieldValues struct {
	streams []*fleet.Stream
	x       map[*fleet.Stream][]float64
	values  map[*fleet.Stream][]any
}

// add takes what a message carries of the field; false says that it is enough.
func (v *fieldValues) add(s *fleet.Stream, field, part string, carried [][]byte, at float64) bool {
	if v.x == nil {
		v.x, v.values = map[*fleet.Stream][]float64{}, map[*fleet.Stream][]any{}
	}
	if _, known := v.x[s]; !known {
		v.streams = append(v.streams, s)
	}
	step := s.Reading.Every.Seconds()
	for k, c := range carried {
		var object map[string]any
		json.Unmarshal(c, &object)
		x := dig(object, field)
		if m, is := x.(map[string]any); is && part != "" {
			x = m[part]
		}
		v.x[s] = append(v.x[s], at-float64(len(carried)-1-k)*step)
		v.values[s] = append(v.values[s], x)
	}
	return len(v.x[s]) < mostPoints
}

// dig finds a field in what a message carries, also where its name leads into
// objects and lists.
func dig(object map[string]any, field string) any {
	if x, has := object[field]; has {
		return x
	}
	var x any = object
	for _, k := range strings.Split(field, ".") {
		switch in := x.(type) {
		case map[string]any:
			x = in[k]
		case []any:
			var i int
			if _, err := fmt.Sscan(k, &i); err != nil || i < 0 || i >= len(in) {
				return nil
			}
			x = in[i]
		default:
			return nil
		}
	}
	return x
}

// chart makes a chart of what was gathered: numbers as lines, words as steps, a
// position as a track, a vector as its three parts.
func (v *fieldValues) chart(field, part string) (*chart.Chart, error) {
	sort.Slice(v.streams, func(i, j int) bool { return v.streams[i].Index < v.streams[j].Index })
	c := &chart.Chart{Time: true}
	words := map[string]int{}
	for _, s := range v.streams {
		name := s.Device.Name
		var series []chart.Series
		at := func(label string) *chart.Series {
			for i := range series {
				if series[i].Name == label {
					return &series[i]
				}
			}
			series = append(series, chart.Series{Name: label})
			return &series[len(series)-1]
		}
		for i, x := range v.values[s] {
			t := v.x[s][i]
			point := func(label string, px, py float64) {
				sr := at(label)
				sr.X, sr.Y = append(sr.X, px), append(sr.Y, py)
			}
			switch y := x.(type) {
			case float64:
				point(name, t, y)
			case bool:
				c.Steps, c.Names = true, []string{"false", "true"}
				point(name, t, map[bool]float64{true: 1}[y])
			case string:
				c.Steps = true
				if _, known := words[y]; !known {
					words[y] = len(words)
					c.Names = append(c.Names, y)
				}
				point(name, t, float64(words[y]))
			case map[string]any:
				if lat, is := y["lat"].(float64); is {
					lon, _ := y["lon"].(float64)
					c.Time, c.Track, c.XLabel, c.YLabel = false, true, "° east", "° north"
					point(name, lon, lat)
					continue
				}
				for _, k := range []string{"x", "y", "z"} {
					if n, is := y[k].(float64); is {
						c.Own = len(v.streams) == 1
						point(name+" "+k, t, n)
					}
				}
			default:
				point(name, t, math.NaN())
			}
		}
		c.Series = append(c.Series, series...)
	}
	if len(words) > 12 {
		return nil, fmt.Errorf("the field %q has more than 12 different texts; there is nothing to draw", field)
	}
	if len(c.Series) == 0 {
		return nil, fmt.Errorf("no message is due within the plan")
	}
	return c, nil
}
