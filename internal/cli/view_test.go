package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

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
	for _, size := range [][2]int{{80, 24}, {80, 12}, {200, 60}, {20, 8}} {
		m := &model{view: v, width: size[0], height: size[1]}
		m.last = []sample{{time.Now().Add(-time.Second), 0, 0}, {time.Now(), 1000, 900}}
		lines := m.lines(p, plain, plain)
		assert.LessOrEqual(t, len(lines), max(size[1]-3, 12), "%v", size)
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
