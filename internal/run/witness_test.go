//go:build unix

package run_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/link"
	"runcrowd/internal/memnet"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// platform is an HTTP platform that answers questions as a test wants.
type platform struct {
	mu       sync.Mutex
	messages []json.RawMessage
	devices  []string // the ends of the paths they came to
	answer   func(p *platform, w http.ResponseWriter, r *http.Request)
	asked    int
	last     time.Time
}

func (p *platform) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if r.Method == http.MethodPost {
		b, _ := io.ReadAll(r.Body)
		p.messages, p.devices = append(p.messages, b), append(p.devices, path.Base(r.URL.Path))
		w.WriteHeader(202)
		return
	}
	p.asked++
	p.answer(p, w, r)
}

const oneGauge = `
crowd: gauge
links: {shore: {http: http://HTTP}}
kinds: {gauge: {readings: {level: {every: 100ms, path: /in, fields: {level_m: {signal: tide, round: 3}}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 700ms}
witnesses: {store: {proves: stored, get: "http://HTTP/out", device: '"gauge-1"', rows: '.rows[]', time: .at, next: .next, mark: .mark, values: ., wait: 600ms, watch_copies: 50ms}}
`

func reply(format string, args ...any) func(*platform, http.ResponseWriter, *http.Request) {
	return func(_ *platform, w http.ResponseWriter, _ *http.Request) { fmt.Fprintf(w, format, args...) }
}

// playOnSockets plays against a platform in real time.
func playOnSockets(t *testing.T, h http.Handler, text string) *played {
	srv := httptest.NewServer(h)
	defer srv.Close()
	return playAgainst(t, "", strings.TrimPrefix(srv.URL, "http://"), text)
}

// What a querying witness makes of the answers that platforms give. What cannot
// be understood is told and is no pass.
func TestAnswersOfAStore(t *testing.T) {
	t.Parallel()
	rows := func(p *platform) string { b, _ := json.Marshal(p.messages); return string(b) }
	for name, c := range map[string]struct {
		answer func(*platform, http.ResponseWriter, *http.Request)
		want   verdict.Verdict
		says   string
	}{
		"all in one page": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":%s}`,
				rows(p))
		}, verdict.Proven, ""},
		"a row a page": {func(p *platform, w http.ResponseWriter, r *http.Request) {
			n := 0
			fmt.Sscan(r.URL.Query().Get("page"), &n)
			if n >= len(p.messages) {
				fmt.Fprint(w, `{"rows":[]}`)
				return
			}
			fmt.Fprintf(w, `{"rows":[%s],"next":"?page=%d"}`, p.messages[n], n+1)
		}, verdict.Proven, ""},
		"late to know": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			if p.asked < 3 {
				w.WriteHeader(503)
				return
			}
			fmt.Fprintf(w, `{"rows":%s}`, rows(p))
		}, verdict.Proven, ""},
		"nothing stored":      {reply(`{"rows":[]}`), verdict.Lost, ""},
		"other people's rows": {reply(`{"rows":[{"mark":"aaaaaaaa/gauge-1/level/1"},{"mark":"x"}]}`), verdict.Lost, ""},
		"rows without a mark": {reply(`{"rows":[{"level_m":1}]}`), verdict.Unknown, "none carries a mark where the file " +
			"says (mark: .mark); a row is “{\"level_m\":1}”"},
		"rows elsewhere": {reply(`{"items":[]}`), verdict.Unknown, "does not have the rows the file says"},
		"no JSON any more": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			if p.asked == 1 {
				fmt.Fprint(w, `{}`)
				return
			}
			fmt.Fprint(w, "<html>sign in</html>")
		}, verdict.Unknown, "the answer is not JSON"},
		"an error": {func(_ *platform, w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "on fire",
				500)
		}, verdict.Unknown, "status 500 Internal Server Error: “on fire”"},
		"unknown everywhere": {func(_ *platform, w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) },
			verdict.Unknown, "every question was answered with 404; check get"},
		"pages in a circle": {reply(`{"rows":[],"next":"/out"}`), verdict.Unknown, "is a page that was asked for " +
			"already; check next"},
		"a next that is a number": {reply(`{"rows":[],"next":17}`), verdict.Unknown, "is 17, which is no address; make one " +
			"of it"},
		"a next that is a cursor": {reply(`{"rows":[],"next":"b2Zmc2V0"}`), verdict.Unknown, "is b2Zmc2V0, which is no " +
			"address; make one of it"},
		"a next that is no page": {reply(`{"rows":[],"next":"http://[bad"}`), verdict.Unknown, "which is not an address"},
		"numbers as texts": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":%s}`, strings.NewReplacer(`"level_m":`, `"level_m":"`, `}`, `"}`).Replace(rows(p)))
		}, verdict.Altered, ""},
		"a field dropped": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":%s}`, strings.ReplaceAll(rows(p), "level_m", "lvl"))
		}, verdict.Altered, ""},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			srv := &platform{answer: c.answer}
			p := playOn(t, srv, oneGauge)
			due := p.result.Total.Due()
			require.InDelta(t, 7, due, 1)
			assert.Equal(t, due, p.result.Total[c.want], "%v %+v", p.result.Total, p.result.Witnesses)
			assert.Equal(t, c.want == verdict.Proven, p.holds())
			assert.Contains(t, fmt.Sprint(p.result.Witnesses[0].Why), c.says)
		})
	}
}

