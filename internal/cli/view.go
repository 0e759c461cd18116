package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"runcrowd/internal/check"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// plainEvery is how often progress is told where there is no terminal.
const plainEvery = 5 * time.Second

// notesEvery is how soon what a user should know is told.
const notesEvery = 500 * time.Millisecond

// view shows how far a run is: a few lines that refresh on a terminal, a plain
// line every few seconds elsewhere. All of it goes to standard error.
type view struct {
	env     *env
	crowd   *crowd.Crowd
	quiet   bool
	session *run.Session
	fleet   *fleet.Fleet
	moments []moment // of events, in a round

	mu      sync.Mutex
	program *tea.Program
	done    chan struct{}
	quit    chan struct{}
	stopped bool
}

func newView(e *env, c *crowd.Crowd, quiet bool) *view {
	return &view{env: e, crowd: c, quiet: quiet, done: make(chan struct{}), quit: make(chan struct{})}
}

func (v *view) start(s *run.Session, f *fleet.Fleet) {
	v.session, v.fleet = s, f
	live, width := terminal(v.env.stderr)
	if live && len(f.Crowd.Plan.Events) > 0 {
		if story, _, err := check.Story(f); err == nil {
			v.moments = moments(f, story)
		}
	}
	switch {
	case v.quiet:
		close(v.done)
	case live && width > 0:
		v.mu.Lock()
		var keys io.Reader // nil: nobody listens to them
		if handsHere() {
			keys = os.Stdin
		}
		v.program = tea.NewProgram(&model{view: v, width: width, keys: keys != nil},
			tea.WithOutput(v.env.stderr.(*printer).w), tea.WithInput(keys), tea.WithoutSignalHandler())
		v.mu.Unlock()
		go func() {
			defer close(v.done)
			v.program.Run()
		}()
	default:
		go v.plain()
	}
}

// stop takes the view away.
func (v *view) stop() {
	v.mu.Lock()
	if v.stopped || v.session == nil {
		v.mu.Unlock()
		return
	}
	v.stopped = true
	p := v.program
	v.mu.Unlock()
	close(v.quit)
	if p != nil {
		p.Send(over{})
	}
	<-v.done
	for _, n := range v.session.Notes() {
		fmt.Fprintln(v.env.stderr, n)
	}
}

// note tells something beside the view.
func (v *view) note(text string) {
	v.mu.Lock()
	p, stopped := v.program, v.stopped
	v.mu.Unlock()
	if p != nil && !stopped {
		p.Println(string(printableBytes([]byte(text), false)))
		return
	}
	fmt.Fprintln(v.env.stderr, text)
}

func (v *view) plain() {
	defer close(v.done)
	t, soon := time.NewTicker(plainEvery), time.NewTicker(notesEvery)
	defer t.Stop()
	defer soon.Stop()
	var waits time.Time // for what it was said to wait
	for {
		select {
		case <-v.quit:
			return
		case <-soon.C:
			for _, n := range v.session.Notes() {
				fmt.Fprintln(v.env.stderr, n)
			}
			if p := v.session.Progress(); p.Phase == run.Pausing && !p.End.Equal(waits) && time.Until(p.End) > plainEvery {
				waits = p.End // said once, however long it takes
				fmt.Fprintln(v.env.stderr, v.line(p))
			}
		case <-t.C:
			if p := v.session.Progress(); p.Phase != run.Pausing {
				fmt.Fprintln(v.env.stderr, v.line(p))
			}
		}
	}
}

// line is the progress in one line.
func (v *view) line(p run.Progress) string {
	return v.phase(p) + "; " + strings.Join(v.counts(p), ", ")
}

