//go:build unix

package run_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/recording"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
	"runcrowd/internal/witness/listen"
)

// recorded writes a recording of some seconds: an uneven pace, bodies as they come.
func recorded(t *testing.T, name string, n int, body func(i int, at time.Time) recording.Line) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	w, err := recording.Create(path, recording.Options{})
	require.NoError(t, err)
	at := time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)
	for i := range n {
		l := body(i, at)
		l.At = at
		require.NoError(t, w.Write(&l))
		at = at.Add([]time.Duration{0, 10, 250, 40}[i%4] * time.Millisecond)
	}
	require.NoError(t, w.Close())
	return path
}

// fileIn writes a crowd file into a folder, beside what it reads, and reads it.
func fileIn(t *testing.T, dir, text string) *crowd.Crowd {
	t.Helper()
	path := filepath.Join(dir, "harbour.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	c, err := file.Load(path)
	require.NoError(t, err)
	return c
}

// playFile plays a crowd file that stands in a folder, beside what it reads.
func playFile(t *testing.T, dir, text string) *played {
	t.Helper()
	return playCrowd(t, fileIn(t, dir, text), run.Options{})
}

// playFile plays a crowd file of a folder against the stand-in.
func (w *world) playFile(t *testing.T, dir, text string) *played {
	t.Helper()
	text = strings.NewReplacer("MQTT", w.MQTTAddr, "HTTP", w.HTTPAddr).Replace(text)
	return playCrowd(t, fileIn(t, dir, text), w.options())
}

const again = `
crowd: again
links: {sea: {mqtt: mqtt://MQTT, back_off: 20ms to 100ms}}
MARK
kinds: {buoy: {readings: {state: {topic: "again/${device}/state", qos: 1}}}}
devices: [{kind: buoy, recording: {file: w.jsonl, MORE}}]
plan: {for: 4s, settle: 20s, EVENTS}
witnesses: {ear: {proves: received, subscribe: "again/#", wait: 20s}}
`

// Recorded traffic is proven, with the mark in the body, or beside bodies that stay as they
// are to the byte; at its own distances, faster, slower, at an interval, in a loop, in rounds.
func TestRecordedTrafficIsProven(t *testing.T) {
	t.Parallel()
	object := func(i int, at time.Time) recording.Line {
		body := fmt.Sprintf(`{"mark":"oldrun12/buoy-%d/state/%d", "at" : "%s","wave_m": %d.50 ,"in":{"list":[1, 2.0]}}`, i%3,
			i, at.Format(time.RFC3339Nano), i)
		return recording.Line{Topic: fmt.Sprintf("harbour/buoy-%d/state", i%3), Body: []byte(body),
			ContentType: "application/json", QoS: 1}
	}
	bytes := func(i int, _ time.Time) recording.Line {
		return recording.Line{Topic: fmt.Sprintf("harbour/buoy-%d/state", i%3), Body: []byte{0xff, 0, byte(i), '{'},
			Retained: i%2 == 0, QoS: 1, Properties: []recording.Pair{{"unit", "m"}}}
	}
	for name, c := range map[string]struct {
		body   func(int, time.Time) recording.Line
		more   string
		mark   string
		events string
		due    int
		lasts  time.Duration // from the first message to the last
	}{
		"as it was":      {object, "", "", "", 40, 2960 * time.Millisecond},
		"faster":         {object, "speed: 4x", "", "", 40, 740 * time.Millisecond},
		"slower":         {object, "speed: 0.5x, to: 2026-01-15T02:00:01Z", "", "", 15, 1820 * time.Millisecond},
		"at an interval": {object, "every: 20ms", "", "", 40, 780 * time.Millisecond},
		"a part of it": {object, "from: 2026-01-15T02:00:01Z, to: 2026-01-15T02:00:02Z", "", "", 12,
			650 * time.Millisecond},
		"in a loop":        {object, "speed: 3x, loop: true", "", "", 0, 0},
		"in rounds":        {object, "speed: 10x", "", "rounds: {count: 3}", 120, 0},
		"a sequence":       {object, "", "mark: {sequence: mark}", "", 40, 0},
		"a user property":  {object, "", "mark: {user_property: run-mark}", "", 40, 0},
		"bytes":            {bytes, "", "mark: {user_property: run-mark}", "", 40, 0},
		"times moved":      {object, "shift: at, override: {site: north, wave_m: \"${seq * 2}\"}", "", "", 40, 0},
		"with an outage":   {object, "", "", "events: [{at: 500ms, for: 1s, do: {offline: keep}}]", 40, 0},
		"over and over":    {object, "every: 20ms", "", "events: [{at: 100ms, for: 300ms, do: {repeat: 1}}]", 40, 0},
		"measured nothing": {object, "", "", "events: [{at: 1s, for: 1s, do: {offline: idle}}]", 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			path := recorded(t, "w.jsonl", 40, c.body)
			text := strings.NewReplacer("MARK", c.mark, "MORE", c.more, "EVENTS", c.events).Replace(again)
			if c.events == "" {
				text = strings.Replace(text, "settle: 20s, ", "settle: 20s", 1)
			}
			var p *played
			inWorld(t, standin.Config{}, func(t *testing.T, w *world) { p = w.playFile(t, filepath.Dir(path), text) })
			due := p.result.Total.Due()
			assert.True(t, p.holds(), "%+v %s", p.checks, p.says())
			assert.Equal(t, due, p.result.Total[verdict.Proven], p.says())
			if c.due > 0 {
				assert.Equal(t, c.due, due)
			} else {
				assert.Greater(t, due, 20)
				assert.NotEqual(t, 40, due)
			}
			book, err := run.ReadLedger(p.folder)
			require.NoError(t, err)
			if c.lasts > 0 {
				var times []time.Time
				for _, list := range book.Messages {
					for _, m := range list {
						times = append(times, m.Due)
					}
				}
				slices.SortFunc(times, time.Time.Compare)
				assert.InDelta(t, c.lasts.Seconds(), times[len(times)-1].Sub(times[0]).Seconds(), 0.001)
			}
			m := book.Messages[0][0]
			switch name {
			case "bytes":
				assert.Equal(t, `{"bytes":"`+base64.StdEncoding.EncodeToString([]byte{0xff, 0, 0, '{'})+`"}`, string(m.Carried))
			case "times moved":
				assert.Regexp(t, `^\{ "at" : "`+m.Due.UTC().Format("2006-01-02T15:04:05")+
					`Z","wave_m": 2 ,"in":\{"list":\[1, 2\.0\]\},"site":"north"\}$`, string(m.Carried))
			case "a user property":
				assert.Contains(t, string(m.Carried), `"mark":"oldrun12/`)
			case "a part of it":
				assert.Contains(t, string(m.Carried), `"wave_m": 15.50 ,`)
			default:
				assert.Contains(t, string(m.Carried), `"wave_m": 0.50 ,"in":{"list":[1, 2.0]}}`)
			}
		})
	}
}

