package cli

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/run"
)

// A line is taken apart as a shell does.
func TestWordsOfALine(t *testing.T) {
	for line, want := range map[string][]string{
		"":                           nil,
		"  pause ":                   {"pause"},
		`"20% of buoy" offline`:      {"20% of buoy", "offline"},
		`a set note='it is' b=""`:    {"a", "set", "note=it is", "b="},
		`corrupt 'cut off' --for 1s`: {"corrupt", "cut off", "--for", "1s"},
		`''`:                         {""},
	} {
		got, err := splitWords(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, got, line)
	}
	_, err := splitWords(`a "b`)
	assert.ErrorContains(t, err, "is not closed")
}

// What is typed behind a colon stands in the line, until it is left.
func TestKeys(t *testing.T) {
	m := &model{}
	press := func(list ...tea.KeyPressMsg) {
		for _, k := range list {
			m.key(k)
		}
	}
	press(tea.KeyPressMsg{Text: "x", Code: 'x'})
	assert.Nil(t, m.typed, "no line is open")
	press(tea.KeyPressMsg{Text: ":", Code: ':'}, tea.KeyPressMsg{Text: "a", Code: 'a'},
		tea.KeyPressMsg{Text: "ü", Code: 'ü'}, tea.KeyPressMsg{Text: ":", Code: ':'})
	assert.Equal(t, "aü:", *m.typed)
	press(tea.KeyPressMsg{Code: tea.KeyBackspace}, tea.KeyPressMsg{Code: tea.KeyBackspace})
	assert.Equal(t, "a", *m.typed)
	press(tea.KeyPressMsg{Code: tea.KeyEscape})
	assert.Nil(t, m.typed)
}

// Words make an event as it would stand in a plan.
func TestWordsMakeEvents(t *testing.T) {
	for _, c := range []struct {
		args        []string
		length, say string
	}{
		{[]string{"buoy-007", "set", "battery_v=10.9", "note=a: b"}, "1m",
			`{who: buoy-007, for: 1m, do: {set: {battery_v: 10.9, note: "a: b"}}}`},
		{[]string{"20% of buoy", "offline", "silent", "keep=50"}, "",
			`{who: 20% of buoy, do: {offline: {keep: 50, how: silent}}}`},
		{[]string{"all", "offline", "idle"}, "", `{do: {offline: idle}}`},
		{[]string{"buoy-1", "send", "state", "wave_m=2", "level=missing"}, "",
			`{who: buoy-1, for: 1ms, do: {set: {wave_m: 2}, missing: [level], send: state}}`},
		{[]string{"buoy-1", "stuck", "a", "b"}, "", `{who: buoy-1, do: {stuck: [a, b]}}`},
		{[]string{"buoy-1", "command", "set-rate", "seconds=1"}, "",
			`{who: buoy-1, do: {command: {name: set-rate, with: {seconds: 1}}}}`},
		{[]string{"buoy-1", "set", "note=two  spaces, and so much text that it would not fit into one line of a document " +
			"that is to be read by people"}, "",
			`{who: buoy-1, do: {set: {note: 'two  spaces, and so much text that it would not fit into one line of a document that is to be read by people'}}}`},
		{[]string{"buoy-1", "restart"}, "", `{who: buoy-1, do: {restart: true}}`},
		{[]string{"buoy-1", "clock", "-40s"}, "", `{who: buoy-1, do: {clock: -40s}}`},
	} {
		q, err := handRequest(c.args, c.length, "", "")
		require.NoError(t, err, c.args)
		assert.Equal(t, run.HandEvent, q.Want)
		assert.Equal(t, c.say, q.Event)
	}
}

// A command by hand may go through the link of whoever may publish it.
func TestACommandByHandNamesALink(t *testing.T) {
	q, err := handRequest([]string{"buoy-1", "command", "set-rate", "seconds=2"}, "", "", "ops")
	require.NoError(t, err)
	assert.Contains(t, q.Event, "link: ops")
	_, err = handRequest([]string{"buoy-1", "offline"}, "", "", "ops")
	assert.ErrorContains(t, err, "--link is of command")
	_, err = handRequest([]string{"pause"}, "", "", "ops")
	assert.ErrorContains(t, err, "pause takes no --for, no --expect and no --link")
}
