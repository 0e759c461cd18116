package run_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd/file"
	"runcrowd/internal/link"
	"runcrowd/internal/run"
	"runcrowd/internal/verdict"
)

// platform is an HTTP platform that answers questions as a test wants.
type platform struct {
	mu       sync.Mutex
	messages []json.RawMessage
	answer   func(p *platform, w http.ResponseWriter, r *http.Request)
	asked    int
}

func (p *platform) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if r.Method == http.MethodPost {
		b, _ := io.ReadAll(r.Body)
		p.messages = append(p.messages, b)
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
witnesses: {store: {proves: stored, get: "http://HTTP/out", device: '"gauge-1"', rows: '.rows[]', time: .at, next: .next, mark: .mark, values: ., wait: 600ms, linger: 50ms}}
`

func reply(format string, args ...any) func(*platform, http.ResponseWriter, *http.Request) {
	return func(_ *platform, w http.ResponseWriter, _ *http.Request) { fmt.Fprintf(w, format, args...) }
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
		"all in one page": {func(p *platform, w http.ResponseWriter, _ *http.Request) { fmt.Fprintf(w, `{"rows":%s}`, rows(p)) }, verdict.Proven, ""},
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
		"rows without a mark": {reply(`{"rows":[{"level_m":1}]}`), verdict.Unknown, "none carries a mark where the file says (mark: .mark); a row is {\"level_m\":1}"},
		"rows elsewhere":      {reply(`{"items":[]}`), verdict.Unknown, "does not have the rows the file says"},
		"no JSON any more": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			if p.asked == 1 {
				fmt.Fprint(w, `{}`)
				return
			}
			fmt.Fprint(w, "<html>sign in</html>")
		}, verdict.Unknown, "the answer is not JSON"},
		"an error":                {func(_ *platform, w http.ResponseWriter, _ *http.Request) { http.Error(w, "on fire", 500) }, verdict.Unknown, "status 500 Internal Server Error: on fire"},
		"unknown everywhere":      {func(_ *platform, w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) }, verdict.Unknown, "every question was answered with 404; check get"},
		"pages in a circle":       {reply(`{"rows":[],"next":"/out"}`), verdict.Unknown, "is a page that was asked for already; check next"},
		"a next that is a number": {reply(`{"rows":[],"next":17}`), verdict.Unknown, "is 17, which is no address; make one of it"},
		"a next that is a cursor": {reply(`{"rows":[],"next":"b2Zmc2V0"}`), verdict.Unknown, "is b2Zmc2V0, which is no address; make one of it"},
		"a next that is no page":  {reply(`{"rows":[],"next":"http://[bad"}`), verdict.Unknown, "which is not an address"},
		"numbers as texts": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":%s}`, strings.NewReplacer(`"level_m":`, `"level_m":"`, `}`, `"}`).Replace(rows(p)))
		}, verdict.Altered, ""},
		"a field dropped": {func(p *platform, w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"rows":%s}`, strings.ReplaceAll(rows(p), "level_m", "lvl"))
		}, verdict.Altered, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			srv := httptest.NewServer(&platform{answer: c.answer})
			defer srv.Close()
			p := playAgainst(t, "", strings.TrimPrefix(srv.URL, "http://"), oneGauge)
			due := p.result.Total.Due()
			require.InDelta(t, 7, due, 1)
			assert.Equal(t, due, p.result.Total[c.want], "%v %+v", p.result.Total, p.result.Witnesses)
			assert.Equal(t, c.want == verdict.Proven, p.holds())
			assert.Contains(t, fmt.Sprint(p.result.Witnesses[0].Why), c.says)
		})
	}
}

// A message that went out with a value that could not be made proves nothing, though it
// was found as it went out.
func TestAValueThatCouldNotBeMade(t *testing.T) {
	t.Parallel()
	srv := httptest.NewServer(&platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
		json.NewEncoder(w).Encode(map[string]any{"rows": p.messages})
	}})
	defer srv.Close()
	p := playAgainst(t, "", strings.TrimPrefix(srv.URL, "http://"), strings.Replace(oneGauge, "fields: {", `fields: {odd: {formula: "1 / (seq - 3)"}, `, 1))
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
		"<html>sign in</html>": "the answer is not JSON (invalid character '<' looking for beginning of value): <html>sign in</html>; check get",
		"{} {}":                "the answer is not JSON (something stands behind the JSON value): {} {}",
	} {
		srv := httptest.NewServer(&platform{answer: reply("%s", answer)})
		defer srv.Close()
		c, err := file.Parse("x", []byte(strings.ReplaceAll(oneGauge, "HTTP", strings.TrimPrefix(srv.URL, "http://"))), file.Sources{Getenv: os.LookupEnv})
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
			t.Parallel()
			at := time.Now().Add(10 * time.Second)
			srv := httptest.NewServer(&platform{answer: func(p *platform, w http.ResponseWriter, _ *http.Request) {
				var list []string
				for _, m := range p.messages {
					list = append(list, fmt.Sprintf(`{"at":%s,%s`, format(at), m[1:]))
				}
				fmt.Fprintf(w, `{"rows":[%s]}`, strings.Join(list, ","))
			}})
			defer srv.Close()
			p := playAgainst(t, "", strings.TrimPrefix(srv.URL, "http://"), oneGauge+"require: {stored: 100% within 3s}\n")
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%v", p.result.Total)
			assert.Regexp(t, `clock is ahead of ours by [5-9]\.?\d*s to (9\.?\d*|10(\.\d+)?)s: `, strings.Join(p.result.Witnesses[0].Why, "; "))
		})
	}
}