// A platform that loses, alters and doubles recorded messages is found out.
func TestFlawsFallOnRecordedTraffic(t *testing.T) {
	t.Parallel()
	path := recorded(t, "w.jsonl", 60, func(i int, _ time.Time) recording.Line {
		return recording.Line{Topic: fmt.Sprintf("h/buoy-%d/state", i%2), Body: fmt.Appendf(nil, `{"wave_m":%d.25}`, i)}
	})
	for flaw, v := range map[string]verdict.Verdict{"lose=4": verdict.Lost, "alter=4": verdict.Altered,
		"repeat=4": verdict.Repeated, "misfile=4": verdict.Misfiled} {
		text := strings.NewReplacer("MARK", "", "MORE", "every: 10ms", ", EVENTS", "", "wait: 20s", "wait: 1s").Replace(again)
		inWorld(t, standin.Config{Flaws: flawsOf(t, flaw)}, func(t *testing.T, w *world) {
			p := w.playFile(t, filepath.Dir(path), text)
			hits := len(w.Hits())
			assert.Greater(t, hits, 2) // the first may come before there is another device to misfile under
			assert.Equal(t, hits, p.result.Total[v], "%s: %s", flaw, p.says())
			assert.Equal(t, 60-hits, p.result.Total[verdict.Proven], flaw)
		})
	}
}