// ofAnotherRun answers with rows of another run.
func ofAnotherRun(n int) func(*platform, http.ResponseWriter, *http.Request) {
	return func(_ *platform, w http.ResponseWriter, _ *http.Request) {
		var rows []string
		for i := range n {
			rows = append(rows, fmt.Sprintf(`{"mark":"abcdefgh/gauge-1/level/%d"}`, i+1))
		}
		fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(rows, ","))
	}
}

// How pages are read, rows told apart, limits kept and values compared as the file says.
func TestQuestions(t *testing.T) {
	t.Parallel()
	page := func(p *platform, from, size int, edit func(i int, row string) string) string {
		var list []string
		for i := from; i < min(len(p.messages), from+size); i++ {
			list = append(list, edit(i, string(p.messages[i])))
		}
		return strings.Join(list, ",")
	}
	same := func(_ int, row string) string { return row }
	cursor := func(r *http.Request, name string) (n int) { fmt.Sscan(r.URL.Query().Get(name), &n); return n }
	value := regexp.MustCompile(`"level_m":(-?[0-9.]+)`)
	for name, c := range map[string]struct {
		keys   string // more or other keys of the witness
		answer func(*platform, http.ResponseWriter, *http.Request)
		want   verdict.Verdict
		says   string
	}{
		"a numeric cursor": {"next: , page: {after: .next}", func(p *platform, w http.ResponseWriter, r *http.Request) {
			n := cursor(r, "after")
			next := any(n + 2)
			if n+2 >= len(p.messages) {
				next = nil
			}
			b, _ := json.Marshal(next)
			fmt.Fprintf(w, `{"next":%s,"rows":[%s]}`, b, page(p, n, 2, same))
		}, verdict.Proven, ""},
		"a cursor that is a text": {"next: , page: {after: .next}",
			func(p *platform, w http.ResponseWriter, r *http.Request) {
				n := len(r.URL.Query().Get("after"))
				next := strings.Repeat("/", n+3)
				if n+3 >= len(p.messages) {
					next = ""
				}
				fmt.Fprintf(w, `{"rows":[%s],"next":%q}`, page(p, n, 3, same), next)
			}, verdict.Proven, ""},
		"a cursor that is a mapping": {"next: , page: {after: .next}", reply(`{"rows":[],"next":{"a":1}}`), verdict.Unknown,
			`page: after is “{"a":1}”, which is no value of a parameter`},
		"limited, and told when": {"", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			if p.asked == 2 {
				w.Header().Set("Retry-After", "1")
				w.WriteHeader(429)
				return
			}
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, same))
		}, verdict.Proven, ""},
		"broken off in the middle, at times": {"", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			body := fmt.Sprintf(`{"rows":[%s]}`, page(p, 0, 99, same))
			if p.asked == 2 {
				w.Header().Set("Content-Length", fmt.Sprint(len(body)))
				body = body[:len(body)/2]
			}
			io.WriteString(w, body)
		}, verdict.Proven, ""},
		"pages that bring the same rows": {"", func(p *platform, w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s],"next":"?n=%d"}`, page(p, 0, 99, same), cursor(r, "n")+1)
		}, verdict.Unknown, "go on without bringing anything new"},
		"pages without end": {"wait: 300ms", func(p *platform, w http.ResponseWriter, r *http.Request) {
			p.mu.Unlock()
			time.Sleep(10 * time.Millisecond)
			p.mu.Lock()
			fmt.Fprintf(w, `{"rows":[{"mark":"aaaaaaaa/gauge-1/level/%d"}],"next":"?n=%d"}`, cursor(r, "n")+1, cursor(r, "n")+1)
		}, verdict.Unknown, "it was not read to the end within 300ms"},
		"rows on two pages at first, then not": {"", func(p *platform, w http.ResponseWriter, r *http.Request) {
			n := cursor(r, "n")
			size := 4
			if p.asked < 4 { // a row comes in front while the pages are read
				size = 5
			}
			if n == 0 {
				fmt.Fprintf(w, `{"rows":[%s],"next":"?n=4"}`, page(p, 0, size, same))
			} else {
				fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 4, 99, same))
			}
		}, verdict.Proven, ""},
		"two rows on two pages, each time": {"", func(p *platform, w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]`, page(p, 0, 99, same))
			if cursor(r, "n") == 0 {
				fmt.Fprint(w, `,"next":"?n=1"`)
			}
			fmt.Fprint(w, "}")
		}, verdict.Unknown, ""},
		"two rows, by their identity": {"row: .id", func(p *platform, w http.ResponseWriter, r *http.Request) {
			n := cursor(r, "n")
			fmt.Fprintf(w, `{"rows":[%s]`, page(p, 0, 99, func(i int, row string) string {
				return fmt.Sprintf(`{"id":%d,%s`,
					100*n+i, row[1:])
			}))
			if n == 0 {
				fmt.Fprint(w, `,"next":"?n=1"`)
			}
			fmt.Fprint(w, "}")
		}, verdict.Repeated, ""},
		"one row that is written again and again": {"row: .id", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, func(i int, row string) string {
				return fmt.Sprintf(
					`{"id":%d,"updated":%d,%s`, i, p.asked, row[1:])
			}))
		}, verdict.Proven, ""},
		"one row that is changed each time, without an identity": {"",
			func(p *platform, w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, func(_ int, row string) string {
					return fmt.Sprintf(
						`{"updated":%d,%s`, p.asked, row[1:])
				}))
			}, verdict.Proven, ""},
		"two rows on one page": {"", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, func(_ int, row string) string { return row + "," + row }))
		}, verdict.Repeated, ""},
		"a page that is too long": {"max_answer: 64 KiB", func(_ *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s1]}`, strings.Repeat(`"`+strings.Repeat("x", 1<<10)+`",`, 1<<7))
		}, verdict.Unknown, "the answer is longer than max_answer, 64 KiB"},
		"a page without end": {"max_answer: 64 KiB", func(_ *platform, w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, `{"rows":["`)
			for line := strings.Repeat("x", 1<<10); ; {
				if _, err := io.WriteString(w, line); err != nil {
					return
				}
			}
		}, verdict.Unknown, "the answer is longer than max_answer, 64 KiB"},
		"an error without end": {"", func(_ *platform, w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(400)
			for line := strings.Repeat("x", 1<<10); ; {
				if _, err := io.WriteString(w, line); err != nil {
					return
				}
			}
		}, verdict.Unknown, "status 400 Bad Request: “xxx"},
		"a row that is too long": {"max_row: 1 KiB", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s,{"x":%q}]}`, page(p, 0, 99, same), strings.Repeat("x", 1<<10))
		}, verdict.Unknown, "a row is longer than max_row, 1 KiB"},
		"a name twice beside the rows": {"", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"a":1,"rows":[%s],"a":2}`, page(p, 0, 99, same))
		}, verdict.Unknown, `the name "a" stands twice in an object`},
		"rows that are picked": {"rows: '[.rows[] | select(.mark)] | .[]'",
			func(p *platform, w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"rows":[1,{},%s]}`, page(p, 0, 99, same))
			}, verdict.Unknown, "does not have the rows the file says"},
		"rows that are picked in another way": {"rows: '.rows | map(select(type == \"object\")) | .[]'",
			func(p *platform, w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"rows":[1,{},%s]}`, page(p, 0, 99, same))
			}, verdict.Proven, ""},
		"a pick without end": {"rows: '.rows[] | until(false; .)'", reply(`{"rows":[1]}`), verdict.Unknown,
			"takes longer than 2s"},
		"renamed and in centimetres": {"fields: {level_m: {as: kept.level_cm, factor: 100}}",
			func(p *platform, w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, func(_ int, row string) string {
					n, _ := strconv.ParseFloat(value.FindStringSubmatch(row)[1], 64)
					return value.ReplaceAllString(row, fmt.Sprintf(`"kept":{"level_cm":%.1f}`, n*100))
				}))
			}, verdict.Proven, ""},
		"in centimetres, and wrong": {"fields: {level_m: {factor: 100}}",
			func(p *platform, w http.ResponseWriter, _ *http.Request) {
				fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, same))
			}, verdict.Altered, ""},
		"overwritten, and said so": {"fields: {level_m: ignored}", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, func(_ int, row string) string {
				return value.ReplaceAllString(row,
					`"level_m":null`)
			}))
		}, verdict.Proven, ""},
		"cut off at twenty": {"wait: 2s, LONG", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, max(0, len(p.messages)-20), 20, same))
		}, verdict.Unknown, "an answer has 20 rows at most"},
		"the oldest twenty, cut off": {"wait: 2s, LONG", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 20, same))
		}, verdict.Unknown, "the platform seems to cut its answers off"},
		"twenty of another run":               {"", ofAnotherRun(20), verdict.Unknown, "the platform seems to cut its answers off"},
		"twenty of another run, and no limit": {"limit: none", ofAnotherRun(20), verdict.Lost, ""},
		"nineteen of another run":             {"", ofAnotherRun(19), verdict.Lost, ""},
		"the limit is said": {"limit: 7, LONG", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 7, same))
		}, verdict.Unknown, "an answer has 7 rows at most"},
		"the latest alone": {"shows: latest, LONG", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, max(0, len(p.messages)-1), 1, same))
		}, verdict.Proven, ""},
		"slow, and not too often": {"pace: 5/s", func(p *platform, w http.ResponseWriter, _ *http.Request) {
			now := time.Now()
			if p.last != (time.Time{}) && now.Sub(p.last) < 150*time.Millisecond {
				w.WriteHeader(418)
				return
			}
			p.last = now
			fmt.Fprintf(w, `{"rows":[%s]}`, page(p, 0, 99, same))
		}, verdict.Proven, ""},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, r *http.Request) {
				if p.asked == 1 { // before the run
					fmt.Fprint(w, `{"rows":[]}`)
					return
				}
				c.answer(p, w, r)
			}}
			text := oneGauge
			for _, kv := range strings.Split(c.keys, ", ") {
				key, _, _ := strings.Cut(kv, ":")
				if old := regexp.MustCompile(`, ` + key + `: [^,}]*`); key != "" && key != "fields" {
					text = old.ReplaceAllString(text, "")
				}
			}
			if keys := strings.TrimPrefix(c.keys, "next: , "); keys != "" {
				text = strings.Replace(text, "watch_copies: 50ms}", "watch_copies: 50ms, "+keys+"}", 1)
			}
			text = strings.Replace(text, "wait: 600ms", "wait: 15s", 1)
			few := 7
			if strings.Contains(text, ", LONG") {
				few, text = 40, strings.NewReplacer(", LONG", "", "for: 700ms", "for: 4s").Replace(text)
			}
			play := playOn
			if name == "a pick without end" { // it computes, which takes real time
				play, text = playOnSockets, strings.Replace(text, "wait: 15s", "wait: 12s", 1)
			}
			p := play(t, srv, text)
			due := p.result.Total.Due()
			assert.InDelta(t, few, due, 1)
			assert.Equal(t, due, p.result.Total[c.want], "%v %+v %v", p.result.Total, p.result.Witnesses, p.result.Findings)
			assert.Contains(t, fmt.Sprint(p.result.Witnesses[0].Why), c.says)
		})
	}
}

