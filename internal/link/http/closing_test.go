package http_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	nethttp "net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
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

// closer is a server that answers the first request of each connection, and does to the
// second what a test says.
func closer(t *testing.T, second func(nc net.Conn, r *bufio.Reader)) (address string, came func() []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var list []string
	go func() {
		for {
			nc, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer nc.Close()
				r := bufio.NewReader(nc)
				for n := 1; ; n++ {
					if n == 2 {
						second(nc, r)
						return
					}
					req, err := nethttp.ReadRequest(r)
					if err != nil {
						return
					}
					io.Copy(io.Discard, req.Body)
					mu.Lock()
					list = append(list, req.URL.Path)
					mu.Unlock()
					fmt.Fprint(nc, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
				}
			}()
		}
	}()
	return l.Addr().String(), func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), list...)
	}
}

// A request that died on a connection which the platform was closing was never taken: it
// is sent once more, on a new connection, and the attempt counts.
func TestAClosingConnection(t *testing.T) {
	for _, method := range []string{"POST", "GET"} {
		var sent atomic.Bool
		address, came := closer(t, func(nc net.Conn, _ *bufio.Reader) {
			for !sent.Load() {
				time.Sleep(time.Millisecond)
			}
			time.Sleep(20 * time.Millisecond) // the request is in the kernel, and nobody reads it
		})
		c, s := connect(t, "http://"+address, nil)
		send := func(seq uint64) {
			m := message(seq)
			m.HTTP.Method = method
			c.Send(m)
		}
		send(1)
		s.Has(t, "1 accepted 200 ")
		send(2)
		require.Eventually(t, func() bool { return s.Sendings()[2] > 0 }, 5*time.Second, time.Millisecond)
		sent.Store(true)
		s.Has(t, "2 accepted 200 ")
		assert.Equal(t, map[uint64]int{1: 1, 2: 2}, s.Sendings())
		assert.Equal(t, 1, s.Count("2 anew"))
		assert.Equal(t, []string{"/in/1", "/in/2"}, came())
	}
}

// One that was read before the connection was closed may have been taken: it is not sent
// again, whatever its method; not even with a key that the client library knows.
func TestNothingIsRepeatedBehindOurBack(t *testing.T) {
	for _, method := range []string{"POST", "GET", "PUT"} {
		address, came := closer(t, func(_ net.Conn, r *bufio.Reader) {
			if req, err := nethttp.ReadRequest(r); err == nil {
				io.Copy(io.Discard, req.Body)
			}
		})
		c, s := connect(t, "http://"+address, nil)
		for seq := uint64(1); seq <= 2; seq++ {
			m := message(seq)
			m.HTTP.Method = method
			m.HTTP.Headers = append(m.HTTP.Headers, link.Header{Name: "Idempotency-Key", Value: "k"})
			c.Send(m)
		}
		s.Has(t, "1 accepted 200 ")
		s.Has(t, "2 no answer 0 the platform closed the connection")
		assert.Equal(t, map[uint64]int{1: 1, 2: 1}, s.Sendings())
		assert.Equal(t, []string{"/in/1"}, came())
	}
}

// A server whose keep-alive ends all the time stores what it accepted, once, over both versions; what
// has no answer is told.
func TestShortKeepAlive(t *testing.T) {
	for _, over := range []string{"HTTP/1.1", "HTTP/1.1 over TLS", "HTTP/2", "HTTP/2 over TLS"} {
		t.Run(over, func(t *testing.T) {
			var mu sync.Mutex
			came := map[string]int{}
			srv := httptest.NewUnstartedServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
				io.Copy(io.Discard, r.Body)
				mu.Lock()
				came[r.URL.Path]++
				mu.Unlock()
			}))
			srv.Config.IdleTimeout = 3 * time.Millisecond
			version := 1
			if strings.HasPrefix(over, "HTTP/2") {
				version, srv.EnableHTTP2 = 2, true
				srv.Config.Protocols = new(nethttp.Protocols)
				srv.Config.Protocols.SetUnencryptedHTTP2(true)
				srv.Config.Protocols.SetHTTP2(true)
			}
			if strings.HasSuffix(over, "TLS") {
				srv.StartTLS()
			} else {
				srv.Start()
			}
			t.Cleanup(srv.Close)
			c, s := connect(t, srv.URL,
				func(cfg *http.Config) { cfg.Backlog, cfg.Version, cfg.TLS = 1000, version, &link.TLS{NoVerify: true} })
			const n = 300
			for i := uint64(1); i <= n; i++ {
				c.Send(message(i))
				time.Sleep(3 * time.Millisecond)
			}
			require.Eventually(t, func() bool { return c.Open() == 0 }, 10*time.Second, time.Millisecond)
			mu.Lock()
			defer mu.Unlock()
			answered := 0
			for i := 1; i <= n; i++ {
				// A server may read a part of a message and close: it may have been taken, and is not sent again.
				accepted := s.Count(fmt.Sprintf("%d accepted 200 ", i))
				without := s.Count(fmt.Sprintf("%d no answer 0 the platform closed the connection", i))
				require.Equal(t, 1, accepted+without, "%d: %v", i, s.All())
				require.LessOrEqual(t, came[fmt.Sprint("/in/", i)], 1, "%d is stored once", i)
				require.GreaterOrEqual(t, came[fmt.Sprint("/in/", i)], accepted, "%d is stored", i)
				answered += accepted
			}
			assert.Greater(t, answered, n/2)
		})
	}
}

