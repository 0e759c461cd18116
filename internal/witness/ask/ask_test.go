package ask_test

import (
	"bufio"
	"compress/gzip"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/memnet"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// taker writes down what it is told: a page, an attempt, a row. Rows with "m" are of the run.
type taker struct {
	mu   sync.Mutex
	told []string
	rows map[string]bool
	err  error
}

func (t *taker) Turn(*ask.Cursor)      { t.tell("page") }
func (t *taker) Begin(*ask.Cursor)     { t.tell("attempt") }
func (t *taker) End(*ask.Cursor) error { return t.err }

func (t *taker) Row(row any, on *ask.Cursor) {
	b, _ := json.Marshal(row)
	t.tell(string(b))
	if !strings.Contains(string(b), `"m"`) {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if on.Ours++; !t.rows[string(b)] {
		on.Fresh++
	}
	if t.rows == nil {
		t.rows = map[string]bool{}
	}
	t.rows[string(b)] = true
}

func (t *taker) tell(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.told = append(t.told, what)
}

// text is what was told, an attempt at a page as a group.
func (t *taker) text() string {
	return strings.NewReplacer("page attempt attempt", "|", "page attempt", "|", "attempt", "again").Replace(
		strings.Join(t.told, " "))
}

func gzipped(text string) string {
	var b strings.Builder
	z := gzip.NewWriter(&b)
	z.Write([]byte(text))
	z.Close()
	return b.String()
}

func crowd(witness string) string {
	token := ""
	if strings.Contains(witness, "link: shore") {
		token = `, access_token: {text: "a-token-${expiry}", valid: 10s}`
	}
	return `
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:80"` + token + `}}
kinds: {gauge: {link: shore, readings: {level: {every: 1s, path: /in, fields: {a: 1}}}}}
devices: [{kind: gauge, count: 3, name: "gauge-${n}"}]
plan: {for: 10s}
witnesses: {store: {proves: stored, ` + witness + `}}
`
}

// web answers each address with the next of its answers, and then with the last. An answer is a
// body; before it may stand lines: a status, headers, "after 2s".
type web struct {
	mu      sync.Mutex
	answers map[string][]string
	asked   []string
	headers http.Header // of the last question
	ready   bool        // no question before is answered so
}

func (s *web) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	at := r.URL.RequestURI()
	if body, _ := io.ReadAll(r.Body); r.Method == http.MethodPost {
		at += " " + string(body)
	}
	s.asked = append(s.asked, at)
	s.headers = r.Header
	list := s.answers[at]
	if !s.ready {
		list = []string{`{"rows":[]}`}
	}
	if len(list) > 1 {
		s.answers[at] = list[1:]
	}
	s.mu.Unlock()
	if len(list) == 0 {
		http.NotFound(w, r)
		return
	}
	w.Header()["Date"] = nil
	status, text := 200, list[0]
	for {
		line, rest, found := strings.Cut(text, "\n")
		name, v, is := strings.Cut(line, ": ")
		var code int
		switch {
		case found && is && !strings.ContainsAny(name, `{["`):
			w.Header().Set(name, v)
		case found && strings.HasPrefix(line, "after "):
			d, _ := time.ParseDuration(line[6:])
			select {
			case <-time.After(d):
			case <-r.Context().Done():
			}
		case found && len(line) == 3:
			fmt.Sscan(line, &code)
			status = code
		default:
			if text == "gone" {
				if c, _, err := w.(http.Hijacker).Hijack(); err == nil {
					c.Close()
				}
				return
			}
			if text == "cut" {
				w.Header().Set("Content-Length", "100")
				io.WriteString(w, `{"rows":[{"m":1},`)
				return
			}
			w.WriteHeader(status)
			io.WriteString(w, text)
			return
		}
		text = rest
	}
}

// onWeb plays in virtual time with a platform on a network in memory.
func onWeb(t *testing.T, witness string, answers map[string][]string, do func(t *testing.T, w *witnesstest.World, s *web)) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		net, s := memnet.New(), &web{answers: answers}
		l, err := net.Listen("tcp", "127.0.0.1:80")
		require.NoError(t, err)
		server := &http.Server{Handler: s, ErrorLog: log.New(io.Discard, "", 0)}
		go server.Serve(l)
		defer server.Close()
		w := witnesstest.New(t, dir, crowd(witness))
		w.Catalog.Network = net.Dial
		do(t, w, s)
	})
}