// Whole numbers as marks tell whose a message is by themselves: one question for all
// devices needs no more, and what is filed under another device shows.
func TestNumbersAsMarks(t *testing.T) {
	t.Parallel()
	answer := func(filed func(device string) string) func(*platform, http.ResponseWriter, *http.Request) {
		return func(p *platform, w http.ResponseWriter, _ *http.Request) {
			var list []string
			for i, m := range p.messages {
				list = append(list, fmt.Sprintf(`{"device":%q,%s`, filed(p.devices[i]), m[1:]))
			}
			fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
		}
	}
	for name, c := range map[string]struct {
		filed func(string) string
		want  verdict.Verdict
	}{
		"right": {func(d string) string { return d }, verdict.Proven},
		"wrong": {func(d string) string {
			return map[string]string{"gauge-1": "gauge-2", "gauge-2": "gauge-3", "gauge-3": "gauge-1"}[d]
		}, verdict.Misfiled},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			srv := &platform{answer: answer(c.filed)}
			text := strings.NewReplacer("crowd: gauge", "crowd: gauge\nmark: {sequence: no}", "[{kind: gauge, name: gauge-1}]",
				"[{kind: gauge, count: 3, name: 'gauge-${n}'}]",
				"path: /in", "path: '/in/${device}'", `device: '"gauge-1"'`, "device: .device", "mark: .mark, ", "").Replace(
				oneGauge)
			p := playOn(t, srv, text)
			assert.Greater(t, p.result.Total.Due(), 15)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[c.want], "%v %+v", p.result.Total, p.result.Findings)
		})
	}
}