// phase says what is going on.
func (v *view) phase(p run.Progress) string {
	round := ""
	switch {
	case p.Rounds == 0:
		round = fmt.Sprintf("round %d, ", p.Round)
	case p.Rounds > 1:
		round = fmt.Sprintf("round %d of %d, ", p.Round, p.Rounds)
	}
	switch p.Phase {
	case run.Playing:
		if p.Paused {
			return round + "paused by hand"
		}
		if p.End.IsZero() {
			return fmt.Sprintf("%s%s so far", round, max(0, time.Since(p.Begin)-p.Stood).Round(time.Second))
		}
		total := p.End.Sub(p.Begin)
		gone := min(max(0, time.Since(p.Begin)-p.Stood), total)
		if gone == total {
			return round + "waiting for the last acknowledgements"
		}
		return fmt.Sprintf("%s%s of %s", round, gone.Round(time.Second), total.Round(time.Millisecond))
	case run.Hearing:
		var parts []string
		for _, m := range p.Awaited {
			switch {
			case m.N > 0 && m.N == m.StayOut:
				parts = append(parts, fmt.Sprintf("%s checks that %d messages do not arrive", m.Witness, m.N))
			case m.N > m.StayOut:
				parts = append(parts, fmt.Sprintf("%s has not seen %d yet", m.Witness, m.N-m.StayOut))
			}
		}
		if len(parts) == 0 {
			return round + "waiting for witnesses"
		}
		return round + "waiting for witnesses: " + strings.Join(parts, ", ")
	case run.Pausing:
		return fmt.Sprintf("%sbegins %s, in %s", round, at(p.End), max(0, time.Until(p.End)).Round(time.Second))
	case run.Done:
		return "judging"
	}
	return "getting ready"
}

// at is a time to come: with its day, if that is not today.
func at(t time.Time) string {
	if t = t.UTC(); t.Format(time.DateOnly) != time.Now().UTC().Format(time.DateOnly) {
		return t.Format("on 2006-01-02 at 15:04:05 UTC")
	}
	return t.Format("at 15:04:05 UTC")
}

func (v *view) counts(p run.Progress) []string {
	list := []string{fmt.Sprintf("%d of %d devices connected", p.Up, p.Devices), fmt.Sprintf("%d due", p.Due)}
	add := func(n int64, what string) {
		if n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, what))
		}
	}
	add(p.Accepted, "acknowledged")
	add(p.NotAsked, "sent without acknowledgement")
	add(p.Due-p.Accepted-p.NotAsked-p.Refused-p.NoAnswer-p.Unsent, "on their way")
	add(p.Refused, "refused")
	add(p.NoAnswer, "without answer")
	add(p.Unsent, "unsent")
	add(p.Commands, "commands came")
	if p.Drops > 0 {
		list = append(list, fmt.Sprintf("%d connections lost (last: %s)", p.Drops, p.LastDrop))
	}
	return list
}

// model is the view on a terminal.
type model struct {
	view   *view
	width  int
	height int
	over   bool
	last   []sample // of the last seconds, the newest last
	keys   bool     // it is told of keys
	help   bool     // keys are explained
	bare   bool     // no values are shown
	watch  *watch   // whose values are shown; nil: nobody's yet
	typed  *string  // what is typed of a line; nil: no line is open
}

type (
	tick struct{} // time to look again
	over struct{} // the run is over: leave nothing behind
	said struct { // what a hand was answered
		lines []string
	}
)

func next() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(time.Time) tea.Msg { return tick{} })
}

func (m *model) Init() tea.Cmd { return next() }

func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case over:
		m.over = true
		return m, tea.Quit
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case said:
		var cmds []tea.Cmd
		for _, line := range msg.lines {
			cmds = append(cmds, tea.Println(string(printableBytes([]byte(line), false))))
		}
		return m, tea.Sequence(cmds...)
	case tick:
		m.sample()
		cmds := []tea.Cmd{next()}
		for _, n := range m.view.session.Notes() {
			cmds = append(cmds, tea.Println(string(printableBytes([]byte(n), false))))
		}
		return m, tea.Batch(cmds...)
	}
	return m, nil
}

var (
	boldStyle  = lipgloss.NewStyle().Bold(true)
	faintStyle = lipgloss.NewStyle().Faint(true)
	doneStyle  = lipgloss.NewStyle().Foreground(lipgloss.Green)
)

// keysHelp explains the keys.
var keysHelp = []string{
	":  acts by hand, such as: buoy-007 set battery_v=10.9 --for 1m; pause; resume; end",
	"v  shows values of a few devices, or hides them",
	"q  ends the run in order, as Ctrl-C does; once more ends it at once",
	"?  shows these keys, or hides them",
}

