//go:build unix

package run_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/verdict"
)

// intake is a platform that keeps the JSON objects it lets in, and reads them back.
type intake struct {
	mu     sync.Mutex
	rows   []map[string]any
	denied map[string]int
	saw    []string
	// lets tells why a request is turned away; empty: it is let in.
	lets func(r *http.Request, body []byte) string
	// reads makes the object of a request; nil: its body is JSON.
	reads func(r *http.Request, body []byte) map[string]any
}

func (p *intake) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	p.mu.Lock()
	defer p.mu.Unlock()
	if strings.HasPrefix(r.URL.Path, "/rows") {
		json.NewEncoder(w).Encode(p.rows)
		return
	}
	p.saw = append(p.saw, fmt.Sprintf("%s %s %d %v %q", r.Method, r.URL.RequestURI(), r.ContentLength, r.TransferEncoding, r.Header.Get("Content-Type")))
	if p.lets != nil {
		if why := p.lets(r, body); why != "" {
			if p.denied == nil {
				p.denied = map[string]int{}
			}
			p.denied[why]++
			http.Error(w, why+": "+r.Header.Get("Authorization")+" "+r.Header.Get("Signature"), http.StatusForbidden)
			return
		}
	}
	row := map[string]any{}
	if p.reads != nil {
		row = p.reads(r, body)
	} else {
		json.Unmarshal(body, &row)
	}
	mark, _ := row["mark"].(string)
	row["device"] = strings.Split(mark+"//", "/")[1]
	row["id"], row["kept_at"] = len(p.rows)+1, time.Now().UTC().Format(time.RFC3339Nano)
	p.rows = append(p.rows, row)
	w.WriteHeader(http.StatusAccepted)
}

func keyed(key, text string) string {
	h := hmac.New(sha256.New, []byte(key))
	h.Write([]byte(text))
	return string(h.Sum(nil))
}

func hashed(b []byte) string {
	sum := sha256.Sum256(b)
	return string(sum[:])
}

// fresh tells whether a time is that of the request, as good as.
func fresh(t time.Time) bool { return time.Since(t).Abs() < 30*time.Second }

// messageSignature verifies HTTP Message Signatures (RFC 9421, section 3.2, with hmac-sha256,
// section 3.3.3) over method, path, query and content digest (RFC 9530, section 2).
func messageSignature(keyOf func(device string) string) func(r *http.Request, body []byte) string {
	input := regexp.MustCompile(`^sig1=(\("@method" "@path" "@query" "content-digest"\);created=(\d+);keyid="([^"]+)";alg="hmac-sha256")$`)
	return func(r *http.Request, body []byte) string {
		m := input.FindStringSubmatch(r.Header.Get("Signature-Input"))
		if m == nil || r.Header.Get("Signature") == "" {
			return "no signature"
		}
		digest := "sha-256=:" + base64.StdEncoding.EncodeToString([]byte(hashed(body))) + ":"
		if r.Header.Get("Content-Digest") != digest {
			return "another digest"
		}
		var created int64
		fmt.Sscan(m[2], &created)
		if !fresh(time.Unix(created, 0)) {
			return "too old"
		}
		base := fmt.Sprintf("\"@method\": %s\n\"@path\": %s\n\"@query\": ?%s\n\"content-digest\": %s\n\"@signature-params\": %s",
			r.Method, r.URL.EscapedPath(), r.URL.RawQuery, digest, m[1])
		if want := "sig1=:" + base64.StdEncoding.EncodeToString([]byte(keyed(keyOf(m[3]), base))) + ":"; r.Header.Get("Signature") != want {
			return "another signature"
		}
		return ""
	}
}

const messageSigned = `
    signing:
      key: "${hmac('sha256', env.HARBOUR_KEY, device)}"
      hash: "sha-256=:${base64(digest('sha256', request.body))}:"
      parameters: '("@method" "@path" "@query" "content-digest");created=${unix(request.time)};keyid="${device}";alg="hmac-sha256"'
      base: "\"@method\": ${request.method}\n\"@path\": ${request.path}\n\"@query\": ?${request.query}\n\"content-digest\": ${hash}\n\"@signature-params\": ${parameters}"
    headers:
      Content-Digest: ${hash}
      Signature-Input: sig1=${parameters}
      Signature: "sig1=:${base64(hmac('sha256', key, base))}:"`