// Ctrl-C while witnesses are heard ends the hearing.
func TestInterruptedWhileAsking(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := &world{net: memnet.New(), dir: dir}
		at := w.serve(t, &platform{answer: reply(`{"rows":[]}`)})
		s, err := open(t, crowdOf(t, "", at, strings.Replace(oneGauge, "wait: 600ms", "wait: 10m", 1)), w.options())
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		require.NoError(t, s.Play(ctx))
		assert.Less(t, time.Since(epoch), 20*time.Second, "with ten minutes to go")
		j, err := run.Judge(s.Folder, run.Judging{})
		require.NoError(t, err)
		assert.True(t, j.Interrupted)
		assert.Equal(t, j.Total.Due(), j.Total[verdict.Unknown])
		assert.Contains(t, j.Witnesses[0].Why, "the hearing was cut short")
	})
}

// A message that went out with a value that could not be made proves nothing, though it
// was found as it went out.
func TestAValueThatCouldNotBeMade(t *testing.T) {
	t.Parallel()
	srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode(map[string]any{"rows": p.messages})
	}}
	p := playOn(t, srv, strings.Replace(oneGauge, "fields: {", `fields: {odd: {formula: "1 / (seq - 3)"}, `, 1))
	due := p.result.Total.Due()
	assert.Equal(t, 1, p.result.Total[verdict.Unknown], "%v", p.result.Findings)
	assert.Equal(t, due-1, p.result.Total[verdict.Proven])
	assert.False(t, p.holds())
	assert.Contains(t, fmt.Sprint(p.result.Findings[0].Testimony), "not all of its values could be made or read back")
}

