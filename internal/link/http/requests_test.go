package http_test

import (
	"fmt"
	"io"
	nethttp "net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd"
	"runcrowd/internal/jq"
	"runcrowd/internal/link"
	"runcrowd/internal/link/http"
	"runcrowd/internal/link/linktest"
)

// counted signs with a number of its own each time.
type counted struct {
	mu sync.Mutex
	n  int
}

func (s *counted) Sign(r *link.ToSign) (*link.Signature, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.n++
	if s.n == 9 {
		return nil, fmt.Errorf("key: there is none")
	}
	v := fmt.Sprintf("signature-%d of %s %s?%s %s", s.n, r.Method, r.Path, r.Query, r.Body)
	return &link.Signature{Headers: []link.Header{{Name: "X-Sig", Value: v}}, Query: []link.Header{{Name: "s&g", Value: v}}, Secrets: []string{v}}, nil
}

// Each try of a request is signed anew, what is redirected elsewhere carries no signature, and
// what the platform repeats of one is hidden. A request that cannot be signed is not sent.
func TestEachTryIsSigned(t *testing.T) {
	var mu sync.Mutex
	var seen []string
	note := func(r *nethttp.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		seen = append(seen, fmt.Sprint(r.Method, " ", r.URL.Path, " ", r.Header.Get("X-Sig"), "|", r.URL.Query().Get("s&g"), "|", string(body)))
	}
	other := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) { note(r) }))
	defer other.Close()
	tries := 0
	p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		note(r)
		mu.Lock()
		defer mu.Unlock()
		switch tries++; {
		case r.URL.Path == "/elsewhere":
			nethttp.Redirect(w, r, other.URL+"/there", nethttp.StatusTemporaryRedirect)
		case tries < 2:
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(429)
		default:
			w.WriteHeader(403)
			io.WriteString(w, "not "+r.Header.Get("X-Sig")+", and not "+r.URL.RawQuery)
		}
	}))
	defer p.Close()
	l := http.New(http.Config{Name: "shore", Base: p.URL + "/base", Timeout: 5 * time.Second, ConnectTimeout: time.Second, Retries: 3,
		Backlog: 10, Connections: 4, Redirects: true, BackOff: [2]time.Duration{time.Millisecond, 5 * time.Millisecond}})
	defer l.Close()
	s := &linktest.Sink{}
	c := l.Connect(link.Identity{}, s)
	defer c.Close(true)
	signer := &counted{}
	send := func(seq uint64, method, path, body string) {
		c.Send(&link.Message{Seq: seq, Count: 1, Target: path, Body: []byte(body), HTTP: link.HTTP{Method: method, Signer: signer, OKStatus: []int{200}}})
	}
	send(1, "PUT", "/a%2Fb?x=1", "abc")
	s.Has(t, "1 refused 403 status 403 Forbidden: “not «secret», and not x=1&s%26g=«secret»”; sent 2 times")
	const first = " of PUT /base/a%2Fb?x=1 abc"
	assert.Equal(t, []string{"PUT /base/a/b signature-1" + first + "|signature-1" + first + "|abc",
		"PUT /base/a/b signature-2" + first + "|signature-2" + first + "|abc"}, seen)
	l2 := http.New(http.Config{Name: "shore", Base: p.URL, Timeout: 5 * time.Second, ConnectTimeout: time.Second, Backlog: 10, Connections: 4,
		Redirects: true})
	defer l2.Close()
	c2 := l2.Connect(link.Identity{}, s)
	defer c2.Close(true)
	c2.Send(&link.Message{Seq: 2, Count: 1, Target: "/elsewhere", Body: []byte("abc"), HTTP: link.HTTP{Method: "POST", Signer: signer, OKStatus: []int{200}}})
	s.Has(t, "2 accepted 200 ")
	assert.Equal(t, "POST /there ||abc", seen[len(seen)-1], "the redirected one")
	signer.n = 8
	send(3, "GET", "/in", "")
	s.Has(t, "3 unsent 0 the request could not be made: key: there is none")
}

