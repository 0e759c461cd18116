package sketch_test

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/recording"
	"runcrowd/internal/sketch"
	"runcrowd/internal/strictjson"
)

var began = time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)

// traffic is what a crowd sends in a time, in order.
func traffic(t *testing.T, path string, lasts time.Duration) (lines []recording.Line) {
	t.Helper()
	c, err := file.Load(path)
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	for _, s := range f.Streams {
		w := engine.BodyWriter{Run: engine.PreviewRun, Numbers: ledger.NumbersOf(engine.PreviewRun, 1)}
		every := s.Reading.Every
		base := began.Add(time.Duration(float64(every) * math.Mod(float64(s.Index)*0.618, 1)))
		if s.Reading.Turns.How == crowd.Together {
			base = began
		}
		for k := uint64(0); ; k++ {
			due := base.Add(time.Duration(k)*every + engine.Jitter(s, k+1, every))
			if due.Sub(began) > lasts {
				break
			}
			out, err := w.Write(s, k+1, k, due, began, nil)
			require.NoError(t, err)
			l := recording.Line{At: due.Add(time.Duration(300+k%7*100) * time.Microsecond), Body: out.Body, QoS: 1}
			if s.Device.Cast.Link.Protocol == crowd.HTTP {
				l.Path, l.Method = s.Target, "PUT"
			} else {
				l.Topic = s.Target
			}
			lines = append(lines, l)
		}
	}
	slices.SortStableFunc(lines, func(a, b recording.Line) int { return a.At.Compare(b.At) })
	return lines
}

// learnt writes the crowd file that is learnt from traffic, and what it names.
func learnt(t *testing.T, lines []recording.Line, where, address string) (path, text string) {
	t.Helper()
	var h sketch.Heard
	for i := range lines {
		h.Add(&lines[i])
	}
	f, err := h.Learn(where)
	require.NoError(t, err)
	text, err = f.Crowd(sketch.Options{Name: "learnt", Address: address, For: "1m"})
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "crowd.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	for name, values := range f.Columns {
		b := name + "\n"
		for _, v := range values {
			b += strconv.Quote(fmt.Sprint(v)) + "\n"
		}
		require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(path), name+".csv"), []byte(b), 0o600))
	}
	_, err = file.Load(path)
	require.NoError(t, err, text)
	return path, text
}

