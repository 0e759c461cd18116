package http_test

import (
	"context"
	"fmt"
	"io"
	"net"
	nethttp "net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/link"
	"runcrowd/internal/link/http"
	"runcrowd/internal/link/linktest"
)

func connect(t *testing.T, base string, change func(*http.Config)) (link.Conn, *linktest.Sink) {
	cfg := http.Config{Name: "shore", Base: base, Timeout: 5 * time.Second, ConnectTimeout: time.Second, Backlog: 10,
		Connections: 4,
		BackOff:     [2]time.Duration{time.Millisecond, 5 * time.Millisecond}}
	if change != nil {
		change(&cfg)
	}
	l, s := http.New(cfg), &linktest.Sink{}
	c := l.Connect(link.Identity{Name: "gauge"}, s)
	t.Cleanup(func() { c.Close(true); l.Close() })
	return c, s
}

// sendings is how often any message was sent.
func sendings(s *linktest.Sink) (n int) {
	for _, k := range s.Sendings() {
		n += k
	}
	return n
}

func message(seq uint64) *link.Message {
	return &link.Message{Seq: seq, Target: fmt.Sprint("/in/", seq), Body: []byte("{}"), ContentType: "application/json",
		Mark: link.Header{Name: "X-Mark", Value: fmt.Sprint("m", seq)},
		HTTP: link.HTTP{Method: "POST", OKStatus: []int{200, 202},
			Headers: []link.Header{{Name: "Authorization", Value: "Bearer t"}, {Name: "Host", Value: "harbour.example"}}}}
}

func TestAnswersAreMatched(t *testing.T) {
	var mu sync.Mutex
	var order []string
	srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		order = append(order, fmt.Sprint(r.Method, r.URL.Path, r.Header.Get("X-Mark"), r.Header.Get("Authorization"), r.Host,
			r.Header.Get("Content-Type"), string(body)))
		mu.Unlock()
		switch r.URL.Path {
		case "/in/2":
			w.WriteHeader(422)
			fmt.Fprint(w, "the value\nis not  plausible")
		case "/in/3":
			nethttp.Redirect(w, r, "/elsewhere", nethttp.StatusFound)
		case "/in/4":
			panic(nethttp.ErrAbortHandler)
		default:
			w.WriteHeader(202)
		}
	}))
	defer srv.Close()
	c, s := connect(t, srv.URL, nil)
	for i := uint64(1); i <= 5; i++ {
		c.Send(message(i))
	}
	s.Has(t, "1 accepted 202 ")
	s.Has(t, "2 refused 422 status 422 Unprocessable Entity: “the value is not plausible”")
	s.Has(t, "5 accepted 202 ")
	all := strings.Join(s.All(), "\n")
	assert.Contains(t, all, "3 refused 302 status 302 Found", "a redirect is told, not followed")
	assert.Contains(t, all, "4 no answer 0 the platform closed the connection")
	mu.Lock()
	defer mu.Unlock()
	require.Len(t, order, 5, "one request a message, whatever the answer: %v", order)
	for i, line := range order {
		assert.Equal(t, fmt.Sprintf("POST/in/%dm%dBearer tharbour.exampleapplication/json{}", i+1, i+1), line)
	}
}

// Half an answer is none; half a no is a no.
func TestAnswerCutOff(t *testing.T) {
	srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		w.Header().Set("Content-Length", "100")
		w.WriteHeader(map[string]int{"/in/1": 200, "/in/2": 503}[r.URL.Path])
		fmt.Fprint(w, `{"kept":`)
	}))
	defer srv.Close()
	c, s := connect(t, srv.URL, nil)
	c.Send(message(1))
	c.Send(message(2))
	s.Has(t, "1 no answer 0 the answer, status 200, was cut off: the platform closed the connection")
	s.Has(t, `2 refused 503 status 503 Service Unavailable: “{"kept":”`)
}

// A platform that is not there yet: nothing left, so it is tried again.
func TestTriedAgainUntilThePlatformIsThere(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	l.Close()
	c, s := connect(t, "http://"+addr, nil)
	c.Send(message(1))
	s.Has(t, "down the connection was refused: nothing listens there")
	l, err = net.Listen("tcp", addr)
	require.NoError(t, err)
	srv := &httptest.Server{Listener: l, Config: &nethttp.Server{Handler: nethttp.HandlerFunc(
		func(w nethttp.ResponseWriter, _ *nethttp.Request) {})}}
	srv.Start()
	defer srv.Close()
	s.Has(t, "1 accepted 200 ")
	assert.Equal(t, 1, sendings(s), "what never left was not sent")
	assert.Equal(t, []string{"up", "down the connection was refused: nothing listens there"}, s.All()[:2])
}