// What the file says of an answer's body decides, beside its status.
func TestAnswerBodies(t *testing.T) {
	bodies := map[string]string{"/in/1": `{"kept": 1}`, "/in/2": `{"kept": 0, "why": "the disk is full"}`,
		"/in/3": "fine", "/in/4": `{}`, "/in/5": `{"kept": "x"}`,
		"/in/6": `{"kept": 1, "kept": 0}`, "/in/7": `{"pad":"` + strings.Repeat("x", 100_000) + `","kept": 1}`}
	srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		io.WriteString(w,
			bodies[r.URL.Path])
	}))
	defer srv.Close()
	q, err := jq.Parse(".kept == 1", crowd.AnswerVariables...)
	require.NoError(t, err)
	c, s := connect(t, srv.URL, func(cfg *http.Config) { cfg.Answer = q })
	for i := uint64(1); i <= 7; i++ {
		c.Send(message(i))
	}
	s.Has(t, "1 accepted 200 ")
	s.Has(t, `2 refused 200 status 200 OK, but accept_if: .kept == 1 gives false, not true: “{"kept": 0, "why": "the disk is full"}”`)
	s.Has(t, "3 refused 200 status 200 OK, but its body is not JSON: “fine”")
	s.Has(t, "4 refused 200 status 200 OK, but accept_if: .kept == 1 gives false, not true: “{}”")
	s.Has(t, `5 refused 200 status 200 OK, but accept_if: .kept == 1 gives false, not true: “{"kept": "x"}”`)
	s.Has(t, `6 refused 200 status 200 OK, but its body is not JSON: “{"kept": 1, "kept": 0}”`)
	require.Eventually(t, func() bool { return c.Open() == 0 }, 5*time.Second, time.Millisecond)
	assert.Contains(t, s.All()[len(s.All())-1], "7 refused 200 status 200 OK, but its body is longer than 64 kB")
}

// A redirect is told with where it goes. Where the file says so it is followed, with method
// and body; what is meant for the platform alone does not go to another host.
func TestRedirects(t *testing.T) {
	type seen struct{ path, method, body, authorization, key, mark, kind string }
	var mu sync.Mutex
	var at []seen
	other := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		b, _ := io.ReadAll(r.Body)
		mu.Lock()
		at = append(at, seen{r.URL.Path, r.Method, string(b), r.Header.Get("Authorization"), r.Header.Get("X-Key"),
			r.Header.Get("X-Mark"), r.Header.Get("Content-Type")})
		mu.Unlock()
	}))
	defer other.Close()
	srv := httptest.NewServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		b, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/in/1":
			nethttp.Redirect(w, r, other.URL+"/there", nethttp.StatusTemporaryRedirect)
		case "/in/2":
			nethttp.Redirect(w, r, "/here", nethttp.StatusMovedPermanently)
		case "/in/3", "/round":
			nethttp.Redirect(w, r, "/round", nethttp.StatusFound)
		case "/in/4":
			nethttp.Redirect(w, r, "/result", nethttp.StatusSeeOther)
		default:
			mu.Lock()
			at = append(at, seen{r.URL.Path, r.Method, string(b), r.Header.Get("Authorization"), r.Header.Get("X-Key"),
				r.Header.Get("X-Mark"), r.Header.Get("Content-Type")})
			mu.Unlock()
		}
	}))
	defer srv.Close()
	send := func(c link.Conn) {
		for i := uint64(1); i <= 4; i++ {
			m := message(i)
			m.HTTP.Headers = append(m.HTTP.Headers, link.Header{Name: "X-Key", Value: "secret"})
			c.Send(m)
		}
	}
	c, s := connect(t, srv.URL, nil)
	send(c)
	s.Has(t, "1 refused 307 status 307 Temporary Redirect: it sends on to "+other.URL+"/there")
	s.Has(t, "2 refused 301 status 301 Moved Permanently: it sends on to /here")
	s.Has(t, "4 refused 303 status 303 See Other: it sends on to /result")
	assert.Empty(t, at)

	c, s = connect(t, srv.URL, func(cfg *http.Config) { cfg.Redirects = true })
	send(c)
	s.Has(t, "1 accepted 200 ")
	s.Has(t, "2 accepted 200 ")
	s.Has(t, "3 refused 302 status 302 Found: it sends on to /round, as 5 others before")
	s.Has(t, "4 refused 303 status 303 See Other: it sends on to /result")
	assert.Equal(t, map[uint64]int{1: 1, 2: 1, 3: 1, 4: 1}, s.Sendings())
	assert.Equal(t, []seen{{"/there", "POST", "{}", "", "", "m1", "application/json"},
		{"/here", "POST", "{}", "Bearer t", "secret", "m2", "application/json"}}, at)
}