// What can be known before the run is told before it.
func TestAStoreThatCannotBeAsked(t *testing.T) {
	t.Parallel()
	for answer, says := range map[string]string{
		"<html>sign in</html>": "the answer is not JSON (invalid character '<' looking for beginning of value): “<html>sign " +
			"in</html>”; check get",
		"{} {}": "the answer is not JSON (something stands after the JSON value): “{} {}”",
	} {
		srv := httptest.NewServer(&platform{answer: reply("%s", answer)})
		defer srv.Close()
		c, err := file.Parse("x", []byte(strings.ReplaceAll(oneGauge, "HTTP", strings.TrimPrefix(srv.URL, "http://"))),
			file.Sources{Getenv: os.LookupEnv})
		require.NoError(t, err)
		dir := t.TempDir()
		_, err = open(t, c, run.Options{Out: dir})
		var reach *link.ReachError
		require.ErrorAs(t, err, &reach)
		assert.Contains(t, err.Error(), fmt.Sprintf("the witness %q (%s/out): %s", "store", srv.URL, says))
		left, _ := os.ReadDir(dir)
		assert.Empty(t, left, "nothing was sent, so nothing is left")
	}
}

// A platform whose clock is another is asked for the time by its clock.
func TestStoresWithAnotherClock(t *testing.T) {
	t.Parallel()
	for name, ahead := range map[string]time.Duration{"behind": -10 * time.Minute, "ahead": 10 * time.Minute,
		"behind, not told": -2 * time.Hour, "ahead, not told": 2 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			told := !strings.Contains(name, "not told")
			at := epoch.Add(ahead + time.Second)
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, r *http.Request) {
				w.Header()["Date"] = nil
				if told {
					w.Header().Set("Date", time.Now().Add(ahead).UTC().Format(http.TimeFormat))
				}
				from, _ := time.Parse(time.RFC3339Nano, r.FormValue("from"))
				to, _ := time.Parse(time.RFC3339Nano, r.FormValue("to"))
				if from.After(at) || !to.After(at) {
					io.WriteString(w, `{"rows":[]}`)
					return
				}
				var list []string
				for _, m := range p.messages {
					list = append(list, string(m))
				}
				fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
			}}
			text := strings.Replace(oneGauge, `/out"`, `/out?from=${from}&to=${to}"`, 1)
			text = strings.TrimSuffix(text, "}\n") +
				`, many: {proves: counts, get: "http://HTTP/out?from=${from}&to=${to}", device: '"gauge-1"', rows: '{n: (.rows | length)}', count: .n, wait: 600ms, watch_copies: 50ms}}` + "\n"
			p := playOn(t, srv, text)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%v", p.result.Total)
			assert.True(t, p.holds(), "%+v", p.checks)
			assert.Equal(t, !told, len(p.result.Links.Remarks) > 0, "%v", p.result.Links.Remarks)
			assert.Equal(t, int64(p.result.Total.Due()), p.result.Counted[0].Theirs)
		})
	}
}