// What crowds of ours send is learnt again: names, intervals, signals and their parameters.
func TestSignalsAreLearnt(t *testing.T) {
	const head = "crowd: x\nlinks: {sea: {mqtt: \"mqtt://127.0.0.1\"}}\nkinds:\n  buoy:\n    properties: {site: {pick: [inner, " +
		"outer]}, lamp: {pick: [12, 20, 35]}, base: {uniform: 10 to 30, round: 1}}\n    readings:\n      state:\n        " +
		"every: 10s\n        jitter: 10%%\n        topic: 'harbour/${site}/${device}/state'\n        fields:\n          v: %s\n" +
		"devices: [{kind: buoy, count: 12}]\nplan: {for: 1h}\n"
	for name, c := range map[string]struct {
		field string
		want  string             // a regular expression of the learnt field; its groups are numbers
		near  []float64          // what they are
		off   float64            // by which part they may be off
		also  map[string]float64 // other numbers in the file, exactly
	}{
		"constant":          {"7", `"v": 7,`, nil, 0, nil},
		"a property":        {"{formula: lamp}", `v: {pick: \[12, 20, 35\]`, nil, 0, nil},
		"counter":           {"{signal: counter, from: 5, step: 3}", `v: {signal: counter, from: 5, step: 3}`, nil, 0, nil},
		"counter of a byte": {"{signal: counter, from: 0, step: 1, wrap: 256}", `v: {signal: counter, from: 0, step: 1, wrap: 256}`, nil, 0, nil},
		"normal":            {"{signal: normal, mean: 12, spread: 2, round: 2}", `v: {signal: normal, mean: (\S+), spread: (\S+), round: 2}`, []float64{12, 2}, 0.05, nil},
		"uniform":           {"{signal: uniform, low: -3, high: 5, round: 2}", `v: {signal: uniform, low: (\S+), high: (\S+), round: 2}`, []float64{-3, 5}, 0.02, nil},
		"whole":             {"{signal: whole, low: 0, high: 359}", `v: {signal: whole, low: (\S+), high: (\S+)}`, []float64{0, 359}, 0.02, nil},
		"walk":              {"{signal: walk, start: 20, step: 0.5, pull: 5%, round: 2}", `v: {signal: walk, start: (\S+), step: (\S+), pull: (\S+)%, low`, []float64{20, 0.5, 5}, 0.25, nil},
		"walks of their own": {"{signal: walk, start: base, step: 0.2, pull: 10%, round: 2}", `v: {signal: walk, start: v_level, step: (\S+), pull: (\S+)%, round`,
			[]float64{0.2, 10}, 0.15, nil},
		"levels of their own": {"{signal: normal, mean: base, spread: 0.5, round: 1}", `v: {signal: normal, mean: v_level, spread: (\S+), round`, []float64{0.5}, 0.05, nil},
		"drain":               {"{signal: drain, from: 12.8, per_hour: 0.5, round: 3}", `v: {signal: drain, from: (\S+), per_hour: (\S+),`, []float64{12.8, 0.5}, 0.01, nil},
		"drain with noise":    {"{signal: drain, from: 80, per_hour: 20, round: 1, noise: 0.5}", `v: {signal: drain, from: (\S+), per_hour: (\S+), to: 0, noise: (\S+),`, []float64{80, 20, 0.5}, 0.05, nil},
		"tide":                {"{signal: tide, range: 4, period: 15m, mean: 2, round: 3}", `v: {signal: tide, range: (\S+), period: (\S+), mean: (\S+),`, []float64{4, 900, 2}, 0.01, nil},
		"swell":               {"{signal: swell, height: 1.2, period: 2m, round: 2}", `v: {signal: swell, height: (\S+), period: (\S+),`, []float64{1.2, 120}, 0.15, nil},
		"choice":              {"{signal: choice, of: [a, b, c], weights: [7, 2, 1]}", `v: {signal: choice, of: \["a", "b", "c"\], weights: \[(\S+), (\S+), (\S+)\]}`, []float64{70, 20, 10}, 0.1, nil},
		"states":              {"{signal: states, of: {'on': {'off': 5%}, 'off': {'on': 20%}}}", `v: {signal: states, of: {"on": {"off": (\S+)%}, "off": {"on": (\S+)%}}}`, []float64{5, 20}, 0.15, nil},
		"true and false":      {"{signal: choice, of: [true, false]}", `v: {signal: choice, of: \[(?:true, false|false, true)\]}`, nil, 0, nil},
		"codes":               {"{signal: text, pattern: '[A-Z]{3}-[0-9]{4}'}", `v: {signal: text, pattern: "\[A-Z\]\{3\}-\[0-9\]\{4\}"}`, nil, 0, nil},
		"a formula":           {"{signal: walk, low: 0, high: 100, step: 5, round: 1}\n          w: {formula: v * 1.8 + 32, round: 2}", `w: {formula: "v \* 1.8 \+ 32"`, nil, 0, nil},
		"a difference":        {"{signal: uniform, low: 5, high: 9, round: 1}\n          u: {signal: uniform, low: 1, high: 3, round: 1}\n          w: {formula: v - u, round: 1}", `w: {formula: "v - u"`, nil, 0, nil},
		"a sum that grows": {"{signal: uniform, low: 1, high: 3, round: 1}\n          w: {formula: (previous.w ?? 100) + v, round: 1}", `(?s)w_from: {uniform: (\S+) to (\S+),.*w: {formula: "\(previous.w \?\? w_from\) \+ w_step"`,
			[]float64{101, 103}, 0.01, nil},
		"now and then null": {"{signal: normal, mean: 5, spread: 1, round: 2, drop: {chance: 10%, as: null}}", `v: {signal: normal, mean: (\S+), spread: (\S+), round: 2, drop: {chance: (\S+)%, as: null}}`,
			[]float64{5, 1, 10}, 0.15, nil},
		"what fits nothing": {"{signal: pulse, rest: 0.1, top: 4.5, period: 1m, width: 12s, together: true}\n          w: {signal: swell, height: 1, round: 2}", `w: {signal: `, nil, 0, nil},
	} {
		t.Run(name, func(t *testing.T) {
			if testing.Short() && len(name)%4 > 0 {
				t.Skip("not in the short tier")
			}
			t.Parallel()
			dir := t.TempDir()
			path := filepath.Join(dir, "crowd.yaml")
			require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, head, c.field), 0o600))
			again, text := learnt(t, traffic(t, path, time.Hour), "", "mqtt://127.0.0.1")
			for _, line := range []string{"every: 10s\n", "jitter: ", `topic: "harbour/${level_2}/${device}/state"`, `{kind: buoy, count: 12, name: "buoy-${pad(n, 3)}"}`,
				`level_2: {pick: ["inner", "outer"]`} {
				require.Contains(t, text, line)
			}
			found := regexp.MustCompile(c.want).FindStringSubmatch(text)
			require.NotEmpty(t, found, "%s\n%s", c.want, text)
			for i, want := range c.near {
				got, err := strconv.ParseFloat(found[i+1], 64)
				if err != nil {
					var d time.Duration
					d, err = quantity.ParseDuration(found[i+1])
					got = d.Seconds()
				}
				require.NoError(t, err, found[0])
				require.InDelta(t, want, got, max(math.Abs(want), 1)*c.off, found[0])
			}
			// What the learnt file sends is distributed as what it was learnt from.
			was, is := numbers(t, traffic(t, path, time.Hour)), numbers(t, traffic(t, again, time.Hour))
			require.Len(t, is, len(was))
			for field, list := range was {
				most := 0.2
				if strings.Contains(text, "_level: ") || strings.Contains(text, " v: {pick") { // drawn anew for twelve devices
					most = 0.45
				}
				require.LessOrEqual(t, apart(list, is[field]), most, "%s\n%s", field, text)
			}
		})
	}
}