// A request without a body says so, whatever its method; it is not sent in chunks.
func TestNoBody(t *testing.T) {
	got := make(chan string, 1)
	p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		got <- fmt.Sprint(r.ContentLength, r.TransferEncoding, r.Header["Content-Length"], r.Header.Get("Idempotency-Key"))
	}))
	defer p.Close()
	l := http.New(http.Config{Name: "shore", Base: p.URL, Timeout: 5 * time.Second, ConnectTimeout: time.Second, Backlog: 10, Connections: 4,
		RetryKey: "Idempotency-Key"})
	defer l.Close()
	s := &linktest.Sink{}
	c := l.Connect(link.Identity{}, s)
	defer c.Close(true)
	for i, method := range []string{"GET", "DELETE", "POST", "PUT", "PATCH"} {
		want := "0 [] []k-1"
		if i > 1 { // those usually have one
			want = "0 [] [0]k-1"
		}
		c.Send(&link.Message{Seq: uint64(i + 1), Count: 1, Target: "/in", HTTP: link.HTTP{Method: method, OKStatus: []int{200}, Key: "k-1"}})
		assert.Equal(t, want, <-got, method)
	}
}

// What acknowledges may be said by the body, the headers and how many messages the request carried.
func TestWhatAcknowledges(t *testing.T) {
	for name, c := range map[string]struct {
		accept, body, header string
		count                int
		want                 string
	}{
		"all of a batch":         {".stored == $sent", `{"stored":3}`, "", 3, "accepted 202 "},
		"a part of it":           {".stored == $sent", `{"stored":2}`, "", 3, "refused 202 status 202 Accepted, but accept_if: .stored == $sent gives false, not true: “{\"stored\":2}”"},
		"one":                    {".stored == $sent", `{"stored":1}`, "", 0, "accepted 202 "},
		"a header, no body":      {`$headers["x-kept"] == "1"`, "", "1", 1, "accepted 202 "},
		"another, no body":       {`$headers["x-kept"] == "1"`, "", "0", 1, `refused 202 status 202 Accepted, but accept_if: $headers["x-kept"] == "1" gives false, not true`},
		"no header":              {`$headers["x-other"] == "1"`, "", "1", 1, `refused 202 status 202 Accepted, but accept_if: $headers["x-other"] == "1" gives false, not true`},
		"a status":               {"$status == 202", "{}", "", 1, "accepted 202 "},
		"no body, where one is":  {".stored == $sent", "", "", 1, "refused 202 status 202 Accepted, but it has no body"},
		"no body, and no error":  {".error == null", "", "", 1, "refused 202 status 202 Accepted, but it has no body"},
		"a header and no error":  {`$headers["x-kept"] == "1" and .error == null`, "", "1", 1, "refused 202 status 202 Accepted, but accept_if: $headers[\"x-kept\"] == \"1\" and .error == null fails on it ($headers[\"x-kept\"] == \"1\" and .error == null: expected an object but got: string (\"\"))"},
		"no JSON":                {".stored == $sent", "<p>", "", 1, "refused 202 status 202 Accepted, but its body is not JSON: “<p>”"},
		"a list, where it fails": {".stored == $sent", "[1]", "", 1, "refused 202 status 202 Accepted, but accept_if: .stored == $sent fails on it (.stored == $sent: expected an object but got: array ([1])): “[1]”"},
	} {
		t.Run(name, func(t *testing.T) {
			p := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
				if c.header != "" {
					w.Header().Set("X-Kept", c.header)
				}
				w.WriteHeader(202)
				io.WriteString(w, c.body)
			}))
			defer p.Close()
			q, err := jq.Parse(c.accept, crowd.AnswerVariables...)
			require.NoError(t, err)
			l := http.New(http.Config{Name: "shore", Base: p.URL, Timeout: 5 * time.Second, ConnectTimeout: time.Second, Backlog: 10, Connections: 4, Answer: q})
			defer l.Close()
			s := &linktest.Sink{}
			conn := l.Connect(link.Identity{}, s)
			defer conn.Close(true)
			conn.Send(&link.Message{Seq: 3, Count: c.count, Target: "/in", Body: []byte("abc"), HTTP: link.HTTP{Method: "POST", OKStatus: []int{202}}})
			s.Has(t, "3 "+c.want)
		})
	}
}