// A clock that is behind makes nothing quick, nor do times that the device itself sent: what
// may be so, or not, is undecided. Rows are there when the last is, and a while later.
func TestDelaysByAnotherClock(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		at      func(m json.RawMessage) string
		require string
		want    proof.State
		says    string
	}{
		"behind":                         {twoSecondsBefore, "stored_p99: 700ms", proof.Undecided, "; surely between "},
		"behind, and it does not matter": {twoSecondsBefore, "stored_p99: 1h", proof.Met, ""},
		"the device's own":               {sentAt, "stored: 100% within 700ms", proof.Undecided, "0% (0 of 7)"},
		"the device's own, a percentile": {sentAt, "stored_p50: 700ms", proof.Undecided, "; surely between "},
		"the device's own, in seconds":   {sentIn(time.Second), "stored: 100% within 700ms", proof.Undecided, "0% (0 of 7)"},
		"the device's own, cut to ms": {sentIn(time.Millisecond), "stored_worst: 700ms", proof.Undecided,
			"; surely between "},
		"the device's own, in time it is": {sentAt, "stored: 100% within 1h", proof.Met, "100% (7 of 7)"},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			n, last := 0, epoch
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				w.Header()["Date"] = nil
				if n != len(p.messages) {
					n, last = len(p.messages), time.Now()
				}
				var list []string
				if time.Since(last) > 1500*time.Millisecond {
					for _, m := range p.messages {
						list = append(list, fmt.Sprintf(`{"stored":"%s",%s`, c.at(m), m[1:]))
					}
				}
				fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
			}}
			text := strings.NewReplacer("time: .at", "time: .stored", "fields: {", "fields: {at: {signal: clock}, ",
				"wait: 600ms", "wait: 30s").Replace(oneGauge)
			p := playOn(t, srv, text+"require: {"+c.require+"}\n")
			assert.Equal(t, c.want, p.checks[0].State, "%+v %+v", p.checks, p.result.Witnesses)
			assert.Contains(t, p.checks[0].Got, c.says)
		})
	}
}

// One row under a wrong time is named, and decides about itself alone: neither the delays nor
// the order of the others hang on it.
func TestOneRowUnderAWrongTime(t *testing.T) {
	t.Parallel()
	for name, by := range map[string]time.Duration{"later": time.Hour, "earlier": -time.Hour} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var times []time.Time
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				w.Header()["Date"] = nil
				var list []string
				for i, m := range p.messages {
					if i >= len(times) {
						at := time.Now()
						if i == 5 {
							at = at.Add(by)
						}
						times = append(times, at)
					}
					list = append(list, fmt.Sprintf(`{"stored":"%s",%s`, times[i].Format(time.RFC3339Nano), m[1:]))
				}
				fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
			}}
			text := strings.NewReplacer("time: .at", "time: {at: .stored, of: platform}", "wait: 600ms", "wait: 30s",
				"for: 700ms", "for: 5s").Replace(oneGauge)
			p := playOn(t, srv, text+"require: {stored: 90% within 30s, out_of_order: 0}\n")
			require.Greater(t, p.result.Total.Due(), 30)
			assert.True(t, p.holds(), "%+v %s", p.checks, p.says())
			assert.Contains(t, fmt.Sprint(p.result.Witnesses[0].Why, p.result.Witnesses), "1 row is filed under a wrong time, "+
				"and when it was stored is not known: gauge-1 level #6 ")
			assert.NotContains(t, fmt.Sprint(p.result.Witnesses), "clock")
		})
	}
}

func twoSecondsBefore(m json.RawMessage) string {
	at, _ := time.Parse(time.RFC3339Nano, sentAt(m))
	return at.Add(-2 * time.Second).Format(time.RFC3339Nano)
}

func sentAt(m json.RawMessage) string {
	var body struct{ At string }
	json.Unmarshal(m, &body)
	return body.At
}

// sentIn is the device's own time, as a platform keeps it that cuts times to a unit.
func sentIn(unit time.Duration) func(m json.RawMessage) string {
	return func(m json.RawMessage) string {
		t, _ := time.Parse(time.RFC3339Nano, sentAt(m))
		return t.Truncate(unit).Format(time.RFC3339Nano)
	}
}

// Times as platforms tell them. A clock that is ahead makes nothing late that was seen in
// time, and is told.
func TestTimesOfAStore(t *testing.T) {
	t.Parallel()
	for name, format := range map[string]func(time.Time) string{
		"RFC 3339":     func(t time.Time) string { return `"` + t.Format(time.RFC3339Nano) + `"` },
		"seconds":      func(t time.Time) string { return fmt.Sprintf("%.3f", float64(t.UnixMilli())/1000) },
		"milliseconds": func(t time.Time) string { return fmt.Sprint(t.UnixMilli()) },
		"microseconds": func(t time.Time) string { return fmt.Sprint(t.UnixMicro()) },
		"nanoseconds":  func(t time.Time) string { return fmt.Sprintf(`"%d"`, t.UnixNano()) },
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			at := epoch.Add(time.Minute)
			srv := &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				var list []string
				for _, m := range p.messages {
					list = append(list, fmt.Sprintf(`{"at":%s,%s`, format(at), m[1:]))
				}
				fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
			}}
			p := playOn(t, srv, oneGauge+"require: {stored: 100% within 3s}\n")
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%v", p.result.Total)
			assert.Regexp(t, `clock is ahead of ours by 5\d\.\d+s to 1m0\.\d+s: `, strings.Join(p.result.Witnesses[0].Why, "; "))
		})
	}
}