// numbers are all numbers in bodies, by name.
func numbers(t *testing.T, lines []recording.Line) map[string][]float64 {
	all := map[string][]float64{}
	for _, l := range lines {
		v, err := strictjson.Decode(l.Body)
		require.NoError(t, err)
		for k, x := range v.(map[string]any) {
			if n, is := x.(json.Number); is {
				f, err := n.Float64()
				require.NoError(t, err)
				all[k] = append(all[k], f)
			}
		}
	}
	return all
}

// apart is how far two distributions are (Kolmogorov, Smirnov).
func apart(a, b []float64) (most float64) {
	slices.Sort(a)
	slices.Sort(b)
	for _, x := range a {
		i, _ := slices.BinarySearch(a, math.Nextafter(x, math.Inf(1)))
		j, _ := slices.BinarySearch(b, math.Nextafter(x, math.Inf(1)))
		most = max(most, math.Abs(float64(i)/float64(len(a))-float64(j)/float64(len(b))))
	}
	return most
}

// Fleets of other shapes: several kinds, values that come alone, names in the body, over HTTP.
func TestFleetsAreLearnt(t *testing.T) {
	for name, c := range map[string]struct {
		crowd   string
		where   string
		address string
		has     []string
	}{
		"two kinds and three readings": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds:
  buoy: {readings: {a: {every: 1s, topic: 'x/${device}/a', fields: {v: {signal: whole, low: 1, high: 90}}}, b: {every: 4s, turns: together, topic: 'x/${device}/b', fields: {w: 1}}}}
  gauge: {readings: {level: {every: 2500ms, topic: 'g/${device}', fields: {m: {signal: walk, low: 1, high: 9, step: 1, round: 2}}}}}
devices: [{kind: buoy, count: 5, first: 7, name: 'b${n}x'}, {kind: gauge, count: 3, name: 'g-${pad(n, 2)}'}]`, "", "mqtt://127.0.0.1",
			[]string{"  b:\n", "  g:\n", "      a:\n", "      b:\n", "      g:\n", "every: 4s\n        turns: together", "every: 2s500ms", `topic: "x/${device}/a"`, `topic: "g/${device}"`,
				`{kind: b, count: 5, first: 7, name: "b${n}x"}`, `{kind: g, count: 3, name: "g-${pad(n, 2)}"}`, `subscribe: "#"`}},
		"values alone": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {mark: none, readings: {temp: {every: 1s, topic: 'h/${device}/temp', payload: {template: '${v}'}, fields: {v: {signal: normal, mean: 20, spread: 1, round: 1}}},
  lamp: {every: 1s, topic: 'h/${device}/lamp', payload: {template: '${v}'}, fields: {v: {signal: choice, of: ['on', 'off']}}}}}}
devices: [{kind: h, count: 4, name: 'room${n}'}]`, "", "mqtt://127.0.0.1",
			[]string{"mark: {user_property: x-mark}", "template: '${temp}'", "temp: {signal: normal, mean: 20", "template: '${lamp}'", `lamp: {signal: choice, of: ["`, `name: "room${n}"`, `subscribe: "h/+/#"`}},
		"one topic for all": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {readings: {up: {every: 5s, topic: all, payload: {template: '{"id": "${device}", "t": {"x": ${v}}, "mark": "${mark}"}'}, fields: {v: {signal: whole, low: 1, high: 50}}}}}}