// canonicalRequest verifies a signature of a canonical request, with a key that is derived in steps
// from a secret, a day and a place: in a header, or in the address.
func canonicalRequest(r *http.Request, body []byte) string {
	m := regexp.MustCompile(`^H1 id=(\w+), headers=host;x-date, signature=([0-9a-f]{64})$`).FindStringSubmatch(r.Header.Get("Authorization"))
	if m == nil {
		return "no signature"
	}
	at := r.Header.Get("X-Date")
	if t, err := time.Parse("20060102T150405Z", at); err != nil || !fresh(t) {
		return "too old"
	}
	if m[1] != "K1907" {
		return "another key"
	}
	canonical := strings.Join([]string{r.Method, r.URL.EscapedPath(), r.URL.RawQuery, "host:" + r.Host, "x-date:" + at, "",
		"host;x-date", hex.EncodeToString([]byte(hashed(body)))}, "\n")
	key := keyed(keyed(keyed("H1"+"secret-of-the-harbour", at[:8]), "outer"), "intake")
	want := keyed(key, at+"\n"+hex.EncodeToString([]byte(hashed([]byte(canonical)))))
	if hex.EncodeToString([]byte(want)) != m[2] {
		return "another signature"
	}
	return ""
}

const canonicalSigned = `
    signing:
      at: "${date(request.time, 'YYYYMMDDThhmmssZ')}"
      hash: "${bytes_hex(digest('sha256', request.body))}"
      canonical: "${request.method}\n${request.path}\n${request.query}\nhost:${request.host}\nx-date:${at}\n\nhost;x-date\n${hash}"
      day_key: "${hmac('sha256', 'H1' + env.HARBOUR_KEY, part(at, 0, 8))}"
      key: "${hmac('sha256', hmac('sha256', day_key, 'outer'), 'intake')}"
      signature: "${bytes_hex(hmac('sha256', key, at + '\\n' + bytes_hex(digest('sha256', canonical))))}"
    headers:
      X-Date: ${at}
      Authorization: "H1 id=K1907, headers=host;x-date, signature=${signature}"`

const signedCrowd = `
crowd: harbour
seed: 1907
links:
  shore:
    http: http://HTTP%s
kinds:
  gauge:
    link: shore
    readings:
      level: {every: 250ms, path: "/in/a%%20b/${device}?site=outer&x=1", fields: {level_m: {signal: tide, range: 4.1, period: 12h25m, round: 3}}}
      other: {every: 500ms, method: GET, path: "/in/${device}", payload: {form: urlencoded, in: query}, fields: {level_m: {signal: tide, range: 4.1, period: 12h25m, round: 3}}}
devices: [{kind: gauge, count: 3, name: "gauge-${n}"}]
plan: {for: 6s, settle: 10s, events: [%s]}
witnesses:
  store: {proves: stored, get: "http://HTTP/rows", rows: '.[]', device: .device, mark: .mark, values: ., row: .id, time: .kept_at}
require: {proven: 100%%, acknowledged: 100%%}
`

