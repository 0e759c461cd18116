// Package http brings messages as HTTP requests, one message a request
// (RFC 9110). A device sends in order, one request at a time; a slow answer
// makes its later messages late, and the ledger shows it.
//
// A request that may have reached the platform is not sent a second time, unless
// it carries a key by which the platform can tell that it is the same one. One that
// surely did not reach it (the connection was refused) is tried again with back-off.
// An answer of 429 or 503 that says when to come back (Retry-After; RFC 9110,
// section 10.2.3, RFC 6585, section 4) is obeyed.
package http

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"runcrowd/internal/clock"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
)

// Config is what the crowd file says of an HTTP link.
type Config struct {
	Name           string
	Base           string    // URL without trailing slash
	TLS            *link.TLS // for https; nil: as usual on this machine
	Retries        int       // how often one message is sent again at most
	RetryKey       string    // header for the mark, by which the platform knows a request again; empty: none
	PerDevice      bool      // every device has a connection of its own
	Version        int       // 1 or 2 (HTTP/2, over TLS as agreed, else with prior knowledge); 0 is 1
	Timeout        time.Duration
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration
	Backlog        int
	Connections    int
	Network        link.Network
}

// maxAnswer is how much of an answer's body is read, in bytes.
const maxAnswer = 64 << 10

// Link is an HTTP platform.
type Link struct {
	cfg    Config
	client *http.Client
	slots  *semaphore.Weighted
	wg     sync.WaitGroup
}

// New makes a link; nothing is connected yet.
func New(cfg Config) *Link {
	return &Link{cfg: cfg, slots: semaphore.NewWeighted(int64(cfg.Connections)), client: newClient(&cfg, nil)}
}