devices: [{kind: h, count: 4, name: 'h${n}'}]`, "", "mqtt://127.0.0.1",
			[]string{`topic: "all"`, `{"id": "${device}", "t": {"x": ${t_x}}, "mark": "${mark}"}`, "t_x: {signal: whole", `{kind: h, count: 4, name: "h${n}"}`}},
		"as somebody says": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {readings: {temp: {every: 1s, topic: 'one/${device}/temp', fields: {v: 1}}}}}
devices: [{kind: h, count: 1, name: abc}]`, "one/{device}/+", "mqtt://127.0.0.1", []string{`topic: "one/${device}/temp"`, "kind: abc, count: 1"}},
		"readings of one shape": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {readings: {up: {every: 1s, topic: 'h/${device}/up', fields: {v: 1}}, down: {every: 2s, topic: 'h/${device}/down', fields: {v: 1}}}}}
devices: [{kind: h, count: 2, name: 'b${n}'}]`, "", "mqtt://127.0.0.1", []string{`topic: "h/${device}/up"`, `topic: "h/${device}/down"`, "kind: b, count: 2"}},
		"rooms": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {mark: none, readings: {temp: {every: 1s, topic: '${device}/temp', payload: {template: '${v}'}, fields: {v: {signal: whole, low: 1, high: 40}}}, hum: {every: 2s, topic: '${device}/hum', payload: {template: '${v}'}, fields: {v: {signal: whole, low: 1, high: 40}}}}}}
devices: [{kind: h, name: kitchen}, {kind: h, name: bath}]`, "", "mqtt://127.0.0.1", []string{`topic: "${device}/temp"`, `topic: "${device}/hum"`, "count: 2", "such as bath, kitchen"}},
		"places said": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {properties: {site: {sequence: [inner, outer]}}, readings: {up: {every: 1s, topic: 'h/${site}/${device}/up', fields: {v: 1}}}}}