// The certificate of a device is a credential too: it is not shown to another host.
func TestRedirectsShowNoCertificateElsewhere(t *testing.T) {
	shown := make(chan int, 2)
	other := httptest.NewUnstartedServer(nethttp.HandlerFunc(func(_ nethttp.ResponseWriter,
		r *nethttp.Request) {
		shown <- len(r.TLS.PeerCertificates)
	}))
	other.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	other.StartTLS()
	defer other.Close()
	srv := httptest.NewUnstartedServer(nethttp.HandlerFunc(func(w nethttp.ResponseWriter, r *nethttp.Request) {
		shown <- len(r.TLS.PeerCertificates)
		nethttp.Redirect(w, r, other.URL+"/there", nethttp.StatusPermanentRedirect)
	}))
	srv.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	srv.StartTLS()
	defer srv.Close()
	l, s := http.New(http.Config{Name: "shore", Base: srv.URL, Timeout: 5 * time.Second, ConnectTimeout: time.Second,
		Backlog: 10, Connections: 4, Redirects: true,
		TLS: &link.TLS{NoVerify: true}, BackOff: [2]time.Duration{time.Millisecond, 5 * time.Millisecond}}), &linktest.Sink{}
	c := l.Connect(link.Identity{Name: "gauge", Cert: &srv.TLS.Certificates[0]}, s)
	defer func() { c.Close(true); l.Close() }()
	c.Send(message(1))
	s.Has(t, "1 accepted 200 ")
	assert.Equal(t, []int{1, 0}, []int{<-shown, <-shown})
}

// A server of HTTP/2 that took a request and cut the connection may have stored it: small as
// its packets are, it is not sent again.
func TestACutOfHTTP2(t *testing.T) {
	type key struct{}
	var came atomic.Int32
	srv := httptest.NewUnstartedServer(nethttp.HandlerFunc(func(_ nethttp.ResponseWriter, r *nethttp.Request) {
		io.Copy(io.Discard, r.Body)
		if came.Add(1) == 3 {
			r.Context().Value(key{}).(net.Conn).Close()
		}
	}))
	srv.Config.Protocols = new(nethttp.Protocols)
	srv.Config.Protocols.SetUnencryptedHTTP2(true)
	srv.Config.ConnContext = func(ctx context.Context, nc net.Conn) context.Context {
		return context.WithValue(ctx, key{},
			nc)
	}
	srv.Start()
	defer srv.Close()
	c, s := connect(t, srv.URL, func(cfg *http.Config) { cfg.Version = 2 })
	for i := uint64(1); i <= 4; i++ {
		m := message(1) // the same headers: they take a byte each
		m.Seq = i
		c.Send(m)
	}
	s.Has(t, "4 accepted 200 ")
	assert.Equal(t, map[uint64]int{1: 1, 2: 1, 3: 1, 4: 1}, s.Sendings(), s.All())
	assert.Equal(t, int32(4), came.Load())
}

