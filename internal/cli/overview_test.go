package cli

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"runcrowd/internal/recording"
)

// On a terminal a line can be gone into and left again, whatever is pressed.
func TestTheOverviewOnATerminal(t *testing.T) {
	var out strings.Builder
	e := &env{stdout: &out, color: "never"}
	o := &overseen{}
	m := &overviewModel{env: e, of: o, redact: func(s string) string { return strings.ReplaceAll(s, "secret", "••••••") }, width: 160, height: 8}
	at := time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)
	add := func(n int, topic, body string) {
		l := recording.Line{At: at.Add(time.Duration(n) * time.Second), Topic: topic, Body: []byte(body), Retained: n == 0}
		o.traffic.Add(&l)
		if o.into != nil && o.into.Has(topic) {
			o.last = append(o.last, l)
		}
	}
	press := func(keys ...string) {
		for _, k := range keys {
			code := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "q": 'q'}[k]
			msg := tea.KeyPressMsg{Code: code}
			if k == "q" {
				msg.Text = "q"
			}
			m.Update(msg)
		}
	}
	press("enter", "down", "up", "esc") // nothing is there yet
	assert.Contains(t, m.View().Content, "no messages at no topics")
	for n := range 6 {
		add(n, fmt.Sprintf("harbour/buoy-%d/state", n%3), `{"a":1,"key":"secret"}`)
	}
	add(6, "other", "on\x1b[31m")
	text := m.View().Content
	assert.Contains(t, text, "7 messages at 4 topics in 6s")
	assert.Regexp(t, `harbour/\+/state +3 +6 \(1 retained\) +0.83 +22 +0 +JSON object +\{"a":1,"key":"••••••"\}`, text)
	assert.NotContains(t, text, "secret")
	press("down", "down", "down")
	assert.Contains(t, m.View().Content, "> other")
	assert.NotContains(t, m.View().Content, "\x1b[31m")
	press("up", "enter")
	assert.Equal(t, "harbour/+/state", o.into.Filter)
	for n := range 20 {
		add(10+n, "harbour/buoy-1/state", fmt.Sprintf(`{"n":%d}`, n))
	}
	text = m.View().Content
	assert.Contains(t, text, `12:00:29.000  harbour/buoy-1/state  {"n":19}`)
	assert.NotContains(t, text, `{"n":3}`, "the newest that fit")
	press("esc")
	assert.Nil(t, o.into)
	press("q")
	assert.Empty(t, m.View().Content)
}