// newClient makes the client of all devices, or of one with a certificate.
func newClient(cfg *Config, cert *tls.Certificate) *http.Client {
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, cfg.ConnectTimeout)
		defer cancel()
		return cfg.Network.Dial(ctx, network, address)
	}
	t := &http.Transport{
		Proxy:               http.ProxyFromEnvironment,
		DialContext:         dial,
		TLSHandshakeTimeout: cfg.ConnectTimeout,
		MaxConnsPerHost:     cfg.Connections,
		MaxIdleConnsPerHost: cfg.Connections,
		IdleConnTimeout:     90 * time.Second,
		DisableCompression:  true,
		Protocols:           new(http.Protocols),
	}
	if cfg.Version == 2 {
		t.Protocols.SetHTTP2(true)
		t.Protocols.SetUnencryptedHTTP2(true) // prior knowledge (RFC 9113, section 3.3)
	} else {
		t.Protocols.SetHTTP1(true)
	}
	if cfg.TLS != nil {
		host := ""
		if u, err := url.Parse(cfg.Base); err == nil {
			host = u.Hostname()
		}
		t.TLSClientConfig = cfg.TLS.Config(host, cert)
	} else if cert != nil {
		t.TLSClientConfig = (&link.TLS{}).Config("", cert)
	}
	return &http.Client{Transport: t,
		// A redirect of a message is an answer to be told, not to be followed.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// Try opens a connection. No request is made: there is none that every
// platform would take without harm.
func (l *Link) Try(ctx context.Context, id link.Identity) error {
	u, err := url.Parse(l.cfg.Base)
	if err != nil {
		return err
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	address := net.JoinHostPort(u.Hostname(), port)
	if p, _ := http.ProxyFromEnvironment(&http.Request{URL: u}); p != nil {
		address = p.Host
	}
	dialing, cancel := context.WithTimeout(ctx, l.cfg.ConnectTimeout)
	defer cancel()
	nc, err := l.cfg.Network.Dial(dialing, "tcp", address)
	if err == nil && u.Scheme == "https" && address == net.JoinHostPort(u.Hostname(), port) {
		t := l.cfg.TLS
		if t == nil {
			t = &link.TLS{}
		}
		c := tls.Client(nc, t.Config(u.Hostname(), id.Cert))
		ctx, cancel := context.WithTimeout(ctx, l.cfg.ConnectTimeout)
		defer cancel()
		err = c.HandshakeContext(ctx)
		if err != nil {
			nc.Close()
		}
	}
	if err != nil {
		e := &link.ReachError{Link: l.cfg.Name, Address: l.cfg.Base, Err: err}
		e.What, e.Try = link.Explain(err, address)
		return e
	}
	nc.Close()
	if _, _, err := link.TokenOf(ctx, id.Tokens); err != nil {
		e := &link.ReachError{Link: l.cfg.Name, Address: l.cfg.Base, Err: err}
		e.What, e.Try = link.Explain(err, address)
		return e
	}
	return nil
}

// Connect makes a device.
func (l *Link) Connect(id link.Identity, sink link.Sink) link.Conn {
	ctx, cancel := context.WithCancel(context.Background())
	sink.Up(id.Device, false)
	c := &Conn{link: l, id: id, sink: sink, ctx: ctx, cancel: cancel, client: l.client, asks: make([]asked, len(id.Asks))}
	if id.Cert != nil || l.cfg.PerDevice {
		c.client = newClient(&l.cfg, id.Cert)
	}
	return c
}

// Close waits for all requests to end.
func (l *Link) Close() {
	l.wg.Wait()
	l.client.CloseIdleConnections()
}

// Conn is one device.
type Conn struct {
	link   *Link
	id     link.Identity
	sink   link.Sink
	ctx    context.Context
	cancel context.CancelFunc
	client *http.Client

	mu      sync.Mutex
	closed  bool
	busy    bool // a goroutine works off waiting
	down    bool
	waiting []*link.Message
	token   string  // the last one
	asks    []asked // of the identity's Asks
}

// asked is how far the asking for commands at a path is.
type asked struct {
	next time.Time // when it is due
	busy bool
	told bool   // that the platform answers, or does not
	why  string // it does not
}

// Send takes a message over.
func (c *Conn) Send(m *link.Message) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.closed:
		c.sink.Settled(m, clock.Nano(), outcome.Unsent, 0, "the device had left")
	case len(c.waiting) >= c.link.cfg.Backlog:
		c.sink.Settled(m, clock.Nano(), outcome.Unsent, 0, fmt.Sprintf("the backlog of the device was full (%d messages)", c.link.cfg.Backlog))
	default:
		c.waiting = append(c.waiting, m)
		if !c.busy {
			c.busy = true
			c.link.wg.Add(1)
			go c.work()
		}
	}
}

// work sends what waits and ends when nothing does.
func (c *Conn) work() {
	defer c.link.wg.Done()
	for try, sent := 0, 0; ; {
		c.mu.Lock()
		if len(c.waiting) == 0 {
			c.busy = false
			c.mu.Unlock()
			return
		}
		m := c.waiting[0]
		c.mu.Unlock()

		if c.link.slots.Acquire(c.ctx, 1) != nil {
			c.finish(outcome.Unsent, 0, "timed out waiting for a free request slot: the round was over")
			continue
		}
		a := c.request(m)
		c.link.slots.Release(1)
		if a.after > 0 && sent < c.link.cfg.Retries && c.ctx.Err() == nil {
			sent++
			select {
			case <-c.ctx.Done():
				c.finish(a.outcome, a.code, a.text+"; the round ended before it could be sent again")
				sent = 0
			case <-time.After(a.after):
			}
			continue
		}
		if sent > 0 && a.outcome != outcome.Accepted {
			a.text += fmt.Sprintf("; sent %d times", sent+1)
		}
		if a.unsent {
			c.lost(a.text)
			select {
			case <-c.ctx.Done():
				c.finish(outcome.Unsent, 0, a.text)
			case <-time.After(link.BackOff(c.link.cfg.BackOff[0], c.link.cfg.BackOff[1], try)):
			}
			try++
			continue
		}
		try, sent = 0, 0
		c.finish(a.outcome, a.code, a.text)
	}
}