func TestTimeoutAndClose(t *testing.T) {
	quit := make(chan struct{})
	srv := httptest.NewServer(nethttp.HandlerFunc(func(_ nethttp.ResponseWriter, r *nethttp.Request) {
		io.Copy(io.Discard, r.Body)
		select {
		case <-quit:
		case <-r.Context().Done():
		}
	}))
	defer srv.Close()
	defer close(quit)
	c, s := connect(t, srv.URL, func(cfg *http.Config) { cfg.Timeout = 100 * time.Millisecond })
	c.Send(message(1))
	s.Has(t, "1 no answer 0 no answer within 100ms")
	assert.Equal(t, 1, sendings(s), "a request that may have arrived is not made again")

	c, s = connect(t, srv.URL, func(cfg *http.Config) { cfg.Backlog = 2 })
	for i := uint64(1); i <= 3; i++ {
		c.Send(message(i))
	}
	s.Has(t, "3 unsent 0 the backlog of the device was full (2 messages)")
	require.Eventually(t, func() bool { return sendings(s) == 1 }, 5*time.Second, time.Millisecond)
	c.Close(true)
	s.Has(t, "1 no answer 0 no answer before its connection was closed")
	s.Has(t, "2 unsent 0 still waiting for the requests before it when its connection was closed")
	c.Send(message(4))
	s.Has(t, "4 unsent 0 the device had left")
}

func TestTry(t *testing.T) {
	l := http.New(http.Config{Name: "shore", Base: "http://127.0.0.1:1", ConnectTimeout: time.Second, Connections: 1})
	err := l.Try(context.Background(), link.Identity{})
	var reach *link.ReachError
	require.ErrorAs(t, err, &reach)
	assert.Equal(t, `the link "shore" (http://127.0.0.1:1): the connection was refused: nothing listens there; check host and port 1, and that the platform is up`, err.Error())
}

// A platform that asks to come back later is obeyed, as often as the link allows.
func TestRetryAfter(t *testing.T) {
	var mu sync.Mutex
	times := map[string][]time.Time{}
	srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		mu.Lock()
		defer mu.Unlock()
		times[r.URL.Path] = append(times[r.URL.Path], time.Now())
		switch n := len(times[r.URL.Path]); {
		case r.URL.Path == "/in/1" && n == 1:
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(429)
		case r.URL.Path == "/in/2" && n <= 2:
			w.Header().Set("Retry-After", time.Now().Add(-time.Hour).UTC().Format(nethttp.TimeFormat))
			w.WriteHeader(503)
		case r.URL.Path == "/in/3":
			w.WriteHeader(429) // it does not say when
		case r.URL.Path == "/in/4":
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(503)
		default:
			w.WriteHeader(200)
		}
	}))
	defer srv.Close()
	c, s := connect(t, srv.URL, func(cfg *http.Config) { cfg.Retries = 2 })
	for seq := uint64(1); seq <= 5; seq++ {
		c.Send(message(seq))
	}
	s.Has(t, "5 accepted 200 ")
	assert.Equal(t, []string{"up", "1 accepted 200 ", "2 accepted 200 ", "3 refused 429 status 429 Too Many Requests",
		"4 refused 503 status 503 Service Unavailable; sent 3 times", "5 accepted 200 "}, s.All(),
		"in order: later messages wait")
	assert.GreaterOrEqual(t, times["/in/1"][1].Sub(times["/in/1"][0]), 990*time.Millisecond)
	assert.Len(t, times["/in/3"], 1)
	assert.Equal(t, 2+3+1+3+1, sendings(s), "every attempt is told")
}

// A request without an answer is sent again only where it carries a key.
func TestRetryKey(t *testing.T) {
	for _, key := range []string{"", "Idempotency-Key"} {
		var mu sync.Mutex
		var keys []string
		srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
			mu.Lock()
			keys = append(keys, r.Header.Get("Idempotency-Key"))
			first := len(keys) == 1
			mu.Unlock()
			if first {
				panic(nethttp.ErrAbortHandler)
			}
			w.WriteHeader(202)
		}))
		c, s := connect(t, srv.URL, func(cfg *http.Config) { cfg.Retries, cfg.RetryKey = 3, key })
		m := message(1)
		m.HTTP.Key = "run/gauge/level/1"
		c.Send(m)
		if key == "" {
			s.Has(t, "1 no answer 0 the platform closed the connection")
		} else {
			s.Has(t, "1 accepted 202 ")
			mu.Lock()
			assert.Equal(t, []string{m.HTTP.Key, m.HTTP.Key}, keys)
			mu.Unlock()
		}
		srv.Close()
	}
}
