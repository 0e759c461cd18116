//go:build unix

package run_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/memnet"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

const unmarked = `
crowd: gauge
links: {shore: {http: http://HTTP}}
kinds: {gauge: {mark: MARK, readings: {level: {every: 100ms, path: "/in/${device}", fields: {at: {signal: clock, as: AS}, level_m: {signal: tide, round: 3, FIELD}, n: {signal: counter}}}}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 900ms, settle: 30s}
witnesses: {store: {proves: stored, get: "http://HTTP/out", device: .device, rows: '.[]', values: .values, wait: 2s, watch_copies: 50ms, MORE}}
`

// Messages without a mark are told apart by a time that they carry, or by their values and
// order; what a platform does to one of them is found.
func TestMessagesWithoutAMark(t *testing.T) {
	t.Parallel()
	type row = map[string]any
	third := func(p *platform, i int) bool { // the third message of the first device
		n := 0
		for k := 0; k <= i; k++ {
			if p.devices[k] == "gauge-1" {
				n++
			}
		}
		return p.devices[i] == "gauge-1" && n == 3
	}
	number := func(r row, name string) int64 { n, _ := r[name].(json.Number).Int64(); return n }
	for name, c := range map[string]struct {
		mark, as, field, more string
		edit                  func(p *platform, i int, r row) []row
		want                  map[verdict.Verdict][]string
	}{
		"by time": {"{time: at}", "ms", "", "", nil, nil},
		"by time, lost": {"{time: at}", "ms", "", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"by time, twice": {"{time: at}", "ms", "", "",
			func(p *platform, i int, r row) []row { return []row{r, r} },
			map[verdict.Verdict][]string{verdict.Repeated: {"gauge-1/level/3"}}},
		"by time, changed": {"{time: at}", "rfc3339", "", "",
			func(p *platform, i int, r row) []row { r["level_m"] = 77; return []row{r} },
			map[verdict.Verdict][]string{verdict.Altered: {"gauge-1/level/3"}}},
		"by time, moved": {"{time: at}", "ms", "", "shift: 1h",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"by time, cut": {"{time: at}", "us", "", "cut: ms",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"by time, in seconds": {"{time: at}", "ms", "", "fields: {at: ignored}", nil, nil},
		"by time, in micros":  {"{time: at}", "ms", "", "fields: {at: ignored }", nil, nil},
		"a second for many":   {"{time: at}", "s", "", "", nil, nil},
		"a second, one lost": {"{time: at}", "s", "", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"a second, one twice": {"{time: at}", "s", "", "",
			func(p *platform, i int, r row) []row { return []row{r, r} },
			map[verdict.Verdict][]string{verdict.Repeated: {"gauge-1/level/3"}}},
		"by order": {"none", "ms", "", "", nil, nil},
		"by order, lost": {"none", "ms", "", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"by order, twice": {"none", "ms", "", "", func(p *platform, i int, r row) []row { return []row{r, r} },
			map[verdict.Verdict][]string{verdict.Repeated: {"gauge-1/level/3"}}},
		"by order, changed": {"none", "ms", "", "", func(p *platform, i int,
			r row) []row {
			r["level_m"] = 77
			return []row{r}
		}, map[verdict.Verdict][]string{verdict.Altered: {"gauge-1/level/3"}}},
		"by order, changed, one": {"none", "ms", "", "", func(p *platform, i int,
			r row) []row {
			r["level_m"], r["n"] = 77, nil
			return []row{r, r}
		}, map[verdict.Verdict][]string{verdict.Unknown: {"gauge-1/level/3"}}},
		"nested, by time":         {"{time: c.at}", "ms", "NESTED", "", nil, nil},
		"a mark among the values": {"{field: c.m}", "ms", "NESTED", "", nil, nil},
		"a mark among them, lost": {"{field: c.m}", "ms", "NESTED", "",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"a number among the values": {"{sequence: c.q}", "ms", "NESTED", "", nil, nil},
		"nested, by time, lost": {"{time: c.at}", "ms", "NESTED", "",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"nested, by time, twice": {"{time: c.at}", "ms", "NESTED", "",
			func(p *platform, i int, r row) []row { return []row{r, r} },
			map[verdict.Verdict][]string{verdict.Repeated: {"gauge-1/level/3"}}},
		"nested, a second, one lost": {"{time: c.at}", "s", "NESTED", "",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"nested, by order": {"none", "ms", "NESTED", "", nil, nil},
		"nested, by order, lost": {"none", "ms", "NESTED", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"template, by time": {"{time: at}", "ms", "TEMPLATE", "", nil, nil},
		"template, by time, lost": {"{time: at}", "ms", "TEMPLATE", "",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"template, a second, one twice": {"{time: at}", "s", "TEMPLATE", "",
			func(p *platform, i int, r row) []row { return []row{r, r} },
			map[verdict.Verdict][]string{verdict.Repeated: {"gauge-1/level/3"}}},
		"template, by order": {"none", "ms", "TEMPLATE", "", nil, nil},
		"template, by order, lost": {"none", "ms", "TEMPLATE", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"a list, by time, lost": {"{time: at}", "ms", "LIST", "",
			func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"a list, by order, lost": {"none", "ms", "LIST", "", func(p *platform, i int, r row) []row { return nil },
			map[verdict.Verdict][]string{verdict.Lost: {"gauge-1/level/3"}}},
		"a tolerance": {"none", "ms", "tolerance: 0.5", "", func(p *platform, i int, r row) []row {
			r["level_m"] = json.Number(fmt.Sprintf("%s1", r["level_m"]))
			return []row{r}
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				rows := []row{}
				for i, m := range p.messages {
					r := row{}
					var body any
					d := json.NewDecoder(strings.NewReader(string(m)))
					d.UseNumber()
					assert.NoError(t, d.Decode(&body))
					if o, is := body.(row); is {
						r = o
					}
					if c.more == "shift: 1h" {
						r["at"] = number(r, "at") + 3600_000
					}
					if c.more == "cut: ms" {
						r["at"] = number(r, "at") / 1000
					}
					switch name { // to the digit, in another unit
					case "by time, in seconds":
						ms := int64(number(r, "at"))
						r["at"] = json.Number(fmt.Sprintf("%d.%03d", ms/1000, ms%1000))
					case "by time, in micros":
						r["at"] = json.Number(fmt.Sprintf("%d000.0", int64(number(r, "at"))))
					}
					list := []row{r}
					if third(p, i) && c.edit != nil {
						list = c.edit(p, i, r)
					}
					for _, r := range list {
						values := any(r)
						if c.field == "LIST" {
							values = body
						}
						rows = append(rows, row{"device": p.devices[i], "values": values})
					}
				}
				json.NewEncoder(w).Encode(rows)
			}}
			field, text := c.field, unmarked
			switch field { // another form of body
			case "NESTED":
				field, text = "", strings.NewReplacer("at: {signal", "c.at: {signal", "level_m:", "c.d.level_m:",
					`path: "/in/${device}"`, `path: "/in/${device}", payload: {form: json, nested: true}`).Replace(text)
			case "TEMPLATE":
				field, text = "", strings.Replace(text, `path: "/in/${device}"`,
					`path: "/in/${device}", payload: {form: template, template: '{"head": {"when": "${at}", "x": [1, {"n": "${n}"}]}, "level": "${level_m}"}'}`, 1)
			case "LIST":
				field, text = "", strings.Replace(text, `path: "/in/${device}"`,
					`path: "/in/${device}", payload: {form: template, template: '["${n}", {"when": "${at}"}, "${level_m}"]'}`, 1)
			}
			text = strings.NewReplacer("MARK", c.mark, "AS", c.as, "FIELD", field, "MORE", c.more).Replace(text)
			p := playOn(t, srv, text)
			due, bad := p.result.Total.Due(), 0
			require.InDelta(t, 18, due, 2)
			for v, want := range c.want {
				bad += len(want)
				assert.Equal(t, want, p.found(v), "%v", p.result.Findings)
			}
			assert.Equal(t, due-bad, p.result.Total[verdict.Proven], "%v %+v", p.result.Total, p.result.Witnesses)
			assert.Equal(t, bad == 0, p.holds())
		})
	}
}

// A listening witness knows messages by their time as one that asks does: in whatever place of
// the body it stands.
func TestAListenerKnowsMessagesByTheirTime(t *testing.T) {
	t.Parallel()
	for name, form := range map[string]string{
		"flat":     ``,
		"nested":   `, payload: {form: json, nested: true}`,
		"template": `, payload: {template: '{"head": {"ts": "${at}"}, "b": [1, {"level": ${level_m}}]}'}`,
		"a list":   `, payload: {template: '["x", {"when": "${at}"}, ${level_m}]'}`,
	} {
		for flaw, want := range map[string]verdict.Verdict{
			"reorder": verdict.Proven, "lose": verdict.Lost, "alter": verdict.Altered, "repeat": verdict.Repeated,
		} {
			if flaw == "alter" && (name == "a list" || name == "template") { // the stand-in cannot alter these
				continue
			}
			t.Run(name+", "+flaw, func(t *testing.T) {
				t.Parallel()
				text := `
crowd: told
links: {sea: {mqtt: mqtt://MQTT}}
kinds: {gauge: {mark: {time: at}, readings: {level: {every: 300ms, topic: "harbour/${device}/level", qos: 1FORM,
  fields: {at: {signal: clock, as: ms}, level_m: {signal: tide, range: 4, round: 3}}}}}}
devices: [{kind: gauge, count: 4, name: "gauge-${n}"}]
plan: {for: 6s}
witnesses: {ear: {proves: received, subscribe: harbour/#, link: sea, wait: 5s}}
`
				if text = strings.Replace(text, "FORM", form, 1); name == "nested" {
					text = strings.NewReplacer("{at: {", "{head.at: {", "{time: at}", "{time: head.at}").Replace(text)
				}
				inWorld(t, standin.Config{Flaws: flawsOf(t, flaw+"=15%")}, func(t *testing.T, w *world) {
					p, hits := w.play(t, text), len(w.StandIn.Hits())
					if want == verdict.Proven {
						hits = 0
					} else {
						require.Positive(t, hits)
						assert.Equal(t, hits, p.result.Total[want], p.says())
					}
					assert.Equal(t, p.result.Total.Due()-hits, p.result.Total[verdict.Proven], p.says())
				})
			})
		}
	}
}

// A platform that keeps one row for each time stamp loses the others; rows of an earlier run
// with the same times are not taken for those of this one.
func TestTimesThatAreShared(t *testing.T) {
	t.Parallel()
	kept := map[string]string{}
	srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
		for i, m := range p.messages {
			var r struct{ At int64 }
			json.Unmarshal(m, &r)
			kept[fmt.Sprint(p.devices[i], r.At)] = fmt.Sprintf(`{"device": %q, "values": %s}`, p.devices[i], m)
		}
		p.messages, p.devices = nil, nil
		var rows []string
		for _, r := range kept {
			rows = append(rows, r)
		}
		slices.Sort(rows)
		fmt.Fprintf(w, "[%s]", strings.Join(rows, ","))
	}}
	text := strings.NewReplacer("MARK", "{time: at}", "AS", "s", "FIELD", "", "MORE", "", "plan: {",
		"plan: {begin: 2030-01-01T00:00:00Z, ").Replace(unmarked)
	p := playOn(t, srv, text)
	assert.Equal(t, 2, p.result.Total[verdict.Proven], "%v", p.result.Total)
	assert.Equal(t, p.result.Total.Due()-2, p.result.Total[verdict.Lost], "%v", p.result.Total)
	again := playOn(t, srv, text)
	assert.Zero(t, again.result.Total[verdict.Proven], "%v", again.result.Total)
	assert.Equal(t, again.result.Total.Due(), again.result.Total[verdict.Unknown], "%v", again.result.Total)
}

// Recorded messages are known by a time that they carry, also where nothing is put into them.
func TestRecordedMessagesByTime(t *testing.T) {
	t.Parallel()
	for _, shift := range []string{"", ", shift: true"} {
		srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
			var rows []string
			for i, m := range p.messages {
				if i != 5 {
					rows = append(rows, fmt.Sprintf(`{"device": %q, "values": %s}`, p.devices[i], m))
				}
			}
			fmt.Fprintf(w, "[%s]", strings.Join(rows, ","))
		}}
		dir, text := t.TempDir(), ""
		for i := range 10 {
			at := time.Date(2026, 1, 15, 2, 0, 0, i*100_000_000, time.UTC)
			text += fmt.Sprintf(`{"at": %q, "path": "/in/gauge-1/level", "body": "{\"at\":%d,\"level_m\":%d.5}"}`+"\n",
				at.Format(time.RFC3339Nano), at.UnixMilli(), i)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "w.jsonl"), []byte(text), 0o600))
		text = strings.Replace(`
crowd: again
links: {shore: {http: "HTTP"}}
kinds: {gauge: {mark: {time: at}, readings: {level: {path: "/in/${device}"}}}}
devices: [{kind: gauge, recording: {file: w.jsonl SHIFT}}]
plan: {for: 2s, settle: 20s}
witnesses: {store: {proves: stored, get: "HTTP/out", device: .device, rows: '.[]', values: .values, wait: 2s, watch_copies: 50ms}}
`, "SHIFT", shift, 1)
		var p *played
		out := t.TempDir()
		synctest.Test(t, func(t *testing.T) {
			w := &world{net: memnet.New(), dir: out}
			p = playCrowd(t, fileIn(t, dir, strings.ReplaceAll(text, "HTTP", "http://"+w.serve(t, srv))), w.options())
		})
		assert.Equal(t, []string{"gauge-1/level/6"}, p.found(verdict.Lost), "%q %v", shift, p.result.Total)
		assert.Equal(t, 9, p.result.Total[verdict.Proven], "%q %v", shift, p.result.Total)
	}
}

// Messages that share a time and their values are told apart by how many there are: heard one
// by one they are all proven, and on two pages nobody is accused.
func TestMessagesThatAreAlike(t *testing.T) {
	t.Parallel()
	text := `
crowd: gauge
links: {sea: {mqtt: mqtt://MQTT}}
kinds: {gauge: {mark: {time: at}, readings: {level: {every: 100ms, topic: "harbour/${device}", qos: 1, fields: {at: {signal: clock, as: s}, level_m: 4}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 900ms, settle: 30s}
witnesses: {ear: {proves: received, subscribe: "harbour/#", wait: 20s}}
`
	p := play(t, text)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%v", p.result.Total)
	srv := &platform{answer: func(p *platform, w http.ResponseWriter, r *http.Request) {
		var rows []string
		for i, m := range p.messages {
			if (i < 3) == (r.URL.RawQuery == "") {
				rows = append(rows, fmt.Sprintf(`{"device": %q, "values": %s}`, p.devices[i], m))
			}
		}
		fmt.Fprintf(w, `{"rows": [%s], "next": %s}`, strings.Join(rows, ","),
			map[bool]string{true: `"?two"`, false: "null"}[r.URL.RawQuery == ""])
	}}
	paged := strings.NewReplacer("MARK", "none", "AS", "s", "FIELD", "", "MORE", "next: .next", "rows: '.[]'",
		"rows: '.rows[]'", "at: "+
			"{signal: clock, as: s}, level_m: {signal: tide, round: 3, }, n: {signal: counter}", "level_m: 4").Replace(
		strings.NewReplacer("AS", "s", "FIELD", "").Replace(unmarked))
	q := playOn(t, srv, paged)
	assert.Zero(t, q.result.Total[verdict.Lost]+q.result.Total[verdict.Repeated]+q.result.Total[verdict.Altered], "%v",
		q.result.Total)
}