// Over HTTP: requests as they were recorded, with the mark in a header; and rows of a CSV file.
func TestRecordedOverHTTP(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	w, err := recording.Create(filepath.Join(dir, "w.jsonl"), recording.Options{})
	require.NoError(t, err)
	at := time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)
	var rows strings.Builder
	rows.WriteString("when,gauge,level_m,note\n")
	for i := range 20 {
		require.NoError(t, w.Write(&recording.Line{At: at.Add(time.Duration(i) * 20 * time.Millisecond),
			Path: fmt.Sprintf("/v1/gauge-%d/level?x=1", i%2), Method: "POST", Body: fmt.Appendf(nil, "level=%d", i),
			ContentType: "text/plain", Headers: []recording.Pair{{"X-Unit", "m"}, {"X-Unit", "cm"}}}))
		fmt.Fprintf(&rows, "%s,gauge-%d,%d.5,\"a %d\"\n", at.Add(time.Duration(i)*20*time.Millisecond).Format(
			time.RFC3339Nano), i%2, i, i)
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "w.csv"), []byte(rows.String()), 0o600))
	var mu sync.Mutex
	var got []string
	platform := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		got = append(got, fmt.Sprintf("%s %s %s %v", r.URL.Path, strings.Join(r.Header.Values("X-Unit"), "+"), b,
			r.Header.Get("X-Mark") != ""))
		w.WriteHeader(http.StatusAccepted)
	}))
	t.Cleanup(platform.Close)
	text := `
crowd: again
links: {shore: {http: "` + platform.URL + `"}}
mark: {header: X-Mark}
kinds: {gauge: {readings: {level: {path: "/in/${device}"}}}}
devices: [{kind: gauge, name: "new-${recorded}", recording: {FILE}}]
plan: {for: 1s, settle: 20s}
`
	p := playFile(t, dir, strings.Replace(text, "FILE", `file: w.jsonl, topic: "/v1/${device}/${reading}"`, 1))
	assert.Equal(t, 20, p.result.Total[verdict.Proven], p.says())
	assert.Contains(t, got, "/in/new-gauge-1 m+cm level=7 true")
	got = nil
	p = playFile(t, dir, strings.Replace(text, "FILE", "file: w.csv, time: when, device: gauge", 1))
	assert.Equal(t, 20, p.result.Total[verdict.Proven], p.says())
	assert.Contains(t, got, `/in/new-gauge-1  {"level_m":7.5,"note":"a 7"} true`)
}