func (m *model) View() tea.View {
	if m.over {
		return tea.NewView("")
	}
	v := m.view
	p := v.session.Progress()
	bold, faint, done := boldStyle.Render, faintStyle.Render, doneStyle.Render
	if !v.env.colored(v.env.stderr) {
		plain := func(s ...string) string { return strings.Join(s, " ") }
		bold, faint, done = plain, plain, plain
	}
	list := []string{bold(v.crowd.Name) + "  " + v.phase(p)}
	width := min(m.width, 100)
	if p.Phase == run.Playing && !p.End.IsZero() && width > 10 {
		share := min(1, max(0, float64(time.Since(p.Begin)-p.Stood)/float64(p.End.Sub(p.Begin))))
		n := int(share * float64(width-2))
		list = append(list, done(strings.Repeat("━", n))+faint(strings.Repeat("─", width-2-n)))
	}
	var foot []string
	switch {
	case m.typed != nil:
		foot = []string{"do " + *m.typed + "█", faint("Enter does it, Esc leaves.")}
	case m.help:
		for _, line := range keysHelp {
			foot = append(foot, faint(line))
		}
	case m.keys && p.Phase == run.Playing:
		foot = []string{faint("?  keys")}
	}
	room := 14
	if m.height > 0 {
		room = m.height - 1 - len(list) - len(foot)
	}
	list = append(list, m.lines(p, room, bold, faint)...)
	var b strings.Builder
	for _, line := range append(list, foot...) {
		b.WriteString(ansi.Truncate(line, max(20, m.width-1), "…") + "\n")
	}
	return tea.NewView(b.String())
}

// sample is how far the run was at a moment.
type sample struct {
	at             time.Time
	sent, accepted int64
}

// rateOver is the time over which rates are shown.
const rateOver = 2 * time.Second

func (m *model) sample() {
	p := m.view.session.Progress()
	m.last = append(m.last, sample{time.Now(), p.Sent, p.Accepted})
	for len(m.last) > 2 && time.Since(m.last[0].at) > rateOver {
		m.last = m.last[1:]
	}
}

// rates are messages a second of the last moments.
func (m *model) rates() (sent, accepted float64) {
	if len(m.last) < 2 {
		return 0, 0
	}
	a, b := m.last[0], m.last[len(m.last)-1]
	d := b.at.Sub(a.at).Seconds()
	return float64(b.sent-a.sent) / d, float64(b.accepted-a.accepted) / d
}

// viewPart is a part of the view: its name, its lines, and how much it matters, the least first.
type viewPart struct {
	name  string
	lines []string
	rank  int
}