// What a query reads, page by page, and what it says of answers that are none.
func TestWhatAQueryReads(t *testing.T) {
	const plain, whole = `get: "http://127.0.0.1/r", rows: ".rows[]", device: .d`, `get: "http://127.0.0.1/r", rows: ".rows | .[]", device: .d`
	const post, lines = `post: "http://127.0.0.1/r", query: '{"d":"${device}"}', rows: ".rows[]"`, `get: "http://127.0.0.1/r", device: .d, form: `
	many := `{"rows":[` + strings.TrimSuffix(strings.Repeat(`{"m":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"},`, 20), ",") + `]}`
	turned := func(n int, rows string) map[string][]string { // n pages, each with the address of the next
		m := map[string][]string{"/r": {`{"rows":` + rows + `,"next":"/r?p=1"}`}}
		for i := 1; i < n; i++ {
			m[fmt.Sprintf("/r?p=%d", i)] = []string{fmt.Sprintf(`{"rows":%s,"next":"/r?p=%d"}`, rows, i+1)}
		}
		return m
	}
	for name, c := range map[string]struct {
		witness string
		answers map[string][]string
		told    string // empty: it does not matter
		pages   int
		err     string
		took    time.Duration
	}{
		"one page":         {plain, map[string][]string{"/r": {`{"rows":[{"m":1},{"x":2}]}`}}, `| {"m":1} {"x":2}`, 1, "", 0},
		"one page, whole":  {whole, map[string][]string{"/r": {`{"rows":[{"m":1},{"x":2}]}`}}, `| {"m":1} {"x":2}`, 1, "", 0},
		"a list":           {`get: "http://127.0.0.1/r", rows: ".[]", device: .d`, map[string][]string{"/r": {`[{"m":1}]`}}, `| {"m":1}`, 1, "", 0},
		"deep":             {`get: "http://127.0.0.1/r", rows: ".a.b[]", device: .d`, map[string][]string{"/r": {`{"x":{"b":[1]},"a":{"b":[{"m":1}],"c":2}}`}}, `| {"m":1}`, 1, "", 0},
		"500, then good":   {plain, map[string][]string{"/r": {"500\nx", `{"rows":[{"m":1}]}`}}, `| again {"m":1}`, 1, "", 200 * time.Millisecond},
		"429, then good":   {plain, map[string][]string{"/r": {"429\nx", `{"rows":[{"m":1}]}`}}, `| again {"m":1}`, 1, "", 200 * time.Millisecond},
		"499":              {plain, map[string][]string{"/r": {"499\nx", `{"rows":[{"m":1}]}`}}, "", 0, "http://127.0.0.1/r answered with status 499 “status code 499”: “x”", 0},
		"no rows":          {plain, map[string][]string{"/r": {`{"rows":[]}`}}, `|`, 1, "", 0},
		"two pages":        {plain + `, next: .next`, map[string][]string{"/r": {`{"next":"/r?p=1","rows":[{"m":1}]}`}, "/r?p=1": {`{"rows":[{"m":2}]}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"two pages, whole": {whole + `, next: .next`, map[string][]string{"/r": {`{"next":"/r?p=1","rows":[{"m":1}]}`}, "/r?p=1": {`{"rows":[{"m":2}]}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"a next that needs the rows": {plain + `, next: '.rows[0].n'`, map[string][]string{"/r": {`{"rows":[{"n":"/r?p=1"}]}`}, "/r?p=1": {`{"rows":[{"m":2}]}`}},
			`| {"n":"/r?p=1"} | {"m":2}`, 2, "", 0},
		"parameters": {plain + `, page: {c: .c, n: .n}`, map[string][]string{"/r": {`{"rows":[],"c":"a b","n":2}`},
			"/r?c=a+b&n=2": {`{"rows":[],"c":null,"n":2}`}}, `| |`, 2, "", 0},
		"a parameter that ends": {plain + `, page: {c: .c}`, map[string][]string{"/r": {`{"rows":[],"c":""}`}}, `|`, 1, "", 0},
		"one that is false":     {plain + `, page: {c: .c}`, map[string][]string{"/r": {`{"rows":[],"c":false}`}}, `|`, 1, "", 0},
		"one that is true": {plain + `, page: {c: .c}`, map[string][]string{"/r": {`{"rows":[],"c":true}`}}, `|`, 1,
			"the next page of http://127.0.0.1/r: page: c is true, which is no value of a parameter", 0},
		"one that is a list": {plain + `, page: {c: .c}`, map[string][]string{"/r": {`{"rows":[],"c":[1]}`}}, `|`, 1,
			"the next page of http://127.0.0.1/r: page: c is “[1]”, which is no value of a parameter", 0},
		"one that cannot be had": {plain + `, page: {c: .c.d}`, map[string][]string{"/r": {`{"rows":[],"c":"x"}`}}, `|`, 1,
			`the next page of http://127.0.0.1/r: page: c: .c.d: expected an object but got: string ("x")`, 0},
		"the same page again": {plain + `, next: .next`, map[string][]string{"/r": {`{"rows":[],"next":"/r"}`}}, `|`, 1,
			"the next page of http://127.0.0.1/r is a page that was asked for already; check next", 0},
		"pages with nothing new": {plain + `, next: .next`, turned(50, `[{"m":1}]`), "", 20,
			"the pages after http://127.0.0.1/r go on without bringing anything new (the last was http://127.0.0.1/r?p=20); check next", 0},
		"pages without rows": {plain + `, next: .next`, turned(2000, `[]`), "", 999,
			"the pages after http://127.0.0.1/r go on without bringing anything new (the last was http://127.0.0.1/r?p=999); check next", 0},
		"pages of others": {plain + `, next: .next`, turned(1500, `[{"x":1}]`), "", 1500,
			`http://127.0.0.1/r?p=1500 answered with status 404 Not Found: “404 page not found”`, 0},
		"too many pages": {plain + `, next: .next`, turned(11_000, `[{"x":1}]`), "", 10_000,
			"the pages after http://127.0.0.1/r are more than 10000", 0},
		"busy": {plain, map[string][]string{"/r": {"503\nx", "429\nx", `{"rows":[{"m":1}]}`}}, `| again again {"m":1}`, 1, "", 600 * time.Millisecond},
		"busy for as long as it says": {plain, map[string][]string{"/r": {"503\nRetry-After: 7\nx", `{"rows":[{"m":1}]}`}},
			`| again {"m":1}`, 1, "", 7 * time.Second},
		"gone, and back":    {plain, map[string][]string{"/r": {"gone", `{"rows":[{"m":1}]}`}}, `| {"m":1}`, 1, "", 0}, // the client asks again by itself
		"gone for good":     {plain, map[string][]string{"/r": {"gone"}}, "", 0, "http://127.0.0.1/r: the platform closed the connection", time.Minute},
		"cut off":           {plain, map[string][]string{"/r": {"cut", `{"rows":[{"m":1}]}`}}, `| {"m":1} again {"m":1}`, 1, "", 200 * time.Millisecond},
		"busy for too long": {plain, map[string][]string{"/r": {"503\nx"}}, "", 0, "http://127.0.0.1/r answered with status 503 Service Unavailable: “x”", time.Minute},
		"refused":           {plain, map[string][]string{"/r": {"403\nnot yours"}}, "|", 0, "http://127.0.0.1/r answered with status 403 Forbidden: “not yours”", 0},
		"not there":         {plain, nil, "|", 0, "http://127.0.0.1/r answered with status 404 Not Found: “404 page not found”", 0},
		"no list":           {plain, map[string][]string{"/r": {`{"rows":7}`}}, "|", 0, "the answer of http://127.0.0.1/r does not have the rows the file says (it is no list there)", 0},
		"no list, whole":    {whole, map[string][]string{"/r": {`{"rows":7}`}}, "|", 0, "the answer of http://127.0.0.1/r does not have the rows the file says (.rows | .[]: cannot iterate over: number (7)): “{\"rows\":7}”)", 0},
		"no rows there":     {plain, map[string][]string{"/r": {`{"row":[]}`}}, "|", 0, "the answer of http://127.0.0.1/r does not have the rows the file says (there is no .rows)", 0},
		"no object":         {plain, map[string][]string{"/r": {`[]`}}, "|", 0, "the answer of http://127.0.0.1/r does not have the rows the file says (there is no .rows in what is no object)", 0},
		"no JSON":           {plain, map[string][]string{"/r": {"<html>"}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (invalid character '<' looking for beginning of value): “<html>”", 0},
		"no JSON, whole":    {whole, map[string][]string{"/r": {"<html>"}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (invalid character '<' looking for beginning of value): “<html>”", 0},
		"half of it":        {plain, map[string][]string{"/r": {`{"rows":[{"m":1}`}}, "", 0, "http://127.0.0.1/r: the answer is not JSON (it ends in the middle): “{\"rows\":[{\"m\":1}”", 0},
		"not even the rows": {plain, map[string][]string{"/r": {`{"rows":`}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (it ends in the middle): “{\"rows\":”", 0},
		"nothing":           {plain, map[string][]string{"/r": {``}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (it is empty): “”", 0},
		"something behind":  {plain, map[string][]string{"/r": {`{"rows":[]} 7`}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (something stands after the JSON value): “{\"rows\":[]} 7”", 0},
		"a name twice":      {plain, map[string][]string{"/r": {`{"x":1,"x":1,"rows":[]}`}}, "|", 0, "http://127.0.0.1/r: the answer is not JSON (the name \"x\" stands twice in an object): “{\"x\":1,\"x\":1,\"rows\":[]}”", 0},
		"as long as may be": {plain + ", max_answer: 1KiB", map[string][]string{"/r": {`{"rows":[{"m":"` + strings.Repeat("a", 1024-19) + `"}]}`}}, "", 1, "", 0},
		"longer": {plain + ", max_answer: 1KiB", map[string][]string{"/r": {`{"rows":[{"m":"` + strings.Repeat("a", 1024-18) + `"}]}`}}, "", 0,
			"http://127.0.0.1/r: the answer is longer than max_answer, 1 KiB; ask for smaller pages, or raise it", 0},
		"much longer": {plain + ", max_answer: 1KiB", map[string][]string{"/r": {many}}, "", 0,
			"http://127.0.0.1/r: the answer is longer than max_answer, 1 KiB; ask for smaller pages, or raise it", 0},
		"a long row": {plain + ", max_row: 1KiB", map[string][]string{"/r": {`{"rows":[{"m":"` + strings.Repeat("a", 1024) + `"}]}`}}, "|", 0,
			"http://127.0.0.1/r: a row is longer than max_row, 1 KiB; raise it", 0},
		"a row that just fits": {plain + ", max_row: 1KiB", map[string][]string{"/r": {`{"rows":[{"m":"` + strings.Repeat("a", 1024-8) + `"}]}`}}, "", 1, "", 0},
		"asked with a body":    {post, map[string][]string{`/r {"d":"gauge-1"}`: {`{"rows":[{"m":1}]}`}}, `| {"m":1}`, 1, "", 0},
		"a cursor in the body": {post + `, page: {c: .c, "v.after": .c}`, map[string][]string{`/r {"d":"gauge-1"}`: {`{"rows":[{"m":1}],"c":7}`},
			`/r {"c":7,"d":"gauge-1","v":{"after":7}}`: {`{"rows":[{"m":2}],"c":null}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"a next page of a body": {post + `, next: .next`, map[string][]string{`/r {"d":"gauge-1"}`: {`{"rows":[{"m":1}],"next":"?p=2"}`},
			`/r?p=2 {"d":"gauge-1"}`: {`{"rows":[{"m":2}]}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"a form that asks": {`post: "http://127.0.0.1/r", query: "d=${device}&n=1", headers: {Content-Type: application/x-www-form-urlencoded}, rows: ".rows[]", page: {n: "if $page < 2 then $page + 1 else null end"}`,
			map[string][]string{`/r d=gauge-1&n=1`: {`{"rows":[{"m":1}]}`}, `/r d=gauge-1&n=2`: {`{"rows":[{"m":2}]}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"a body with no place for it": {strings.Replace(post, `'{"d":"${device}"}'`, `"select ${device}"`, 1) + `, page: {n: $page}`, map[string][]string{`/r select gauge-1`: {`{"rows":[]}`}}, `|`, 1,
			"page has no place: query is no JSON object", 0},
		"a list with no place for it": {strings.Replace(post, `'{"d":"${device}"}'`, `'["${device}"]'`, 1) + `, page: {n: $page}`, map[string][]string{`/r ["gauge-1"]`: {`{"rows":[]}`}}, `|`, 1,
			"page has no place: query is no JSON object", 0},
		"pages by their number": {plain + `, page: {p: "if $count == 2 then $page + 1 else null end"}`, map[string][]string{"/r": {`{"rows":[{"m":1},{"m":2}]}`},
			"/r?p=2": {`{"rows":[{"m":3}]}`}}, `| {"m":1} {"m":2} | {"m":3}`, 2, "", 0},
		"pages by an offset": {plain + `, page: {o: "if $sofar < 3 then $sofar else null end"}`, map[string][]string{"/r": {`{"rows":[{"m":1},{"m":2}]}`},
			"/r?o=2": {`{"rows":[{"m":3}]}`}}, `| {"m":1} {"m":2} | {"m":3}`, 2, "", 0},
		"a header Link": {plain + `, next: $link.next`, map[string][]string{"/r": {"Link: </x>; rel=first, <?p=2>; title=\"a, b\"; rel=\"last next\"\n" + `{"rows":[{"m":1}]}`},
			"/r?p=2": {"Link: </x>; rel=first\n" + `{"rows":[{"m":2}]}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"a header Link to another host": {plain + `, next: $link.next`, map[string][]string{"/r": {"Link: <http://other.example/>; rel=next\n" + `{"rows":[{"m":1}]}`}}, `| {"m":1}`, 1,
			"the next page of http://127.0.0.1/r is at http://other.example, and was not asked: the credentials are for http://127.0.0.1 alone", 0},
		"a header that counts": {plain + `, total: '$headers["x-total"] | tonumber'`, map[string][]string{"/r": {"X-Total: 1\n" + `{"rows":[{"m":1}]}`}}, `| {"m":1}`, 1, "", 0},
		"as many as there are": {plain + `, next: .next, total: .of.all`, map[string][]string{"/r": {`{"rows":[{"m":1}],"of":{"all":2},"next":"?p=2"}`},
			"/r?p=2": {`{"rows":[{"m":2}],"of":{"all":"2"}}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"one came meanwhile": {plain + `, next: .next, total: .all`, map[string][]string{"/r": {`{"rows":[{"m":1}],"all":2,"next":"?p=2"}`},
			"/r?p=2": {`{"rows":[{"m":2}],"all":3}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"fewer than there are": {plain + `, total: .all`, map[string][]string{"/r": {`{"rows":[{"m":1}],"all":5}`}}, `| {"m":1}`, 1,
			"http://127.0.0.1/r: the platform says that there are 5 rows in all, and its pages brought 1; check next, page and total", 0},
		"more than there are": {plain + `, total: .all`, map[string][]string{"/r": {`{"rows":[{"m":1},{"m":2}],"all":1}`}}, `| {"m":1} {"m":2}`, 1,
			"http://127.0.0.1/r: the platform says that there are 1 rows in all, and its pages brought 2; check next, page and total", 0},
		"how many, it does not say": {plain + `, total: .all`, map[string][]string{"/r": {`{"rows":[{"m":1}]}`}}, `| {"m":1}`, 1, "", 0},
		"none, it says":             {plain + `, total: .all`, map[string][]string{"/r": {`{"rows":[],"all":0}`}}, `|`, 1, "", 0},
		"compressed":                {plain, map[string][]string{"/r": {"Content-Encoding: gzip\n" + gzipped(`{"rows":[{"m":1}]}`)}}, `| {"m":1}`, 1, "", 0},
		"a total that is none": {plain + `, total: .all`, map[string][]string{"/r": {`{"rows":[{"m":1}],"all":"many"}`}}, `| {"m":1}`, 0,
			"http://127.0.0.1/r: total is “\"many\"”, which is no number of rows", 0},
		"CSV":                            {lines + "csv", map[string][]string{"/r": {"mm,d\n1,a\n2,\"b\nc\"\n"}}, `| {"d":"a","mm":"1"} {"d":"b\nc","mm":"2"}`, 1, "", 0},
		"CSV whose last line has no end": {lines + "csv", map[string][]string{"/r": {"mm,d\n1,a\n2,b"}}, `| {"d":"a","mm":"1"} {"d":"b","mm":"2"}`, 1, "", 0},
		"CSV without rows":               {lines + "csv", map[string][]string{"/r": {"mm,d\n"}}, `|`, 1, "", 0},
		"JSON Lines":                     {lines + "json, rows: .v", map[string][]string{"/r": {"{\"v\":{\"m\":1}}\n\n{\"v\":{\"m\":2}}"}}, `| {"m":1} {"m":2}`, 1, "", 0},
		"a line that is none": {lines + "json", map[string][]string{"/r": {"{\"m\":1}\nno\n"}}, `| {"m":1}`, 0,
			"http://127.0.0.1/r: the answer:2: invalid character 'o' in literal null (expecting 'u')", 0},
		"lines that are cut off": {lines + "json", map[string][]string{"/r": {"cut", "{\"m\":1}\n"}}, `| again {"m":1}`, 1, "", 200 * time.Millisecond},
		"pages of lines":         {lines + "json, next: $link.next", map[string][]string{"/r": {"Link: <?p=2>; rel=next\n" + `{"m":1}`}, "/r?p=2": {`{"m":2}`}}, `| {"m":1} | {"m":2}`, 2, "", 0},
		"slow":                   {plain + ", timeout: 2s", map[string][]string{"/r": {"after 3s\n{}", `{"rows":[{"m":1}]}`}}, `| again {"m":1}`, 1, "", 2200 * time.Millisecond},
	} {
		t.Run(name, func(t *testing.T) {
			onWeb(t, c.witness, c.answers, func(t *testing.T, w *witnesstest.World, s *web) {
				a, d := started(t, w, s), w.Fleet.Devices[0]
				defer a.Stop()
				ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
				defer cancel()
				began, take := time.Now(), &taker{}
				pages, err := a.Ask(ctx, ask.Question{Device: d, Cursor: ask.NewCursor(d, take)})
				if c.err == "" {
					assert.NoError(t, err)
				} else {
					assert.EqualError(t, err, c.err)
				}
				assert.Equal(t, name == "not there", errors.Is(err, ask.ErrUnknown), "of a later page, it tells nothing")
				assert.Equal(t, c.pages, pages)
				assert.Equal(t, c.took, time.Since(began))
				if c.told != "" {
					assert.Equal(t, c.told, take.text())
				}
			})
		})
	}
}

// An answer of rows alone that ends with its connection may have been cut off, unless it says how many there are.
func TestRowsWithoutAnEnd(t *testing.T) {
	for total, want := range map[string]string{
		"":                               "the answer ends with its connection, and may have been cut off there; where it says how many rows there are, write total",
		`, total: '$headers["x-total"]'`: "",
	} {
		synctest.Test(t, func(t *testing.T) {
			net := memnet.New()
			l, err := net.Listen("tcp", "127.0.0.1:80")
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for c, err := l.Accept(); err == nil; c, err = l.Accept() {
					http.ReadRequest(bufio.NewReader(c))
					io.WriteString(c, "HTTP/1.0 200 OK\r\nX-Total: 1\r\n\r\n{\"m\":1}\n")
					c.Close()
				}
			}()
			w := witnesstest.New(t, t.TempDir(), crowd(`get: "http://127.0.0.1/r", device: .d, form: json`+total))
			w.Catalog.Network = net.Dial
			a, err := ask.New(w.Base)
			require.NoError(t, err)
			d := w.Fleet.Devices[0]
			err = a.Start(t.Context(), d)
			defer a.Stop()
			if want != "" {
				require.ErrorContains(t, err, want)
				return
			}
			require.NoError(t, err)
			_, err = a.Ask(t.Context(), ask.Question{Device: d, Cursor: ask.NewCursor(d, &taker{})})
			assert.NoError(t, err)
		})
	}
}

// started is an asker that asked its first question, which a platform of no rows answered.
func started(t *testing.T, w *witnesstest.World, s *web) *ask.Asker {
	a, err := ask.New(w.Base)
	require.NoError(t, err)
	require.NoError(t, a.Ready(t.Context(), w.Fleet.Devices[0]))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ready, s.asked = true, nil
	return a
}

// What a run must not begin with, and what may come right.
func TestTheFirstQuestion(t *testing.T) {
	const store = `get: "http://127.0.0.1/r?d=${device}&f=${from}", rows: ".rows[]", headers: {X-Key: "k-${crowd}"}`
	for name, c := range map[string]struct{ answer, err string }{
		"rows":        {`{"rows":[]}`, ""},
		"no rows":     {`{"x":1}`, ""},
		"not there":   {"404\nx", ""},
		"busy":        {"503\nx", ""},
		"refused":     {"401\nx", `answered with status 401 Unauthorized: “x”; check the headers of the witness: the platform refuses them`},
		"forbidden":   {"403\nx", `answered with status 403 Forbidden: “x”; check the headers of the witness: the platform refuses them`},
		"no JSON":     {"<html>", `the answer is not JSON (invalid character '<' looking for beginning of value): “<html>”; check get: and what the platform answers there`},
		"it is cut":   {"cut", `the platform closed the connection`},
		"no platform": {"", `the connection was refused: nothing listens there; check host and port 90`},
	} {
		t.Run(name, func(t *testing.T) {
			const at = "/r?d=gauge-1&f=2000-01-01T00:00:00Z"
			witness := store
			if c.answer == "" {
				witness = strings.Replace(store, "127.0.0.1/", "127.0.0.1:90/", 1)
			}
			onWeb(t, witness, map[string][]string{at: {c.answer}}, func(t *testing.T, w *witnesstest.World, s *web) {
				if s.ready = true; c.answer == "" {
					w.Catalog.Network = memnet.New().Dial
				}
				a, err := ask.New(w.Base)
				require.NoError(t, err)
				defer a.Stop()
				if err = a.Ready(t.Context(), w.Fleet.Devices[0]); c.err == "" {
					assert.NoError(t, err)
				} else {
					var reach *link.ReachError
					require.ErrorAs(t, err, &reach)
					assert.Contains(t, err.Error(), c.err)
				}
				if c.answer != "" {
					assert.Equal(t, []string{at}, s.asked)
					assert.Equal(t, "k-skerry-roads", s.headers.Get("X-Key"))
					assert.Equal(t, "application/json", s.headers.Get("Accept"))
					assert.Empty(t, s.headers.Get("Content-Type"))
				}
			})
		})
	}
}

// A token that runs out on the way is no refusal: with a new one it is asked once more, and only
// once.
func TestATokenThatRunsOutOnTheWay(t *testing.T) {
	const store = `link: shore, timeout: 1m, get: "http://127.0.0.1/r?d=${device}", rows: ".rows[]"`
	for name, c := range map[string]struct {
		answers []string
		asked   int
		err     string
	}{
		"it ran out":         {[]string{"after 20s\n401\nx", `{"rows":[]}`}, 2, ""},
		"the new one, too":   {[]string{"after 20s\n401\nx", "after 20s\n401\nx", `{"rows":[]}`}, 2, "401 Unauthorized"},
		"it is good, and no": {[]string{"401\nx", `{"rows":[]}`}, 1, "401 Unauthorized"},
	} {
		t.Run(name, func(t *testing.T) {
			onWeb(t, store, map[string][]string{"/r?d=gauge-1": c.answers}, func(t *testing.T, w *witnesstest.World, s *web) {
				s.ready = true
				a, err := ask.New(w.Base)
				require.NoError(t, err)
				defer a.Stop()
				err = a.Ready(t.Context(), w.Fleet.Devices[0])
				assert.Len(t, s.asked, c.asked)
				if c.err == "" {
					assert.NoError(t, err)
				} else {
					assert.ErrorContains(t, err, c.err)
				}
			})
		})
	}
}

// A platform tells its clock in whole seconds, between the question and the answer.
func TestThePlatformsClock(t *testing.T) {
	const base = "Date: Sat, 01 Jan 2000 00:00:"
	for name, c := range map[string]struct {
		dates []string
		is    string
	}{
		"none":               {[]string{""}, "none"},
		"no time":            {[]string{"Date: noon\n"}, "none"},
		"of a cache":         {[]string{"Age: 3\n" + base + "00 GMT\n"}, "none"},
		"right":              {[]string{base + "02 GMT\nafter 2s\n"}, "0s..3s"},
		"ahead":              {[]string{base + "09 GMT\nafter 2s\n"}, "7s..10s"},
		"told twice":         {[]string{base + "09 GMT\nafter 2s\n", base + "10 GMT\n"}, "8s..9s"},
		"told otherwise":     {[]string{base + "09 GMT\n", base + "40 GMT\n"}, "none"},
		"told by the second": {[]string{"", base + "05 GMT\n"}, "5s..6s"},
	} {
		t.Run(name, func(t *testing.T) {
			var list []string
			for _, d := range c.dates {
				list = append(list, d+`{"rows":[]}`)
			}
			onWeb(t, `get: "http://127.0.0.1/r", rows: ".rows[]", device: .d`, map[string][]string{"/r": list},
				func(t *testing.T, w *witnesstest.World, s *web) {
					a := started(t, w, s)
					defer a.Stop()
					for range list {
						_, err := a.Ask(t.Context(), ask.Question{Device: w.Fleet.Devices[0], Cursor: ask.NewCursor(w.Fleet.Devices[0], &taker{})})
						require.NoError(t, err)
					}
					got := "none"
					o, decides := a.Offset()
					assert.Equal(t, name != "told otherwise", decides)
					if o != nil {
						got = o.Least.String() + ".." + o.Most.String()
					}
					assert.Equal(t, c.is, got)
					a.Clock()
					if c.is == "none" {
						assert.Empty(t, w.Noted())
					} else {
						assert.Equal(t, []string{"clock " + strings.Replace(c.is, "..", " to ", 1)}, w.Noted())
					}
				})
		})
	}
}

// fixed is a source that answers each device as it is told to.
type fixed struct {
	answers map[string]func(q ask.Question) (int, error)
	offset  *ledger.Offset
	mu      sync.Mutex
	asked   []string
}

func (s *fixed) Start(hearing.Context, *fleet.Device) error { return nil }
func (s *fixed) Stop()                                      {}
func (s *fixed) Offset() (*ledger.Offset, bool)             { return s.offset, false }
func (s *fixed) Ask(_ hearing.Context, q ask.Question) (int, error) {
	s.mu.Lock()
	s.asked = append(s.asked, fmt.Sprint(q.Device.Name, " of ", len(q.Group), " ", q.To.Sub(q.From)))
	s.mu.Unlock()
	return s.answers[q.Device.Name](q)
}

// All devices are asked about; one that the platform does not know counts only where all are such,
// or where it was known before.
func TestAskingAboutAll(t *testing.T) {
	none := func(ask.Question) (int, error) { return 1, ask.ErrUnknown }
	wrong := func(ask.Question) (int, error) { return 1, errors.New("the page is wrong") }
	of := func(rows ...string) func(q ask.Question) (int, error) {
		return func(q ask.Question) (int, error) {
			for _, r := range rows {
				q.Cursor.Turn()
				q.Cursor.Row(map[string]any{r: json.Number("1")})
				q.Cursor.Row(map[string]any{"x": json.Number("1")})
			}
			return len(rows), nil
		}
	}
	type answers = [3]func(q ask.Question) (int, error)
	for name, c := range map[string]struct {
		first, then answers
		taken       error
		pages       int
		rows, own   int
		err         string
	}{
		"all":                       {first: answers{of("m"), of("m", "m"), of("x")}, pages: 4, rows: 8, own: 3},
		"one is not known":          {first: answers{of("m"), none, of("x")}, pages: 3, rows: 4, own: 1},
		"none is known":             {first: answers{none, none, none}, pages: 3, err: "every question was answered with 404; check get: the platform does not know it"},
		"one breaks":                {first: answers{of("m"), wrong, of("x")}, err: "the page is wrong"},
		"rows that cannot be taken": {first: answers{of("m"), of("m"), of("x")}, taken: errors.New("no number"), err: "no number"},
		"one is known no more": {first: answers{of("m"), of("m"), none}, then: answers{of("m"), none, none},
			err: "the platform no longer knows gauge-2, of which it showed messages before: the platform does not know it"},
		"one that showed others' rows": {first: answers{of("m"), of("x"), none}, then: answers{of("m"), none, none}, pages: 3, rows: 2, own: 1},
	} {
		t.Run(name, func(t *testing.T) {
			w := witnesstest.New(t, t.TempDir(), crowd(`get: "http://127.0.0.1/${device}", rows: ".[]"`))
			s := &fixed{offset: &ledger.Offset{Least: -3 * time.Second, Most: 5 * time.Second}}
			a := &ask.Asker{Base: w.Base, Source: s, Further: time.Hour}
			require.NoError(t, a.Ready(t.Context(), w.Fleet.Devices[0]))
			require.Len(t, a.Devices(), 3)
			play := func(list answers) (int, []ask.Answer, error) {
				s.answers, s.asked = map[string]func(q ask.Question) (int, error){}, nil
				for i, f := range list {
					s.answers[a.Devices()[i].Name] = f
				}
				return a.All(t.Context(), a.Devices(), hearing.Round{N: 1, Begin: time.Now()}, true,
					func() ask.Taker { return &taker{err: c.taken} })
			}
			pages, got, err := a.All(t.Context(), nil, hearing.Round{N: 1, Begin: time.Now()}, true, func() ask.Taker { return &taker{} })
			assert.Equal(t, []any{0, 0, nil}, []any{pages, len(got), err}, "about nobody")
			pages, got, err = play(c.first)
			if c.then[0] != nil {
				require.NoError(t, err)
				pages, got, err = play(c.then)
			}
			if c.err != "" {
				assert.EqualError(t, err, c.err)
				return
			}
			require.NoError(t, err)
			rows, own := 0, 0
			for _, x := range got {
				rows, own = rows+x.Rows, own+x.Own
			}
			assert.Equal(t, []int{c.pages, c.rows, c.own}, []int{pages, rows, own})
			assert.Len(t, s.asked, 3)
			for _, x := range s.asked {
				assert.Regexp(t, `^gauge-\d of 1 4h?`, x[:len("gauge-1 of 1 ")]+"4")
				assert.Contains(t, x, " 2h2m8", "two hours, two minutes and what the clocks differ")
			}
			a.Since = time.Now().Add(-3 * time.Hour)
			_, _, err = play(c.first)
			require.NoError(t, err)
			assert.Contains(t, s.asked[0], " 4h1m5", "from when it always asks")
		})
	}
}

func TestTheTimeThatAskingTakes(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), crowd(`get: "http://127.0.0.1/${device}", rows: ".[]", wait: 3s, pace: 2/s`))
	a := &ask.Asker{Base: w.Base}
	assert.Equal(t, 3*time.Second, a.Room(0))
	assert.Equal(t, 4500*time.Millisecond, a.Room(3))
	w.Spec.Pace = 0
	assert.Equal(t, 3*time.Second, a.Room(3))
	cut, cancel := context.WithCancel(t.Context())
	cancel()
	for why, c := range map[string]struct {
		ctx context.Context
		err error
	}{
		"the hearing was cut short": {cut, context.DeadlineExceeded},
		"it was not read to the end within 2s: 3 pages had been read; raise wait, or ask for larger pages": {t.Context(), context.DeadlineExceeded},
		"no such table": {t.Context(), errors.New("no such table")},
	} {
		assert.Equal(t, why, ask.WhyNot(c.ctx, c.err, 2*time.Second, 3))
	}
}

// One question stands for all where a query names no device; a database is asked about many at once.
func TestWhomAQuestionIsAbout(t *testing.T) {
	for witness, c := range map[string]struct {
		devices int
		groups  string
	}{
		`get: "http://127.0.0.1/${device}", rows: ".[]"`:                                                                 {3, "gauge-1 of 1"},
		`get: "http://127.0.0.1/x", rows: ".[]", device: .d`:                                                             {1, "gauge-1 of 1"},
		`get: "http://127.0.0.1/${device}", rows: ".[]", who: gauge-2`:                                                   {1, "gauge-2 of 1"},
		`sql: "sqlite:x.db", query: "select mark, device from r where device in (@devices)", device: device, mark: mark`: {3, "gauge-1 of 3"},
		`sql: "sqlite:x.db", query: "select mark from r where device = @device", mark: mark`:                             {3, "gauge-1 of 1"},
	} {
		w := witnesstest.New(t, t.TempDir(), crowd(witness))
		s := &fixed{answers: map[string]func(ask.Question) (int, error){}}
		a := &ask.Asker{Base: w.Base, Source: s}
		assert.Len(t, a.Devices(), c.devices, witness)
		for _, d := range a.Devices() {
			s.answers[d.Name] = func(ask.Question) (int, error) { return 1, nil }
		}
		_, _, err := a.All(t.Context(), a.Devices(), hearing.Round{}, true, func() ask.Taker { return &taker{} })
		require.NoError(t, err)
		slices.Sort(s.asked)
		assert.True(t, strings.HasPrefix(s.asked[0], c.groups), "%s: %v", witness, s.asked)
	}
}

// What was there before the run is asked once, for as long as it may take.
func TestAskingForWhatIsOld(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := witnesstest.New(t, t.TempDir(), crowd(`get: "http://127.0.0.1/x", rows: ".[]", device: .d, wait: 3s`))
		for name, c := range map[string]struct {
			ask func(ask.Question) (int, error)
			err error
		}{
			"rows":         {func(ask.Question) (int, error) { return 1, nil }, nil},
			"none":         {func(ask.Question) (int, error) { return 1, ask.ErrUnknown }, nil},
			"nine seconds": {func(ask.Question) (int, error) { time.Sleep(9 * time.Second); return 1, nil }, nil},
			"too long":     {func(ask.Question) (int, error) { time.Sleep(11 * time.Second); return 1, nil }, context.DeadlineExceeded},
		} {
			a := &ask.Asker{Base: w.Base, Source: &fixed{answers: map[string]func(ask.Question) (int, error){"gauge-1": c.ask}}}
			assert.Equal(t, c.err, a.Old(t.Context(), a.Devices(), 0, func() ask.Taker { return &taker{} }), name)
		}
	})
}

// Each question is signed as it is asked, with its body; what a platform says of a signature is
// told without it.
func TestSignedQuestions(t *testing.T) {
	t.Setenv("HARBOUR_KEY", "secret-of-the-harbour")
	const store = `timeout: 1m, post: "http://127.0.0.1/r", query: "d=${device}", rows: ".rows[]", ` +
		`signing: {at: "${date(request.time, 'hhmmss')}", sum: "${bytes_hex(hmac('sha256', env.HARBOUR_KEY, request.method + request.path + request.body + at))}"}, ` +
		`headers: {X-At: "${at}", X-Plain: plain, Authorization: "H1 ${sum}"}`
	for name, c := range map[string]struct {
		signing, answer, err string
	}{
		"it is let in":          {answer: `{"rows":[]}`},
		"it is not":             {answer: "403\nnot SUM, go away", err: "403 Forbidden: “not «secret», go away”"},
		"it has no right":       {answer: "401\nwho is SUM?", err: "401 Unauthorized: “who is «secret»?”"},
		"it cannot be computed": {signing: "${unbase64(request.path)}", answer: `{"rows":[]}`, err: "signing: sum: "},
		"it is no header":       {signing: "${request.body}\\n", answer: `{"rows":[]}`, err: "the header Authorization holds a line break"},
	} {
		t.Run(name, func(t *testing.T) {
			sum := hmac.New(sha256.New, []byte("secret-of-the-harbour"))
			fmt.Fprint(sum, "POST/rd=gauge-1000000")
			want := hex.EncodeToString(sum.Sum(nil))
			text := store
			if c.signing != "" {
				from, to := strings.Index(store, `sum: "`)+6, strings.Index(store, `"}, headers`)
				text = store[:from] + c.signing + store[to:]
			}
			onWeb(t, text, map[string][]string{"/r d=gauge-1": {strings.Replace(c.answer, "SUM", want, 1)}}, func(t *testing.T, w *witnesstest.World, s *web) {
				s.ready = true
				a, err := ask.New(w.Base)
				require.NoError(t, err)
				defer a.Stop()
				err = a.Ready(t.Context(), w.Fleet.Devices[0])
				if c.err != "" {
					assert.ErrorContains(t, err, c.err)
				} else {
					require.NoError(t, err)
				}
				assert.LessOrEqual(t, len(s.asked), 1)
				if c.signing == "" {
					assert.Equal(t, "H1 "+want, s.headers.Get("Authorization"))
					assert.Equal(t, "000000 plain", s.headers.Get("X-At")+" "+s.headers.Get("X-Plain"))
				}
			})
		})
	}
}

// What is asked with a body says of what kind it is, unless the file says it.
func TestTheTypeOfAQuestion(t *testing.T) {
	for query, want := range map[string][2]string{`'{"d":"${device}"}'`: {`{"d":"gauge-1"}`, "application/json"},
		`'d=${device}'`: {`d=gauge-1`, "text/plain; charset=utf-8"},
		`'d=${device}', headers: {Content-Type: x/y}`: {`d=gauge-1`, "x/y"}} {
		onWeb(t, `post: "http://127.0.0.1/r", rows: ".rows[]", query: `+query, map[string][]string{"/r " + want[0]: {`{"rows":[]}`}},
			func(t *testing.T, w *witnesstest.World, s *web) {
				s.ready = true
				a, err := ask.New(w.Base)
				require.NoError(t, err)
				defer a.Stop()
				require.NoError(t, a.Ready(t.Context(), w.Fleet.Devices[0]))
				assert.Equal(t, want[1], s.headers.Get("Content-Type"))
				assert.Equal(t, []string{"/r " + want[0]}, s.asked)
			})
	}
}