// A store that could not be read in the time given is read to its end when it is given more.
func TestASlowStoreIsGivenMoreTime(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := &world{net: memnet.New(), dir: dir}
		at := w.serve(t, &platform{answer: func(p *platform, w http.ResponseWriter, r *http.Request) {
			n := 0
			fmt.Sscan(r.URL.Query().Get("page"), &n)
			if n >= len(p.messages) {
				fmt.Fprint(w, `{"rows":[]}`)
				return
			}
			p.mu.Unlock() // who waits for a lock does not let virtual time go on
			time.Sleep(time.Second)
			p.mu.Lock()
			fmt.Fprintf(w, `{"rows":[%s],"next":"?page=%d"}`, p.messages[n], n+1)
		}})
		p := playCrowd(t, crowdOf(t, "", at, oneGauge), w.options())
		assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Unknown]+p.result.Total[verdict.Proven], p.says())
		assert.Positive(t, p.result.Total[verdict.Unknown])
		for _, wait := range []time.Duration{0, time.Minute} {
			again, err := run.LoadCopy(p.folder)
			require.NoError(t, err)
			require.NoError(t, run.HearAgain(t.Context(), p.folder, again, run.Again{Wait: wait, Network: w.net.Dial}))
			j, err := run.Judge(p.folder, run.Judging{})
			require.NoError(t, err)
			assert.Equal(t, wait > 0, j.Total.Due() == j.Total[verdict.Proven], "%v", j.Total)
			assert.Zero(t, j.Total[verdict.Lost])
		}
	})
}

// Of a platform that shows the latest message alone, only that is looked for, of each device and
// round; one that goes on showing an older one, or another value, is found out.
func TestAStoreOfTheLatest(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		shows func(list []json.RawMessage) json.RawMessage
		want  map[verdict.Verdict]int
	}{
		"the latest": {func(list []json.RawMessage) json.RawMessage { return list[len(list)-1] }, nil},
		"the one before": {func(list []json.RawMessage) json.RawMessage { return list[max(0, len(list)-2)] },
			map[verdict.Verdict]int{verdict.Lost: 4}},
		"the first": {func(list []json.RawMessage) json.RawMessage { return list[0] },
			map[verdict.Verdict]int{verdict.Lost: 4}},
		"another value": {func(list []json.RawMessage) json.RawMessage {
			return json.RawMessage(strings.Replace(string(list[len(list)-1]), `"n":`, `"n":9`, 1))
		}, map[verdict.Verdict]int{verdict.Altered: 4}},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			p := playOn(t, &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				by := map[string][]json.RawMessage{}
				for i, m := range p.messages {
					by[p.devices[i]] = append(by[p.devices[i]], m)
				}
				var rows []string
				for device, list := range by {
					rows = append(rows, fmt.Sprintf(`{"device":%q,"last":%s}`, device, c.shows(list)))
				}
				fmt.Fprintf(w, "[%s]", strings.Join(rows, ","))
			}}, `
crowd: gauge
links: {shore: {http: "http://HTTP"}}
kinds: {gauge: {readings: {level: {every: 100ms, path: "/in/${device}", fields: {n: {signal: counter}}}}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 900ms, settle: 5s, rounds: {count: 2, every: 30s}}
witnesses: {store: {proves: stored, shows: latest, get: "http://HTTP/out", device: .device, rows: '.[]', mark: .last.mark, values: .last, wait: 2s, watch_copies: 50ms}}
`)
			due := p.result.Total.Due()
			require.InDelta(t, 36, due, 4)
			bad := 0
			for v, n := range c.want {
				assert.Equal(t, n, p.result.Total[v], "%v %s", p.result.Total, p.says())
				bad += n
			}
			assert.Equal(t, due-bad, p.result.Total[verdict.Proven], "%v %s", p.result.Total, p.says())
			assert.Equal(t, bad == 0, p.holds())
			if bad == 0 {
				assert.Equal(t, 4, p.result.Proofs[1].Asked+p.result.Proofs[2].Asked, "%+v", p.result.Proofs)
			}
		})
	}
}