// A platform that verifies each request's signature lets in what is signed, and nothing else; what
// it repeats of a signature is in no file of ours.
func TestSignedRequests(t *testing.T) {
	t.Setenv("HARBOUR_KEY", "secret-of-the-harbour")
	keyOf := func(device string) string { return keyed("secret-of-the-harbour", device) }
	for name, c := range map[string]struct {
		verify func(*http.Request, []byte) string
		signed string
	}{"message signatures": {messageSignature(keyOf), messageSigned}, "a canonical request": {canonicalRequest, canonicalSigned}} {
		for event, denied := range map[string]string{"": "", "{at: 2s, for: 2s, who: gauge-2, do: {credential: wrong}, expect: refused}": "another signature",
			"{at: 2s, for: 2s, who: gauge-2, do: {credential: none}, expect: refused}": "no signature"} {
			t.Run(name+event, func(t *testing.T) {
				platform := &intake{lets: c.verify, reads: func(r *http.Request, body []byte) map[string]any {
					row := map[string]any{}
					if len(body) == 0 {
						q := r.URL.Query()
						return map[string]any{"mark": q.Get("mark"), "level_m": json.Number(q.Get("level_m"))}
					}
					json.Unmarshal(body, &row)
					return row
				}}
				text := fmt.Sprintf(signedCrowd, c.signed, event)
				p := playOn(t, platform, text)
				assert.True(t, p.holds(), p.says())
				if denied == "" {
					assert.Empty(t, platform.denied)
					assert.Equal(t, 3*(24+12), p.result.Total[verdict.Proven])
					return
				}
				assert.Equal(t, []string{denied}, keysOf(platform.denied), "all that was turned away")
				assert.InDelta(t, 12, platform.denied[denied], 2)
			})
		}
	}
}

func keysOf(m map[string]int) (list []string) {
	for k := range m {
		list = append(list, k)
	}
	return list
}

// What stands in an address is read back as it was sent, escaped or not, and nothing is sent as a
// body. Each way is found whole.
func TestValuesInTheAddress(t *testing.T) {
	for name, c := range map[string]struct{ reading, saw string }{
		"query": {`{every: 500ms, method: GET, path: "/update?key=k1", payload: {form: urlencoded, in: query}, fields: FIELDS}`,
			`^GET /update\?key=k1&mark=[\w%-]+&level_m=-?[\d.]+&note=a%20b%26c%2B%C3%A9\d+&calm=(true|false) 0 \[\] ""$`},
		"post": {`{every: 500ms, path: "/update", payload: {form: urlencoded, in: query}, fields: FIELDS}`,
			`^POST /update\?mark=[\w%-]+&level_m=-?[\d.]+&note=a%20b%26c%2B%C3%A9\d+&calm=(true|false) 0 \[\] ""$`},
		"path": {`{every: 500ms, method: PUT, path: "/set/${device}/", payload: {template: "${level_m}/${calm}/${note}?mark=${mark}", in: path}, fields: FIELDS}`,
			`^PUT /set/gauge-1/-?[\d.]+/(true|false)/a%20b%26c%2B%C3%A9\d+\?mark=[\w%-]+ 0 \[\] ""$`},
		"body": {`{every: 500ms, path: "/update", payload: urlencoded, fields: FIELDS}`, `^POST /update \d\d+ \[\] "application/x-www-form-urlencoded"$`},
	} {
		t.Run(name, func(t *testing.T) {
			platform := &intake{reads: func(r *http.Request, body []byte) map[string]any {
				q := r.URL.Query()
				if len(body) > 0 {
					q, _ = url.ParseQuery(string(body))
				}
				if parts := strings.Split(r.URL.EscapedPath(), "/"); len(parts) == 6 {
					note, _ := url.PathUnescape(parts[5])
					q.Set("level_m", parts[3])
					q.Set("calm", parts[4])
					q.Set("note", note)
				}
				return map[string]any{"mark": q.Get("mark"), "level_m": json.Number(q.Get("level_m")), "note": q.Get("note"), "calm": q.Get("calm") == "true"}
			}}
			text := strings.Replace(fmt.Sprintf(signedCrowd, "", ""), "count: 3", "count: 1", 1)
			from, to := strings.Index(text, "      level:"), strings.Index(text, "devices:")
			text = text[:from] + "      level: " + strings.Replace(c.reading, "FIELDS", `{level_m: {signal: tide, range: 4.1, period: 12h25m, round: 3}, `+
				`note: "${'a b&c+é' + text(seq)}", calm: "${level_m > -1.9}"}`, 1) + "\n" + text[to:]
			p := playOn(t, platform, text)
			assert.True(t, p.holds(), p.says())
			assert.Equal(t, 12, len(platform.rows))
			for _, s := range platform.saw {
				assert.Regexp(t, c.saw, s)
			}
		})
	}
}
