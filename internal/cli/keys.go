package cli

import (
	"fmt"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/pflag"
)

// key takes a key: a colon opens a line, in which a hand says what it wants.
func (m *model) key(k tea.KeyPressMsg) tea.Cmd {
	switch s := k.String(); {
	case s == "ctrl+c": // the terminal sends no signal while it is read key by key
		interrupt()
	case s == "ctrl+z":
		return tea.Suspend
	case m.typed == nil:
		switch s {
		case ":":
			m.typed, m.help = new(string), false
		case "?":
			m.help = !m.help
		case "v":
			m.bare = !m.bare
		case "q":
			interrupt()
		}
	case s == "esc":
		m.typed = nil
	case s == "enter":
		line := *m.typed
		m.typed = nil
		return func() tea.Msg { return said{m.view.byHand(line)} }
	case s == "backspace":
		if r := []rune(*m.typed); len(r) > 0 {
			*m.typed = string(r[:len(r)-1])
		}
	case k.Text != "":
		*m.typed += k.Text
	}
	return nil
}

// interrupt ends the run, as Ctrl-C does.
func interrupt() {
	if p, err := os.FindProcess(os.Getpid()); err == nil {
		p.Signal(os.Interrupt)
	}
}

// byHand does what a line says, and tells what came of it.
func (v *view) byHand(line string) []string {
	words, err := splitWords(line)
	if err != nil || len(words) == 0 {
		if err == nil {
			return nil
		}
		return []string{err.Error()}
	}
	flags := pflag.NewFlagSet("do", pflag.ContinueOnError)
	flags.Usage = func() {}
	length, expect, link := flags.String("for", "", ""), flags.String("expect", "", ""), flags.String("link", "", "")
	if err := flags.Parse(words); err != nil {
		return []string{err.Error()}
	}
	q, err := handRequest(flags.Args(), *length, *expect, *link)
	if err != nil {
		return []string{err.Error()}
	}
	a := v.session.Hand(q)
	return append([]string{"do " + line}, handLines(q, &a)...)
}

// splitWords takes a line apart as a shell does: words, some of them in quotes.
func splitWords(line string) (words []string, err error) {
	var b strings.Builder
	open, some := rune(0), false
	for _, r := range line {
		switch {
		case open != 0 && r == open:
			open = 0
		case open != 0:
			b.WriteRune(r)
		case r == '"' || r == '\'':
			open, some = r, true
		case r == ' ' || r == '\t':
			if some || b.Len() > 0 {
				words = append(words, b.String())
			}
			b.Reset()
			some = false
		default:
			b.WriteRune(r)
		}
	}
	if open != 0 {
		return nil, fmt.Errorf("a quote (%c) is not closed", open)
	}
	if some || b.Len() > 0 {
		words = append(words, b.String())
	}
	return words, nil
}