// The traffic of a broker that we did not write, with retained messages and binary bodies, is
// recorded as it comes and goes out again to the byte.
func TestMosquittoIsRecordedAndPlayedAgain(t *testing.T) {
	t.Parallel()
	m := startMosquitto(t, "allow_anonymous true")
	from := `
crowd: old
links: {sea: {mqtt: mqtt://MQTT}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "old/${device}/state", qos: 1, retain: true, payload: senml-cbor, fields: {wave_m: {signal: swell}, level: {signal: tide}}}}}}
mark: {user_property: old-mark}
devices: [{kind: buoy, count: 3, name: "buoy-${n}"}]
plan: {for: 1s, settle: 20s}
witnesses: {ear: {proves: received, subscribe: "old/#", wait: 20s}}
`
	p := playAgainst(t, m.addr, "", from) // leaves retained messages
	require.Equal(t, 30, p.result.Total[verdict.Proven])
	c, err := file.Parse("harbour.yaml", []byte(strings.ReplaceAll(from, "MQTT", m.addr)), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	dir := t.TempDir()
	w, err := recording.Create(filepath.Join(dir, "w.jsonl"), recording.Options{})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	lines, retained, due := 0, 0, 0
	began := time.Time{}
	recorded, heard := make(chan error, 1), make(chan bool, 100)
	go func() {
		_, err := listen.Record(ctx, 0, f, &crowd.Witness{Name: "record", Filters: []string{"old/#"}, QoS: 2, Link: c.Links[0]},
			func(l *recording.Line) {
				if lines++; lines == 1 {
					began = l.At
				}
				if l.Retained {
					retained++
				}
				if l.At.Sub(began) < 4*time.Second { // as long as it is played again
					due++
				}
				if w.Write(l) != nil || lines == 33 {
					cancel()
				}
				heard <- true
			})
		recorded <- err
	}()
	for range 3 { // it listens: the retained ones came
		select {
		case <-heard:
		case <-ctx.Done():
			require.Fail(t, "nothing was recorded")
		}
	}
	playAgainst(t, m.addr, "", from)
	require.NoError(t, <-recorded)
	require.NoError(t, w.Close())
	assert.Equal(t, 33, lines)
	assert.Equal(t, 33, retained, "live messages keep the flag with which they were published")
	text := strings.NewReplacer("MQTT", m.addr, "MARK", "mark: {user_property: new-mark}", "MORE", "", ", EVENTS",
		"").Replace(again)
	p = playFile(t, dir, text)
	assert.Equal(t, due, p.result.Total[verdict.Proven], "%s %+v", p.says(), p.checks)
}

// What is recorded goes out as it was, to the byte and to the property: recorded once more it
// is the same, but for the topic and the mark.
func TestMosquittoIsPlayedAgainToTheProperty(t *testing.T) {
	t.Parallel()
	m := startMosquitto(t, "allow_anonymous true")
	at := time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)
	var lines []recording.Line
	for i, l := range []recording.Line{
		{Topic: "old/buoy-1/state", QoS: 1, Body: []byte(" \n{\"a\" : 1.50,\t\"b\":[ ]}\r\n")},
		{Topic: "old/buoy-1/state", QoS: 1, Body: []byte("no json"), ContentType: "text/plain", UTF8: true, Retained: true},
		{Topic: "old/buoy-1/state", QoS: 1, Body: []byte{}},
		{Topic: "old/buoy-1/light", QoS: 2, Body: []byte{0xff, 0, '{'},
			Properties: []recording.Pair{{"k", "v"}, {"a", ""}, {"k", "w"}, {"k", "v"}}},
		{Topic: "old/buoy-1/light", QoS: 2, Body: []byte("{}"), Response: "answers/1", Correlation: []byte{0, 1, 0xff},
			Expiry: 3600, ContentType: "application/json"},
		{Topic: "old/buoy-2/hail", QoS: 0, Body: []byte("x"), Expiry: 7200},
	} {
		l.At = at.Add(time.Duration(i) * 20 * time.Millisecond)
		lines = append(lines, l)
	}
	dir := t.TempDir()
	w, err := recording.Create(filepath.Join(dir, "w.jsonl"), recording.Options{})
	require.NoError(t, err)
	for i := range lines {
		require.NoError(t, w.Write(&lines[i]))
	}
	require.NoError(t, w.Close())
	c := fileIn(t, dir, `
crowd: again
links: {sea: {mqtt: "mqtt://`+m.addr+`", timeout: 60s}}
mark: {user_property: new-mark}
kinds: {buoy: {readings: {state: {topic: "new/${device}/state"}, light: {topic: "new/${device}/light"}, hail: {topic: "new/${device}/hail"}}}}
devices: [{kind: buoy, recording: {file: w.jsonl}}]
plan: {for: 2s, settle: 20s}
`)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	playCrowd(t, c, run.Options{}) // it leaves a retained message, by which it is known when the recorder listens
	var got []recording.Line
	recorded, listens := make(chan error, 1), make(chan bool, 1)
	go func() {
		_, err := listen.Record(ctx, 0, f, &crowd.Witness{Name: "record", Filters: []string{"new/#"}, QoS: 2, Link: c.Links[0]},
			func(l *recording.Line) {
				if got = append(got, *l); len(got) == 1 {
					listens <- true
				}
				if len(got) == 1+len(lines) {
					cancel()
				}
			})
		recorded <- err
	}()
	select {
	case <-listens:
	case err := <-recorded:
		require.NoError(t, err)
	}
	p := playCrowd(t, c, run.Options{})
	require.NoError(t, <-recorded)
	require.Len(t, got, 1+len(lines), p.says())
	assert.Equal(t, []ledger.Retained{{Link: "sea", Topics: 1}}, p.result.Retained, "what it leaves on the broker is told")
	byTopic := func(a, b recording.Line) int { // only of one topic is the order kept
		return strings.Compare(a.Topic[3:], b.Topic[3:])
	}
	slices.SortStableFunc(lines, byTopic)
	slices.SortStableFunc(got[1:], byTopic)
	for i, l := range got[1:] {
		want := lines[i]
		l.At, l.Topic = want.At, strings.Replace(l.Topic, "new/", "old/", 1)
		l.Properties = slices.DeleteFunc(l.Properties, func(p recording.Pair) bool { return p[0] == "new-mark" })
		if len(want.Properties) == 0 && len(l.Properties) == 0 {
			l.Properties = nil
		}
		if l.Expiry > 0 { // what is left of it
			assert.InDelta(t, want.Expiry, l.Expiry, 60)
			l.Expiry = want.Expiry
		}
		if len(l.Correlation) == 0 {
			l.Correlation = nil
		}
		assert.Equal(t, want, l)
	}
}