// finish settles the message in front.
func (c *Conn) finish(o outcome.Outcome, code int, text string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.waiting[0]
	c.waiting[0] = nil
	c.waiting = c.waiting[1:]
	c.sink.Settled(m, clock.Nano(), o, code, text)
	if o == outcome.Accepted || o == outcome.Refused {
		if c.down {
			c.down = false
			c.sink.Up(c.id.Device, false)
		}
	}
}

func (c *Conn) lost(why string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.down {
		c.down = true
		c.sink.Down(c.id.Device, why)
	}
}

// answer is what came of one request.
type answer struct {
	outcome outcome.Outcome
	code    int           // status; 0: none came
	text    string        // what the platform said, or what went wrong
	unsent  bool          // it surely did not leave, and will be tried again
	after   time.Duration // if above zero: it may be sent again when so much time has passed
}

// request sends one message.
func (c *Conn) request(m *link.Message) (a answer) {
	ctx, cancel := context.WithTimeout(c.ctx, c.link.cfg.Timeout)
	defer cancel()
	left := false
	trace := &httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) {
		left = true
		c.sink.Sent(m, clock.Nano())
	}}
	// The client library itself sends such a request again only when it wrote
	// nothing of it to a connection that had gone stale (net/http, Transport).
	token, err := c.freshToken(ctx)
	if err != nil {
		return answer{outcome: outcome.Unsent, text: err.Error(), unsent: c.ctx.Err() == nil}
	}
	defer func() { a.text = link.Hide(a.text, token) }()
	req, err := c.build(httptrace.WithClientTrace(ctx, trace), m.HTTP.Method, m.Target, m.HTTP.Headers, bytes.NewReader(m.Body), token)
	if err != nil {
		return answer{outcome: outcome.Unsent, text: "the request could not be made: " + err.Error()}
	}
	if m.ContentType != "" {
		req.Header.Set("Content-Type", m.ContentType)
	}
	if m.HTTP.Gzip {
		req.Header.Set("Content-Encoding", "gzip")
	}
	if m.Mark.Name != "" {
		req.Header.Set(m.Mark.Name, m.Mark.Value)
	}
	if c.link.cfg.RetryKey != "" {
		req.Header.Set(c.link.cfg.RetryKey, m.HTTP.Key)
	}
	resp, err := c.client.Do(req)
	var body []byte
	var cut string
	if err == nil {
		body, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
		if err == nil {
			_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, maxAnswer))
		}
		resp.Body.Close()
		if err != nil {
			cut = fmt.Sprintf("the answer, status %d, was cut off: ", resp.StatusCode)
		}
		if !slices.Contains(m.HTTP.OKStatus, resp.StatusCode) {
			err = nil // a no is a no, however much of it came
		}
	}
	if err != nil {
		what, _ := link.Explain(err, c.link.cfg.Base)
		if !left {
			return answer{outcome: outcome.Unsent, text: what, unsent: c.ctx.Err() == nil}
		}
		var after time.Duration
		if c.link.cfg.RetryKey != "" && !errors.Is(err, context.Canceled) {
			after = link.BackOff(c.link.cfg.BackOff[0], c.link.cfg.BackOff[1], 0)
		}
		if errors.Is(err, context.Canceled) {
			what = "no answer before the end of the round"
		} else if errors.Is(err, context.DeadlineExceeded) {
			what = fmt.Sprintf("no answer within %s", c.link.cfg.Timeout)
		}
		return answer{outcome: outcome.NoAnswer, text: cut + what, after: after}
	}
	if slices.Contains(m.HTTP.OKStatus, resp.StatusCode) {
		return answer{outcome: outcome.Accepted, code: resp.StatusCode}
	}
	return answer{outcome: outcome.Refused, code: resp.StatusCode, text: "status " + resp.Status + link.Snippet(body), after: link.RetryAfter(resp, time.Now())}
}