// What a platform says of a wrong certificate may be thrown away by the reset that follows: the
// message goes out again until its no is heard. A platform that only breaks has not said no.
func TestACertificateThatIsTurnedAway(t *testing.T) {
	own := httptest.NewUnstartedServer(nil)
	own.StartTLS() // for its certificate
	own.Close()
	for name, c := range map[string]struct {
		variant bool
		resets  int32
		want    string
		sent    int
	}{
		"a no behind resets":  {true, 3, "1 refused 403 status 403 Forbidden", 4},
		"resets without end":  {true, 1000, "1 no answer 0 the platform cut the connection", 21},
		"another's own, once": {false, 1000, "1 no answer 0 the platform cut the connection", 1},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			var n atomic.Int32
			go func() {
				for {
					nc, err := l.Accept()
					if err != nil {
						return
					}
					secure := tls.Server(nc, &tls.Config{Certificates: own.TLS.Certificates})
					if _, err := nethttp.ReadRequest(bufio.NewReader(secure)); err == nil && n.Add(1) > c.resets {
						fmt.Fprint(secure, "HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n")
						continue
					}
					nc.(*net.TCPConn).SetLinger(0) // a reset
					nc.Close()
				}
			}()
			conn, s := connect(t, "https://"+l.Addr().String(), func(cfg *http.Config) { cfg.TLS = &link.TLS{NoVerify: true} })
			m := message(1)
			m.Variant = c.variant
			conn.Send(m)
			s.Has(t, c.want)
			assert.Equal(t, c.sent, sendings(s))
		})
	}
}

// A platform that answers before it has read the body leaves the client library sending: what
// it sends then is this message, or nothing, and never what was written over it.
func TestAnAnswerBeforeTheBodyWasRead(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	over, read := make(chan bool), make(chan []byte, 1)
	go func() {
		nc, err := l.Accept()
		if err != nil {
			return
		}
		defer nc.Close()
		nc.(*net.TCPConn).SetReadBuffer(4096)
		b := make([]byte, 1000)
		n, _ := nc.Read(b)
		io.WriteString(nc, "HTTP/1.1 413 Content Too Large\r\nContent-Length: 0\r\n\r\n")
		<-over // the message is settled, and written over
		nc.SetReadDeadline(time.Now().Add(5 * time.Second))
		rest, _ := io.ReadAll(nc)
		read <- append(b[:n], rest...)
	}()
	c, s := connect(t, "http://"+l.Addr().String(), nil)
	m := message(1)
	m.Body = bytes.Repeat([]byte("a"), 32<<20)
	c.Send(m)
	s.Has(t, "1 refused 413 status 413 Request Entity Too Large")
	for i := range m.Body {
		m.Body[i] = 'b'
	}
	close(over)
	assert.NotContains(t, string(<-read), "bbb", "the next message was sent in place of this one")
}

// A message that left once and got no answer may be at the platform: that it could not be sent
// again afterwards does not make it unsent. One that the platform put off was not taken.
func TestATryThatWasNotAnswered(t *testing.T) {
	for name, c := range map[string]struct{ first, want string }{
		"cut":     {"", "1 no answer 0 no answer to an earlier try, and then: "},
		"put off": {"HTTP/1.1 503 Busy\r\nRetry-After: 0\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", "1 unsent 0 "},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			done := make(chan struct{})
			go func() {
				defer close(done)
				nc, err := l.Accept()
				l.Close() // nobody listens any more
				if err != nil {
					return
				}
				defer nc.Close()
				if req, err := nethttp.ReadRequest(bufio.NewReader(nc)); err == nil {
					io.Copy(io.Discard, req.Body)
				}
				io.WriteString(nc, c.first)
			}()
			x := http.New(http.Config{Name: "shore", Base: "http://" + l.Addr().String(), Timeout: time.Minute, ConnectTimeout: time.Minute, Retries: 5,
				RetryKey: "Idempotency-Key", Backlog: 10, Connections: 4, BackOff: [2]time.Duration{time.Millisecond, 5 * time.Millisecond}})
			s := &linktest.Sink{}
			conn := x.Connect(link.Identity{}, s)
			conn.Send(&link.Message{Seq: 1, Count: 1, Target: "/in", Body: []byte("abc"), HTTP: link.HTTP{Method: "POST", OKStatus: []int{200}, Key: "k"}})
			<-done
			s.Has(t, "down the connection was refused: nothing listens there")
			conn.Close(true)
			x.Close()
			all := s.All()
			assert.Contains(t, all[len(all)-1], c.want) // why hangs on where the end finds it
			assert.NotContains(t, all[len(all)-1], "context")
		})
	}
}