// A million lines cost no more memory than a thousand: it is read line by line.
func TestLongRecordingsAreStreamed(t *testing.T) {
	if testing.Short() { // what it measures is memory, and the race detector has its own
		t.Skip("not in the short tier")
	}
	const lines = 60_000 // of which the plan plays the first second
	path := filepath.Join(t.TempDir(), "w.jsonl")
	f, err := os.Create(path)
	require.NoError(t, err)
	at := time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)
	var b []byte
	for i := range lines {
		l := recording.Line{At: at.Add(time.Duration(i) * 10 * time.Millisecond),
			Topic: fmt.Sprintf("h/buoy-%d/state", i%10), Body: fmt.Appendf(nil, `{"wave_m":%d,"text":"%s"}`, i,
				strings.Repeat("x", 400))}
		b, err = l.Append(b[:0])
		require.NoError(t, err)
		_, err = f.Write(b)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	text := strings.NewReplacer("MQTT", s.MQTTAddr, "MARK", "", "MORE", "", ", EVENTS", "", "for: 4s", "for: 1s").Replace(
		again)
	p := playFile(t, filepath.Dir(path), text)
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Equal(t, 100, p.result.Total[verdict.Proven], p.says())
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(18<<20), "the file has %d MB", lines*500>>20)
}

// A run of recorded traffic that was killed is judged from its folder, which keeps who was in
// the recording, and none of what they said.
func TestRunFoldersKeepWhoWasRecorded(t *testing.T) {
	t.Parallel()
	path := recorded(t, "w.jsonl", 40, func(i int, _ time.Time) recording.Line {
		return recording.Line{Topic: fmt.Sprintf("h/buoy-%d/state", i%3),
			Body: fmt.Appendf(nil, `{"said":"something private %d"}`, i)}
	})
	text := strings.NewReplacer("MARK", "", "MORE", "every: 1ms", ", EVENTS", "").Replace(again)
	var p *played
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) { p = w.playFile(t, filepath.Dir(path), text) })
	assert.Equal(t, 40, p.result.Total[verdict.Proven])
	kept, err := os.ReadFile(filepath.Join(p.folder, "files", "1-w.jsonl"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "private")
	c, err := run.LoadCopy(p.folder)
	require.NoError(t, err)
	assert.Len(t, c.Members, 3)
}