// build makes a request of the device.
func (c *Conn) build(ctx context.Context, method, target string, headers []link.Header, body io.Reader, token string) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.link.cfg.Base+link.Fill(target, token), body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "runcrowd")
	for _, h := range headers {
		value := link.Fill(h.Value, token)
		if strings.ContainsAny(value, "\r\n\x00") {
			return nil, fmt.Errorf("the header %s holds a line break", h.Name)
		}
		if strings.EqualFold(h.Name, "Host") {
			req.Host = value
			continue
		}
		req.Header.Set(h.Name, value)
	}
	if c.id.Username != "" && req.Header.Get("Authorization") == "" {
		req.SetBasicAuth(link.Fill(c.id.Username, token), link.Fill(c.id.Password, token)) // RFC 7617
	}
	return req, nil
}

// freshToken is the access token to use now, and tells when it is a new one.
func (c *Conn) freshToken(ctx context.Context) (string, error) {
	if c.id.Tokens == nil {
		return "", nil
	}
	token, _, err := c.id.Tokens.Token(ctx)
	if err != nil {
		return "", err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token != "" && c.token != token {
		c.sink.Up(c.id.Device, true)
	}
	c.token = token
	return token, nil
}

// Tick asks for commands where that is due. HTTP has no keep-alive of its own.
func (c *Conn) Tick(now time.Time) time.Duration {
	if len(c.asks) == 0 {
		return 0
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	wait := time.Hour
	for i := range c.asks {
		a, every := &c.asks[i], c.id.Asks[i].Every
		if !now.Before(a.next) {
			if a.next = a.next.Add(every); !a.next.After(now) {
				a.next = now.Add(every)
			}
			if !a.busy && !c.closed {
				a.busy = true
				c.link.wg.Add(1)
				go c.ask(i)
			}
		}
		wait = min(wait, a.next.Sub(now))
	}
	return max(wait, time.Millisecond)
}

// ask asks once for commands.
func (c *Conn) ask(i int) {
	defer c.link.wg.Done()
	body, why := c.poll(&c.id.Asks[i])
	c.mu.Lock()
	defer c.mu.Unlock()
	a := &c.asks[i]
	a.busy = false
	if c.ctx.Err() != nil {
		return
	}
	if !a.told || a.why != why {
		a.told, a.why = true, why
		c.sink.Listens(c.id.Device, c.id.Asks[i].Path, why)
	}
	if len(body) > 0 {
		c.sink.Came(c.id.Device, &link.Incoming{At: clock.Nano(), Path: c.id.Asks[i].Path, Body: body})
	}
}

// poll makes one such request; why is empty where it was answered.
func (c *Conn) poll(a *link.Ask) (body []byte, why string) {
	ctx, cancel := context.WithTimeout(c.ctx, c.link.cfg.Timeout)
	defer cancel()
	if c.link.slots.Acquire(ctx, 1) != nil {
		return nil, "no turn for it within the time of a request"
	}
	defer c.link.slots.Release(1)
	token, err := c.freshToken(ctx)
	if err != nil {
		return nil, err.Error()
	}
	req, err := c.build(ctx, http.MethodGet, a.Path, a.Headers, nil, token)
	if err != nil {
		return nil, "the request could not be made: " + err.Error()
	}
	resp, err := c.client.Do(req)
	if err != nil {
		what, _ := link.Explain(err, c.link.cfg.Base)
		return nil, link.Hide(what, token)
	}
	defer resp.Body.Close()
	body, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	switch {
	case err != nil:
		what, _ := link.Explain(err, c.link.cfg.Base)
		return nil, link.Hide(what, token)
	case resp.StatusCode == http.StatusNoContent:
		return nil, ""
	case resp.StatusCode != http.StatusOK:
		return nil, link.Hide("status "+resp.Status+link.Snippet(body), token)
	case len(body) > maxAnswer:
		return nil, fmt.Sprintf("the answer is longer than %d kB", maxAnswer>>10)
	}
	return body, ""
}

// Open is how many messages are not settled.
func (c *Conn) Open() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.waiting)
}

// Close ends the request under way; what waits is settled.
func (c *Conn) Close() {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	c.cancel()
	if c.client != c.link.client {
		c.client.CloseIdleConnections()
	}
}