// lines are what is shown of a run below its bar, each part with its name in front. Where there is
// no room for all, what matters least is left out.
func (m *model) lines(p run.Progress, room int, bold, faint func(...string) string) (list []string) {
	var parts []viewPart
	add := func(rank int, name string, lines ...string) { parts = append(parts, viewPart{name, lines, rank}) }
	devices := fmt.Sprintf("%d of %d connected", p.Up, p.Devices)
	if down := p.Joined - p.Up; down > 0 && p.Phase == run.Playing {
		devices += bold(fmt.Sprintf(", %d down", down))
	}
	if p.Drops > 0 {
		devices += fmt.Sprintf("; connections lost %s", plural(int(p.Drops), "time"))
	}
	add(1, "devices", devices)
	add(2, "messages", m.counts(p)...)
	sent, accepted := m.rates()
	add(6, "a second", fmt.Sprintf("%.0f sent, %.0f acknowledged", sent, accepted))
	acks, lags := m.view.session.Delays()
	if a := acks.Spread(); a.N() > 0 {
		l := lags.Spread()
		add(7, "delays", fmt.Sprintf("acknowledged p50 %s, p99 %s; behind schedule p99 %s", verdict.Span(a.At(50)),
			verdict.Span(a.At(99)), verdict.Span(l.At(99))))
	}
	var seen []string
	for _, w := range p.Witnesses {
		switch {
		case w.Asks && w.N == 0 && p.Phase == run.Playing:
			seen = append(seen, w.Witness+" is asked when the round is over")
		case w.Proves == "counts":
		default:
			seen = append(seen, fmt.Sprintf("%s %d", w.Witness, w.N))
		}
	}
	if len(seen) > 0 {
		add(3, "seen by", strings.Join(seen, ", "))
	}
	if now, next := m.view.events(p); now != "" || next != "" {
		add(5, "now", orNothing(now))
		add(8, "next", orNothing(next))
	}
	if p.Planned > 0 {
		add(9, "by plan", fmt.Sprintf("%s: connections that it cut, wrong credentials that were refused",
			plural(int(p.Planned), "trouble")))
	}
	var troubles []string
	for _, t := range slices.Backward(p.Troubles) { // the newest first
		troubles = append(troubles, fmt.Sprintf("%s %s: %s", t.At.UTC().Format("15:04:05"), t.Device,
			printableBytes([]byte(t.What), false)))
	}
	if len(troubles) > 0 {
		add(4, "troubles", troubles[0])
	}
	// What matters most takes its room first; what is left is for more troubles, then for values.
	sorted := slices.Clone(parts)
	slices.SortFunc(sorted, func(a, b viewPart) int { return a.rank - b.rank })
	kept := map[string]bool{}
	for _, x := range sorted {
		if len(x.lines) <= room {
			kept[x.name] = true
			room -= len(x.lines)
		}
	}
	write := func(name string, lines []string) {
		for i, line := range lines {
			if i > 0 {
				name = ""
			}
			list = append(list, faint(fmt.Sprintf("%-10s", name))+line)
		}
	}
	for _, x := range parts {
		if kept[x.name] {
			if x.name == "troubles" {
				more := min(room, len(troubles)-1)
				x.lines, room = troubles[:1+more], room-more
			}
			write(x.name, x.lines)
		}
	}
	if !m.bare && p.Phase == run.Playing && room > 0 {
		write("values", m.values(room))
	}
	return list
}

// counts are the messages by what became of them, over more lines where they do not fit one.
func (m *model) counts(p run.Progress) (lines []string) {
	counts := []string{fmt.Sprintf("%d due", p.Due), fmt.Sprintf("%d sent", p.Sent),
		fmt.Sprintf("%d acknowledged", p.Accepted)}
	for _, x := range []struct {
		n    int64
		what string
	}{{p.NotAsked, "without acknowledgement"}, {p.Due - p.Accepted - p.NotAsked - p.Refused - p.NoAnswer - p.Unsent,
		"on their way"}, {p.Refused, "refused"}, {p.NoAnswer, "without answer"}, {p.Unsent, "unsent"},
		{p.Commands, "commands came"}} {
		if x.n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	line := ""
	for _, c := range counts {
		if line != "" && len(line)+len(c)+14 > m.width {
			lines, line = append(lines, line+","), ""
		}
		if line != "" {
			line += ", "
		}
		line += c
	}
	return append(lines, line)
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// events are those that befall devices now, and the next one.
func (v *view) events(p run.Progress) (now, next string) {
	if p.Phase != run.Playing || len(v.moments) == 0 {
		return "", ""
	}
	speed := v.crowd.Plan.Speed.Times()
	at := time.Duration(float64(max(0, time.Since(p.Begin)-p.Stood)) * speed)
	var list []string
	for i := range v.moments {
		m := &v.moments[i]
		e := v.crowd.Plan.Events[m.event]
		switch over := m.from + max(m.lasts[1], time.Second); {
		case m.from <= at && at < over:
			left := ""
			if m.lasts[1] > 0 {
				left = fmt.Sprintf(", %s more", max(0, m.from+m.lasts[1]-at).Round(time.Second))
			}
			list = append(list, fmt.Sprintf("%s (%s%s)", e.Title(), plural(len(m.devices), "device"), left))
		case m.from > at && next == "":
			next = fmt.Sprintf("%s in %s (%s)", e.Title(), (m.from - at).Round(time.Second), plural(len(m.devices), "device"))
		}
	}
	if len(list) > 3 {
		list = append(list[:3], fmt.Sprintf("and %d more", len(list)-3))
	}
	return strings.Join(list, ", "), next
}
