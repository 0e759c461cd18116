package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/grid"
	"runcrowd/internal/recording"
	"runcrowd/internal/sketch"
	"runcrowd/internal/traffic"
	"runcrowd/internal/witness/listen"
)

// addressed tells whether an argument is an address, and no file.
func addressed(arg string) bool { return strings.Contains(arg, "://") }

// listenerAt is a subscription at an address.
func (e *env) listenerAt(s sketch.Options, filter string) (*fleet.Fleet, *crowd.Witness, error) {
	if err := crowd.CheckFilter(filter); err != nil {
		return nil, nil, fmt.Errorf("--topic: %w", err)
	}
	if err := e.askPassword(&s); err != nil {
		return nil, nil, err
	}
	s.Name, s.Devices, s.Every, s.For = "listen", 1, "1s", "1s"
	text, err := sketch.Crowd(s)
	if err != nil {
		return nil, nil, sketchError(err)
	}
	c, err := file.Parse(s.Address, []byte(text), file.Sources{Getenv: os.LookupEnv})
	if err != nil {
		return nil, nil, sketchError(err)
	}
	if c.Links[0].Protocol != crowd.MQTT {
		return nil, nil, fmt.Errorf("%s: only an MQTT broker can be listened to; record --intake takes HTTP messages", s.Address)
	}
	f, err := fleet.Build(c, credential.New(c))
	if err != nil {
		return nil, nil, err
	}
	return f, &crowd.Witness{Name: "listen", Filters: []string{filter}, QoS: 2, Link: c.Links[0]}, nil
}

// overview shows what comes out of a broker, topic by topic.
func (e *env) overview(ctx context.Context, lasts time.Duration, s sketch.Options, l *listening) error {
	filter := l.topic
	if filter == "" {
		filter = "#"
	}
	f, spec, err := e.listenerAt(s, filter)
	if err != nil {
		return err
	}
	ctx, enough := context.WithCancel(ctx)
	defer enough()
	o := &overseen{}
	take := func(line *recording.Line) {
		o.mu.Lock()
		defer o.mu.Unlock()
		if l.count > 0 && o.traffic.Messages >= l.count {
			return
		}
		o.traffic.Add(line)
		if o.into != nil && o.into.Has(line.Topic) {
			o.last = append(o.last, *line)
			o.last = o.last[max(0, len(o.last)-mostOverseen):]
		}
		if o.traffic.Messages == l.count {
			enough()
		}
	}
	fmt.Fprintf(e.stderr, "Listening to %s on %s. Ctrl-C ends it.\n", filter, spec.Link.URL())
	heard := make(chan error, 1)
	var unheard listen.Unheard
	go func() {
		var err error
		unheard, err = listen.Record(ctx, lasts, f, spec, take)
		heard <- err
	}()
	live, width := terminal(e.stdout)
	if live && width > 0 && l.format == "text" && handsHere() {
		p := tea.NewProgram(&overviewModel{env: e, of: o, redact: f.Crowd.Redact, width: width},
			tea.WithOutput(e.stdout.(*printer).w), tea.WithContext(ctx), tea.WithoutSignalHandler())
		go func() {
			heard <- <-heard
			p.Quit()
		}()
		p.Run()
		enough()
	}
	if err := <-heard; err != nil {
		return fail(err, f.Crowd)
	}
	defer e.tellUnheard(&unheard, f.Crowd.Redact)
	o.mu.Lock()
	defer o.mu.Unlock()
	return e.tellTraffic(&o.traffic, l.format, f.Crowd.Redact)
}

// overseen is what came so far.
type overseen struct {
	mu      sync.Mutex
	traffic traffic.Traffic
	into    *traffic.Pattern // whose messages are shown one by one; nil: none
	last    []recording.Line
}

// mostOverseen is how many messages are kept to be shown one by one.
const mostOverseen = 200

func (e *env) tellTraffic(t *traffic.Traffic, format string, redact func(string) string) error {
	list := t.Patterns()
	if format == "json" {
		docs := []map[string]any{}
		for i := range list {
			p := &list[i]
			doc := map[string]any{"topics": redact(p.Filter), "count": p.Topics, "messages": p.Messages, "retained": p.Retained,
				"per_second": p.PerSecond, "bytes": p.Bytes, "least": p.Least, "most": p.Most, "qos": p.QoS, "forms": p.Forms,
				"last": map[string]any{"at": p.Last.UTC(), "topic": redact(p.Topic)}}
			if utf8.Valid(p.Value) {
				doc["last"].(map[string]any)["body"] = redact(string(p.Value))
			} else {
				doc["last"].(map[string]any)["body_base64"] = p.Value
			}
			docs = append(docs, doc)
		}
		b, err := json.MarshalIndent(map[string]any{"messages": t.Messages, "others": t.Others, "traffic": docs}, "", "  ")
		if err == nil {
			_, err = e.raw.Write(append(foreign.JSON(b), '\n'))
		}
		return err
	}
	width := 120
	if is, w := terminal(e.stdout); is && w > 0 {
		width = w
	}
	fmt.Fprint(e.stdout, trafficTable(list, redact, width))
	more := ""
	if t.Others > 0 {
		more = fmt.Sprintf("; %d of them at further topics, which are not told apart", t.Others)
	}
	_, err := fmt.Fprintf(e.stdout, "\n%s came at %s%s.\n", plural(t.Messages, "message"), plural(topicsOf(list), "topic"), more)
	return err
}

func topicsOf(list []traffic.Pattern) (n int) {
	for i := range list {
		n += list[i].Topics
	}
	return n
}