devices: [{kind: h, count: 6, name: 'b${n}'}]`, "h/+/{device}/up", "mqtt://127.0.0.1", []string{`topic: "h/${level_2}/${device}/up"`, "kind: b, count: 6", `level_2: {pick: ["inner", "outer"]}`}},
		"over HTTP": {`links: {sea: {http: "http://127.0.0.1"}}
kinds: {h: {readings: {temp: {every: 1s, path: '/in/${device}/temp?x=1', fields: {v: {signal: walk, low: 0, high: 5, step: 0.1, round: 2}, at: {signal: clock, as: ms}}}}}}
devices: [{kind: h, count: 3, name: 'h-${n}'}]`, "", "http://127.0.0.1",
			[]string{`path: "/in/${device}/temp?x=1"`, "method: PUT", "at: {signal: clock, as: ms}", "  h:\n"}},
		"places": {`links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {h: {properties: {mooring: {position: "within 58.02,-6.41 and 58.06,-6.35"}}, readings: {p: {every: 1s, topic: 'p/${device}', payload: {template: '{"lat": ${p.lat}, "lon": ${p.lon}, "mark": "${mark}"}'},
  fields: {p: {signal: wander, around: mooring, radius: 15m, period: 1m}}}}},
  s: {readings: {p: {every: 1s, topic: 's/${device}', payload: {template: '{"where": {"Latitude": ${p.lat}, "Longitude": ${p.lon}}, "mark": "${mark}"}'},
  fields: {p: {signal: route, points: ["58.02,-6.41", "58.06,-6.35"], speed: 3m/s}}}}}}
