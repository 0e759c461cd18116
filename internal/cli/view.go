package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"runcrowd/internal/crowd"
	"runcrowd/internal/run"
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

	mu      sync.Mutex
	program *tea.Program
	done    chan struct{}
	quit    chan struct{}
	stopped bool
}

func newView(e *env, c *crowd.Crowd, quiet bool) *view {
	return &view{env: e, crowd: c, quiet: quiet, done: make(chan struct{}), quit: make(chan struct{})}
}

func (v *view) start(s *run.Session) {
	v.session = s
	live, width := terminal(v.env.stderr)
	switch {
	case v.quiet:
		close(v.done)
	case live && width > 0:
		v.mu.Lock()
		var keys io.Reader // nil: nobody listens to them
		if handsHere() {
			keys = os.Stdin
		}
		v.program = tea.NewProgram(&model{view: v, width: width, keys: keys != nil}, tea.WithOutput(v.env.stderr.(*printer).w), tea.WithInput(keys), tea.WithoutSignalHandler())
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
	for {
		select {
		case <-v.quit:
			return
		case <-soon.C:
			for _, n := range v.session.Notes() {
				fmt.Fprintln(v.env.stderr, n)
			}
		case <-t.C:
			fmt.Fprintln(v.env.stderr, v.line(v.session.Progress()))
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
		for _, m := range p.Missing {
			switch {
			case m.N > 0 && m.N == m.StayOut:
				parts = append(parts, fmt.Sprintf("%s looks whether %d stay out", m.Witness, m.N))
			default:
				parts = append(parts, fmt.Sprintf("%s has not seen %d yet", m.Witness, m.N-m.StayOut))
			}
		}
		if len(parts) == 0 {
			return round + "waiting for witnesses"
		}
		return round + "waiting for witnesses: " + strings.Join(parts, ", ")
	case run.Pausing:
		return fmt.Sprintf("%sbegins in %s", round, max(0, time.Until(p.End)).Round(time.Second))
	case run.Done:
		return "judging"
	}
	return "getting ready"
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
	view  *view
	width int
	over  bool
	keys  bool    // it is told of keys
	typed *string // what is typed of a line; nil: no line is open
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
		m.width = msg.Width
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
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n", bold(v.crowd.Name), v.phase(p))
	width := min(m.width, 100)
	if p.Phase == run.Playing && !p.End.IsZero() && width > 10 {
		share := min(1, max(0, float64(time.Since(p.Begin)-p.Stood)/float64(p.End.Sub(p.Begin))))
		n := int(share * float64(width-2))
		fmt.Fprintf(&b, "%s%s\n", done(strings.Repeat("━", n)), faint(strings.Repeat("─", width-2-n)))
	}
	line := ""
	for _, c := range v.counts(p) {
		if line != "" && len(line)+len(c)+3 > width {
			fmt.Fprintln(&b, line)
			line = ""
		}
		if line != "" {
			line += "   "
		}
		line += c
	}
	fmt.Fprintln(&b, lipgloss.NewStyle().MaxWidth(max(20, m.width)).Render(line))
	switch {
	case m.typed != nil:
		fmt.Fprintf(&b, "do %s█\n%s\n", *m.typed, faint("such as: buoy-007 set battery_v=10.9 --for 1m; pause; resume; end. Enter does it, Esc leaves."))
	case m.keys && p.Phase == run.Playing:
		fmt.Fprintln(&b, faint(": acts by hand, Ctrl-C ends the run"))
	}
	return tea.NewView(b.String())
}
