package cli

import (
	"bytes"
	"context"
	"math"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
)

// The live view fits a terminal of 80 by 24 whatever there is to tell, and what a platform
// says moves nothing on it.
func TestTheLiveViewFits(t *testing.T) {
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Close()
	c, err := file.Parse("harbour.yaml", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://`+s.MQTTAddr+`"}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${device}", qos: 1, fields: {a: {signal: counter}}}}}}
devices: [{kind: buoy, count: 3}]
plan: {for: 30s, events: [{name: fog, at: 1s, for: 20s, who: all, do: {offline: keep}}, {name: squall, at: 25s, for: 2s, who: all, do: {offline: keep}}]}
witnesses: {ear: {proves: received, subscribe: "harbour/#"}, store: {proves: stored, get: "http://`+s.HTTPAddr+
		`/stored/${device}", rows: ".rows[]"}}
`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	session, err := run.Open(t.Context(), f, run.Options{Out: t.TempDir(), Version: "test"})
	require.NoError(t, err)
	var out bytes.Buffer
	e := &env{program: "runcrowd", stdout: &out, stderr: &out, color: "never"}
	v := newView(e, c, true)
	v.start(session, f)
	plain := func(s ...string) string { return strings.Join(s, " ") }
	p := session.Progress()
	p.Phase, p.Begin, p.End = run.Playing, time.Now().Add(-2*time.Second), time.Now().Add(28*time.Second)
	p.Devices, p.Joined, p.Up, p.Drops, p.Due, p.Sent, p.Accepted, p.Refused, p.NoAnswer, p.Unsent, p.Commands = 1e6, 1e6, 999_999, 1e6, 1e9, 1e9, 1e9-7, 1, 1, 1, 1e6
	for range 8 {
		p.Troubles = append(p.Troubles, engine.Trouble{At: time.Now(), Device: "buoy-1", What: "state #1 was refused: " +
			"\x1b[2J\x1b[31mgo away\n" + strings.Repeat("x", 200)})
	}
	for _, size := range [][2]int{{80, 24}, {80, 12}, {200, 60}, {60, 30}, {20, 8}} {
		m := &model{view: v, width: size[0], height: size[1], keys: true, help: size[1] > 24}
		m.last = []sample{{time.Now().Add(-time.Second), 0, 0}, {time.Now(), 1000, 900}}
		lines := m.lines(p, size[1]-4, plain, plain)
		assert.LessOrEqual(t, len(lines), size[1]-4, "%v", size)
		text := strings.Join(lines, "\n")
		assert.NotContains(t, text, "\x1b")
		assert.Contains(t, text, "999999 of 1000000 connected, 1 down")
		assert.Contains(t, text, "seen by   ear 0, store is asked when the round is over")
		if size[0] == 80 && size[1] == 24 {
			assert.Regexp(t, `a second +1000 sent, 900 acknowledged`, text)
			assert.Contains(t, text, "troubles")
			for _, line := range lines {
				if !strings.Contains(line, "xxx") { // it is cut to the terminal's width
					assert.LessOrEqual(t, runewidth.StringWidth(line), 80, line)
				}
			}
		}
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	require.NoError(t, session.Play(over))
}

// A sparkline stands between the least and the greatest value, and tells nothing of what is no
// number.
func TestSparkline(t *testing.T) {
	for want, values := range map[string][]any{
		"▁▅█     ": {1.0, 1.5, 2.0}, "▄▄      ": {3.0, 3.0}, "▁ █     ": {0.0, nil, 7.0}, "▁▂▃▄▅▆▇█": {-9.0, 0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0},
		"        ": {"on", true}, "▄       ": {math.MaxFloat64},
	} {
		assert.Equal(t, want, sparkline(values, 8), "%v", values)
	}
	assert.Equal(t, "", sparkline(nil, 0))
}

// Values of a few devices stand below the rest, as far as there is room; a plan's own troubles are
// counted, and push none of the others out.
func TestTheLiveViewShowsValues(t *testing.T) {
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Close()
	c, err := file.Parse("harbour.yaml", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://`+s.MQTTAddr+`"}}
kinds: {buoy: {readings: {state: {every: 50ms, topic: "harbour/${device}", qos: 1, fields: {at: {signal: clock, as: ms}, lamp: "on",
  wave_m: {signal: uniform, low: 2, high: 3, round: 1, unit: m}}}}}}
devices: [{kind: buoy, count: 9, name: "buoy-${n}"}]
plan: {for: 30s, events: [{every: 300ms, for: 100ms, who: buoy-9, do: {offline: {how: cut}}}]}
witnesses: {ear: {proves: received, subscribe: "harbour/#"}}
`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	session, err := run.Open(t.Context(), f, run.Options{Out: t.TempDir(), Version: "test"})
	require.NoError(t, err)
	var out bytes.Buffer
	v := newView(&env{program: "runcrowd", stdout: &out, stderr: &out, color: "never"}, c, true)
	v.start(session, f)
	m := &model{view: v, width: 80, height: 30, keys: true}
	over, cancel := context.WithCancel(t.Context())
	played := make(chan error)
	go func() { played <- session.Play(over) }()
	plain := func(s ...string) string { return strings.Join(s, " ") }
	var text string
	require.Eventually(t, func() bool {
		p := session.Progress()
		text = strings.Join(m.lines(p, 20, plain, plain), "\n")
		return p.Planned > 1 && strings.Count(text, "wave_m") == 3 && !strings.Contains(text, "troubles  ")
	}, 20*time.Second, 20*time.Millisecond, &text)
	assert.Regexp(t, `values    buoy-1 wave_m  [▁▂▃▄▅▆▇█]+ +[23](\.\d)? m\n          buoy-2 wave_m`, text)
	assert.Regexp(t, `by plan   \d+ troubles: connections that it cut`, text)
	assert.NotContains(t, text, "lamp")
	p := session.Progress()
	assert.Len(t, m.lines(p, 2, plain, plain), 2)
	m.key(tea.KeyPressMsg{Code: 'v', Text: "v"})
	assert.NotContains(t, strings.Join(m.lines(p, 20, plain, plain), "\n"), "wave_m")
	m.key(tea.KeyPressMsg{Code: '?', Text: "?"})
	assert.Contains(t, m.View().Content, "q  ends the run in order")
	for _, line := range strings.Split(m.View().Content, "\n") {
		assert.LessOrEqual(t, runewidth.StringWidth(line), 80, line)
	}
	cancel()
	require.NoError(t, <-played)
}