// trafficTable is a line for each pattern of topics, at most as wide as the terminal.
func trafficTable(list []traffic.Pattern, redact func(string) string, width int) string {
	g := grid.New("topics", ">count", ">messages", ">per s", ">bytes", "QoS", "body", "last value")
	rest := 0
	for i := range list {
		p := &list[i]
		size := fmt.Sprint(p.Least)
		if p.Most > p.Least {
			size += "-" + fmt.Sprint(p.Most)
		}
		kept := ""
		if p.Retained > 0 {
			kept = fmt.Sprintf(" (%d retained)", p.Retained)
		}
		g.Row(clippedTo(foreign.Line(redact(p.Filter), 0), 48), p.Topics, fmt.Sprint(p.Messages, kept), perSecond(p.PerSecond), size, p.QoS, p.Forms, "")
	}
	for line := range strings.SplitSeq(g.Plain(""), "\n") {
		rest = max(rest, len([]rune(line)))
	}
	room := max(12, width-max(rest, len("topics count messages per s bytes QoS body last value"))-1)
	for i := range list {
		g.Rows[i][7] = clippedTo(bodyLine(list[i].Value, redact), room)
	}
	return g.Plain("")
}

func perSecond(n float64) string {
	switch {
	case n == 0:
		return "-"
	case n < 1:
		return fmt.Sprintf("%.2g", n)
	}
	return fmt.Sprintf("%.0f", n)
}

func clippedTo(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// bodyLine is a body in a line.
func bodyLine(b []byte, redact func(string) string) string {
	if traffic.Form(b) == "bytes" {
		return fmt.Sprintf("% x", b[:min(len(b), 40)])
	}
	return foreign.Line(redact(string(b)), 0)
}

// overviewModel is the overview on a terminal: a table that refreshes; Enter shows the messages of a
// line one by one.
type overviewModel struct {
	env           *env
	of            *overseen
	redact        func(string) string
	width, height int
	chosen        string // the filter of the chosen line
	over          bool
}

func (m *overviewModel) Init() tea.Cmd { return next() }

func (m *overviewModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tick:
		return m, next()
	case tea.KeyPressMsg:
		return m, m.key(msg.String())
	}
	return m, nil
}

// key does what a key asks for.
func (m *overviewModel) key(key string) tea.Cmd {
	m.of.mu.Lock()
	defer m.of.mu.Unlock()
	list := m.of.traffic.Patterns()
	at := slices.IndexFunc(list, func(p traffic.Pattern) bool { return p.Filter == m.chosen })
	switch key {
	case "q", "ctrl+c":
		m.over = true
		return tea.Quit
	case "down", "j":
		if at+1 < len(list) {
			m.chosen = list[at+1].Filter
		}
	case "up", "k":
		if at > 0 {
			m.chosen = list[at-1].Filter
		}
	case "enter", "right":
		if at < 0 && len(list) > 0 {
			at, m.chosen = 0, list[0].Filter
		}
		if at >= 0 && m.of.into == nil {
			m.of.into, m.of.last = &list[at], nil
		}
	case "esc", "left":
		m.of.into, m.of.last = nil, nil
	}
	return nil
}

func (m *overviewModel) View() tea.View {
	if m.over {
		return tea.NewView("")
	}
	m.of.mu.Lock()
	defer m.of.mu.Unlock()
	bold, faint := boldStyle.Render, faintStyle.Render
	if !m.env.colored(m.env.stdout) {
		plain := func(s ...string) string { return strings.Join(s, " ") }
		bold, faint = plain, plain
	}
	room := max(5, m.height-4)
	var b strings.Builder
	if p := m.of.into; p != nil {
		fmt.Fprintf(&b, "%s\n", bold(foreign.Line(m.redact(p.Filter), 0)))
		for _, l := range m.of.last[max(0, len(m.of.last)-room):] {
			kept := ""
			if l.Retained {
				kept = " (retained)"
			}
			line := fmt.Sprintf("%s  %s  %s%s", l.At.UTC().Format("15:04:05.000"), foreign.Line(m.redact(l.Topic), 0), bodyLine(l.Body, m.redact), kept)
			fmt.Fprintln(&b, lipgloss.NewStyle().MaxWidth(max(20, m.width-1)).Render(line))
		}
		fmt.Fprintln(&b, faint("Esc goes back, q ends"))
		return tea.NewView(b.String())
	}
	list := m.of.traffic.Patterns()
	fmt.Fprintf(&b, "%s\n", bold(fmt.Sprintf("%s at %s in %s", plural(m.of.traffic.Messages, "message"), plural(topicsOf(list), "topic"),
		m.of.traffic.Last.Sub(m.of.traffic.First).Round(time.Second))))
	cut := len(list) - min(len(list), room)
	lines := strings.Split(strings.TrimSuffix(trafficTable(list[:len(list)-cut], m.redact, m.width-2), "\n"), "\n")
	for i, line := range lines {
		switch {
		case i == 0:
			line = "  " + faint(line)
		case i-1 < len(list) && list[i-1].Filter == m.chosen:
			line = bold("> " + line)
		default:
			line = "  " + line
		}
		fmt.Fprintln(&b, lipgloss.NewStyle().MaxWidth(max(20, m.width-1)).Render(line))
	}
	if cut > 0 {
		fmt.Fprintf(&b, "  … and %d more\n", cut)
	}
	fmt.Fprintln(&b, faint("up and down choose, Enter shows the messages, q ends"))
	return tea.NewView(b.String())
}