// Witnesses that share a subscription hear a part each: nothing is lost for that.
func TestSharedSubscriptions(t *testing.T) {
	t.Parallel()
	p := play(t, `
crowd: harbour
links: {sea: {mqtt: "mqtt://MQTT"}}
kinds: {buoy: {readings: {state: {every: 100ms, topic: "harbour/${device}", qos: 1, fields: {n: {signal: counter}}}}}}
devices: [{kind: buoy, count: 2}]
plan: {for: 1s, settle: 5s}
witnesses:
  ear: {proves: received, subscribe: "$share/ears/harbour/#", topic: "harbour/${device}", wait: 2s}
  other: {proves: received, subscribe: "$share/ears/harbour/#", topic: "harbour/${device}", wait: 2s}
`)
	assert.Zero(t, p.result.Total[verdict.Lost], p.says())
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Unknown])
	assert.Contains(t, fmt.Sprint(p.result.Witnesses), "hears only its share")
}

// A store that is slow to be read, or that stores late, has no other clock for that.
func TestAGainIsNoOtherClock(t *testing.T) {
	t.Parallel()
	for name, shown := range map[string]func(p *platform) int{
		"not read to its end": func(p *platform) int { return len(p.messages) },
		"stored late": func(p *platform) int {
			if p.asked < 10 {
				return min(3, len(p.messages))
			}
			return len(p.messages)
		},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			p := playOn(t, &platform{answer: func(p *platform, w http.ResponseWriter, r *http.Request) {
				n := 0
				fmt.Sscan(r.URL.Query().Get("page"), &n)
				if n >= shown(p) {
					fmt.Fprint(w, `{"rows":[]}`)
					return
				}
				if name == "not read to its end" {
					p.mu.Unlock()
					time.Sleep(80 * time.Millisecond)
					p.mu.Lock()
				}
				fmt.Fprintf(w, `{"rows":[{"stored":%q,%s],"next":"?page=%d"}`, sentAt(p.messages[n]), p.messages[n][1:], n+1)
			}}, strings.NewReplacer("time: .at", "time: .stored", "fields: {", "fields: {at: {signal: clock}, ", `/out"`,
				`/out?from=${from}&to=${to}"`, "wait: 600ms", "wait: 500ms").Replace(oneGauge))
			assert.Zero(t, p.result.Total[verdict.Lost], p.says())
			assert.Empty(t, p.result.Links.Remarks)
		})
	}
}

// Alerts that could not be read while a run played are read when they are asked for again: nobody
// is accused of silence. Where others were there before the run, nothing tells them apart.
func TestAlertsAreAskedForAgain(t *testing.T) {
	t.Parallel()
	const crowd = `
crowd: gauge
links: {shore: {http: http://HTTP}}
kinds: {gauge: {readings: {level: {every: 100ms, path: /in, fields: {a: {formula: 'seq == 3 ? 0 : 5'}}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 700ms}
witnesses: {alarm: {proves: alerts, get: "http://HTTP/alarms", rows: '.[]', row: .id, time: .at, wait: 4s, watch_copies: 50ms}}
alerts: {low: {heard_by: alarm, about: .device, when: a < 1, within: 3s}}
require: {alerts: exact}
`
	for name, c := range map[string]struct {
		before, after string
		want          proof.State
	}{
		"one":                       {"", `{"id":1,"device":"gauge-1","at":"AT"}`, proof.Met},
		"one that tells no time":    {"", `{"id":1,"device":"gauge-1"}`, proof.Undecided},
		"none":                      {"", "", proof.NotMet},
		"one, and another before":   {`{"id":9,"device":"gauge-1"}`, `{"id":9,"device":"gauge-1"},{"id":1,"device":"gauge-1"}`, proof.Undecided},
		"none, and another, before": {`{"id":9,"device":"gauge-1"}`, `{"id":9,"device":"gauge-1"}`, proof.Undecided},
	} {
		t.Run(name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := &world{net: memnet.New(), dir: dir}
				heals, begin := false, time.Time{}
				at := w.serve(t, &platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
					switch {
					case heals:
						at := begin.Add(1600 * time.Millisecond).UTC().Format(time.RFC3339Nano)
						fmt.Fprintf(w, "[%s]", strings.Replace(c.after, "AT", at, 1))
					case len(p.messages) == 0:
						begin = time.Now()
						fmt.Fprintf(w, "[%s]", c.before)
					default:
						w.WriteHeader(http.StatusBadRequest)
					}
				}})
				p := playCrowd(t, crowdOf(t, "", at, crowd), w.options())
				require.Equal(t, proof.Undecided, p.checks[0].State, p.says())
				heals = true
				for _, all := range []bool{false, true} {
					again, err := run.LoadCopy(p.folder)
					require.NoError(t, err)
					require.NoError(t, run.HearAgain(t.Context(), p.folder, again, run.Again{All: all, Network: w.net.Dial}))
					j, err := run.Judge(p.folder, run.Judging{})
					require.NoError(t, err)
					assert.Equal(t, c.want, j.Checks[0].State, "%+v", j.Checks)
				}
			})
		})
	}
}