devices: [{kind: h, count: 3, name: 'h-${n}'}, {kind: s, count: 1, name: 's-${n}'}]`, "", "mqtt://127.0.0.1",
			[]string{"{signal: wander, around: mooring, radius: 1", `"lat": ${position.lat}, "lon": ${position.lon}`, "mooring: {position: \"within 58.0", "{signal: route, points: [\"58.0",
				"speed: 3m/s}", `"Latitude": ${position.lat}`}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path := filepath.Join(t.TempDir(), "crowd.yaml")
			require.NoError(t, os.WriteFile(path, []byte("crowd: x\n"+c.crowd+"\nplan: {for: 1h}\n"), 0o600))
			lines := traffic(t, path, 10*time.Minute)
			again, text := learnt(t, lines, c.where, c.address)
			for _, line := range c.has {
				assert.Contains(t, text, line, text)
			}
			// As many messages at the same topics as were learnt from.
			count := func(lines []recording.Line) map[string]int {
				m := map[string]int{}
				for _, l := range lines {
					m[l.Topic+l.Path]++
				}
				return m
			}
			was, is := count(lines), count(traffic(t, again, 10*time.Minute))
			if !strings.Contains(text, "_2: {pick") && !strings.Contains(text, "these are others") { // places are drawn anew
				for topic, n := range was {
					assert.InDelta(t, n, is[topic], 1, "%s\n%s", topic, text)
				}
			}
		})
	}
}

// What cannot be learnt is said, and loses nothing.
func TestWhatIsNotLearnt(t *testing.T) {
	learn := func(where string, lines ...recording.Line) (string, error) {
		var h sketch.Heard
		for i := range lines {
			lines[i].At = began.Add(time.Duration(i) * time.Second)
			h.Add(&lines[i])
		}
		f, err := h.Learn(where)
		if err != nil {
			return "", err
		}
		text, err := f.Crowd(sketch.Options{Name: "x", Address: "mqtt://h", For: "1m"})
		return text + strings.Join(f.Looks(), "\n"), err
	}
	line := func(topic, body string) recording.Line { return recording.Line{Topic: topic, Body: []byte(body)} }
	for name, c := range map[string]struct {
		where string
		lines []recording.Line
		err   string
		has   string
	}{
		"nothing":           {"", nil, "there is no message in it", ""},
		"nothing there":     {"x/{device}", []recording.Line{line("a/b", "{}")}, "no message came at x/{device}", ""},
		"no device said":    {"x/+", []recording.Line{line("a/b", "{}")}, "does not say where the device stands", ""},
		"bytes alone":       {"", []recording.Line{line("a/b", "\xff\x00")}, "nothing could be learnt: 1 message at a/b: the body is bytes", ""},
		"bytes, too":        {"", []recording.Line{line("a/b", "\xff\x00"), line("c/d1", "{}"), line("c/d1", "{}")}, "", "the body is bytes"},
		"one message":       {"", []recording.Line{line("a/b", `{"t": 20.5, "s": "x"}`)}, "", "it came at no interval that was found"},
		"secrets":           {"", []recording.Line{line("a/b", `{"password": "geheim"}`), line("a/b", `{"password": "geheim"}`)}, "", "password looks like a secret"},
		"nobody's":          {"", []recording.Line{line("a", `{"v": 1}`), line("a", `{"v": 2}`)}, "", "nothing names a device"},
		"names of no shape": {"", []recording.Line{line("a/x/t", `{"v": 1}`), line("a/yy/t", `{"v": 2}`)}, "", "the names follow no pattern that was found, such as x, yy"},
		"other members":     {"", []recording.Line{line("a/b", `{"v": 1}`), line("a/b", `{"v": 1}`), line("a/b", `{"v": 1, "w": 2}`)}, "", "1 of 3 messages have other members"},
		"placeholders":      {"", []recording.Line{line("a/${b}/c", `{"v": "${x}"}`), line("a/${b}/c", `{"v": "${x}"}`)}, "", `"$${x}"`},
		"large numbers":     {"", []recording.Line{line("a/b", `{"v": 12345678901234567890}`), line("a/b", `{"v": 12345678901234567891}`)}, "", "more digits than values are made with"},
	} {
		text, err := learn(c.where, c.lines...)
		if c.err != "" {
			require.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		require.Contains(t, text, c.has, name)
		require.NotContains(t, text, "geheim")
	}
	_, err := learn("", recording.Line{Path: "/a", Body: []byte("{}")})
	require.ErrorContains(t, err, "what was recorded is HTTP, and mqtt://h is not")
}

// FuzzHeard: whatever came, what is learnt is a crowd file that can be read.
func FuzzHeard(f *testing.F) {
	f.Add("a/b1/c", `{"v": 1.5, "on": true, "s": "x", "lat": 1, "lon": 2, "l": [1, {"x": null}]}`, "a/b2/c", `{"v": 2, "on": false, "s": "y", "lat": 2, "lon": 3, "l": [2, {"x": 1}]}`)
	f.Add("h/1/t", "20.5", "h/2/t", "on")
	f.Add("a", `{"id": "x", "mark": "r/d/s/1"}`, "a", `{"id": "y", "mark": "r/d/s/2"}`)
	f.Add("${x}/#/+", `{"$${a}": "'${b}"}`, "true", `{"a": {"a": 1e400}}`)
	f.Fuzz(func(t *testing.T, a, one, b, two string) {
		var h sketch.Heard
		for i := range 40 {
			l := recording.Line{At: began.Add(time.Duration(i) * time.Second), Topic: a, Body: []byte(one)}
			if i%3 == 1 {
				l.Topic, l.Body = b, []byte(two)
			}
			h.Add(&l)
		}
		fl, err := h.Learn("")
		if err != nil {
			return
		}
		text, err := fl.Crowd(sketch.Options{Name: "x", Address: "mqtt://h", For: "1m"})
		require.NoError(t, err)
		dir := t.TempDir()
		for name := range fl.Columns {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name+".csv"), []byte(name+"\n1\n"), 0o600))
		}
		path := filepath.Join(dir, "crowd.yaml")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		c, err := file.Load(path)
		require.NoError(t, err, text)
		_, err = fleet.Build(c, credential.New(c))
		require.NoError(t, err, text)
	})
}
