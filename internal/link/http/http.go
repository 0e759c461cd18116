// Package http brings messages as HTTP requests, one message a request
// (RFC 9110). A device sends in order, one request at a time; a slow answer
// makes its later messages late, and the ledger shows it.
//
// A request that may have reached the platform is not sent a second time, unless
// it carries a key by which the platform can tell that it is the same one. One that
// surely did not reach it (the connection was refused) is tried again with back-off;
// one that died on a connection which the platform was closing (RFC 9112, section 9.5)
// is sent once more at once. Nothing is sent again but here: the client library is kept
// from repeating requests by itself.
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
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/semaphore"

	"runcrowd/internal/clock"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/strictjson"
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
	Answer         *jq.Query // must be true of the answer's body, or it is a refusal; nil: any will do
	Redirects      bool      // go where the platform redirects to
	Redact         func(string) string
	Network        link.Network
}

// maxHops is how often a message follows from address to address.
const maxHops = 5

// maxAnswer is how much of an answer's body is read, in bytes.
const maxAnswer = 64 << 10

// Link is an HTTP platform.
type Link struct {
	cfg    Config
	client *http.Client
	fresh  *http.Client // opens a connection for each request
	other  *http.Client // for hosts that messages are redirected to: shows no certificate
	slots  *semaphore.Weighted
	wg     sync.WaitGroup
}

// New makes a link; nothing is connected yet.
func New(cfg Config) *Link {
	return &Link{cfg: cfg, slots: semaphore.NewWeighted(int64(cfg.Connections)), client: newClient(&cfg, nil, false),
		fresh: newClient(&cfg, nil, true), other: newClient(elsewhere(cfg), nil, true)}
}

// elsewhere is what the file says of another host than the link's.
func elsewhere(cfg Config) *Config {
	cfg.Base, cfg.TLS = "", cfg.TLS.Elsewhere()
	return &cfg
}

// newClient makes the client of all devices, or of one with a certificate; fresh: it
// opens a connection for each request.
func newClient(cfg *Config, cert *tls.Certificate, fresh bool) *http.Client {
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, cfg.ConnectTimeout)
		defer cancel()
		nc, err := cfg.Network.Dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &watched{Conn: nc, secure: strings.HasPrefix(cfg.Base, "https:")}, nil
	}
	t := &http.Transport{
		Proxy:               http.ProxyFromEnvironment,
		DialContext:         dial,
		TLSHandshakeTimeout: cfg.ConnectTimeout,
		MaxConnsPerHost:     cfg.Connections,
		MaxIdleConnsPerHost: cfg.Connections,
		IdleConnTimeout:     90 * time.Second,
		DisableCompression:  true,

		MaxResponseHeaderBytes: link.MaxHeader,
		DisableKeepAlives:      fresh,
		Protocols:              new(http.Protocols),
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
	ctx, cancel := context.WithTimeout(ctx, l.cfg.ConnectTimeout)
	defer cancel()
	address := net.JoinHostPort(u.Hostname(), port)
	nc, err := link.Through(ctx, l.cfg.Network, u, address)
	if err == nil && u.Scheme == "https" {
		t := l.cfg.TLS
		if t == nil {
			t = &link.TLS{}
		}
		err = tls.Client(nc, t.Config(u.Hostname(), id.Cert)).HandshakeContext(ctx)
		if err != nil {
			nc.Close()
		}
	}
	if err == nil {
		nc.Close()
		_, _, err = link.TokenOf(ctx, id.Tokens)
	}
	if err != nil {
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
	c := &Conn{link: l, id: id, sink: sink, ctx: ctx, cancel: cancel, client: l.client, asks: make([]asked, len(id.Asks)),
		wake: make(chan struct{}, 1)}
	if id.Cert != nil || l.cfg.PerDevice || id.Network != nil {
		cfg := l.cfg
		if id.Network != nil {
			cfg.Network = id.Network
		}
		c.client, c.fresh = newClient(&cfg, id.Cert, false), newClient(&cfg, id.Cert, true)
	}
	return c
}

// Close waits for all requests to end. HTTP leaves no sessions.
func (l *Link) Close() (int, time.Duration) {
	l.wg.Wait()
	l.client.CloseIdleConnections()
	return 0, 0
}

// Conn is one device.
type Conn struct {
	link   *Link
	id     link.Identity
	sink   link.Sink
	ctx    context.Context
	cancel context.CancelFunc
	client *http.Client
	wake   chan struct{} // wakes it where it waits to send again
	fresh  *http.Client  // as that of the link, with the device's certificate; nil: that of the link

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
		c.sink.Settled(m, clock.Nano(), outcome.Unsent, 0, fmt.Sprintf("the backlog of the device was full (%d messages)",
			c.link.cfg.Backlog))
	default:
		c.waiting = append(c.waiting, m)
		if !c.busy {
			c.busy = true
			c.link.wg.Add(1)
			go c.work()
		}
	}
}

// maxClosings is how often a message may meet a connection that is just being closed.
const maxClosings = 20

// work sends what waits and ends when nothing does.
func (c *Conn) work() {
	defer c.link.wg.Done()
	cfg := &c.link.cfg
	// Of the message in front: how often it did not leave, how often it was sent again
	// because the platform said so, and whether it was sent again on a new connection.
	try, sent, fresh := 0, 0, false
	open := false // an earlier try of it left, and has no answer: the platform may have it
	finish := func(o outcome.Outcome, code int, text string) {
		if o == outcome.Unsent && open {
			o, text = outcome.NoAnswer, "no answer to an earlier try, and then: "+text
		}
		try, sent, fresh, open = 0, 0, false, false
		c.finish(o, code, text)
	}
	for closings := 0; ; {
		c.mu.Lock()
		if len(c.waiting) == 0 {
			c.busy = false
			c.mu.Unlock()
			return
		}
		m := c.waiting[0]
		c.mu.Unlock()

		if c.link.slots.Acquire(c.ctx, 1) != nil {
			finish(outcome.Unsent, 0, "timed out waiting for a free request slot: the round was over")
			continue
		}
		a := c.request(m, fresh)
		c.link.slots.Release(1)
		switch {
		case a.untaken && a.sure && closings < maxClosings && c.ctx.Err() == nil:
			closings++
			continue
		case a.untaken && !a.sure && !fresh && c.ctx.Err() == nil:
			fresh, open = true, true
			continue
		case a.after > 0 && sent < cfg.Retries && c.ctx.Err() == nil:
			sent++
			open = open || a.outcome == outcome.NoAnswer
			select {
			case <-c.ctx.Done():
				finish(a.outcome, a.code, a.text+"; the round ended before it could be sent again")
			case <-time.After(a.after):
			}
			continue
		case a.unsent:
			c.lost(a.text)
			select {
			case <-c.ctx.Done():
				finish(outcome.Unsent, 0, a.text)
				closings = 0
				continue
			case <-c.wake:
				try = -1
			case <-time.After(link.BackOff(cfg.BackOff[0], cfg.BackOff[1], try)):
			}
			try++
			continue
		}
		if times := sent + 1; a.outcome != outcome.Accepted && (sent > 0 || fresh) {
			if fresh {
				times++
			}
			a.text += fmt.Sprintf("; sent %d times", times)
		}
		closings = 0
		finish(a.outcome, a.code, a.text)
	}
}

// Wake makes it try again at once, where it waits to.
func (c *Conn) Wake() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Lost does nothing: a request on a connection that is gone is sent again or settled.
func (c *Conn) Lost() {}

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
		c.sink.Down(c.id.Device, link.Loss{Why: why, Early: true})
	}
}

// answer is what came of one request.
type answer struct {
	outcome outcome.Outcome
	code    int           // status; 0: none came
	text    string        // what the platform said, or what went wrong
	unsent  bool          // it surely did not leave, and will be tried again
	untaken bool          // it left on a connection that the platform was closing
	sure    bool          // and nothing of it was taken
	after   time.Duration // if above zero: it may be sent again when so much time has passed
}

// exchange is one request on its way.
type exchange struct {
	conn   *watched // that it went out on; nil: none
	reused bool
	left   bool
	wrote  int64 // by conn before it
	begun  bool  // its answer has
}

// untaken tells whether a request that got no answer was never taken: it went out on a
// connection that had served others, and the platform was closing it just then. That is
// sure where nothing of it was written, or where the platform says so; it is as good as
// sure where the platform's kernel threw it away (reset).
func (t *exchange) untaken(err error) (is, sure bool) {
	// HTTP/2: it was not processed (RFC 9113, section 8.7), and the client library would
	// repeat it, if it could have the body again.
	if errors.Is(err, errAgain) {
		return true, true
	}
	if unmet(err) {
		return true, false
	}
	if t.conn == nil || !t.reused || t.begun {
		return false, false
	}
	if !t.conn.wrote(t.wrote) {
		return true, true
	}
	return t.conn.reset.Load(), false
}

// unmet tells whether an HTTP/2 connection was closed before the server's first frame, which
// comes before any answer (RFC 9113, section 3.4). The library has no other way to say so:
// where its words change, such a request counts as one without an answer.
func unmet(err error) bool {
	return strings.Contains(err.Error(), "client conn could not be established")
}

// turnedAway tells whether the platform cut a connection over TLS before it said anything on
// it: what it said of a certificate may be thrown away with that (a reset). It may also have
// broken.
func (t *exchange) turnedAway(err error) bool {
	if t.begun || t.conn == nil || !t.conn.secure || t.conn.served.Load() {
		return false
	}
	return errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || unmet(err)
}

// request sends one message; anew: it was sent before, and the platform may store it once
// more.
func (c *Conn) request(m *link.Message, anew bool) (a answer) {
	ctx, cancel := clock.WithTimeout(c.ctx, c.link.cfg.Timeout)
	defer cancel()
	var t exchange
	told, repeat, renewed := false, anew, false
	var writing atomic.Int32 // requests that the client library has not done with
	defer func() {
		// It may go on sending after it handed over the answer, from a goroutine of its own:
		// what carries the message cannot carry the next one then.
		if writing.Load() > 0 {
			m.Body = bytes.Clone(m.Body)
		}
	}()
	trace := &httptrace.ClientTrace{WroteRequest: func(httptrace.WroteRequestInfo) { writing.Add(-1) },
		GotConn: func(info httptrace.GotConnInfo) {
			writing.Add(1)
			t.conn, t.reused, t.left, t.wrote, t.begun = watchedOf(info.Conn), info.Reused, true, 0, false
			if t.conn != nil {
				t.wrote = t.conn.out.Load()
			}
			if !told { // not again for each redirect
				told = true
				c.sink.Sent(m, clock.Nano(), repeat)
			}
		}, GotFirstResponseByte: func() {
			t.begun = true
			if t.conn != nil {
				t.conn.answered()
			}
		}}
	token, err := c.freshToken(ctx)
	if err != nil {
		return answer{outcome: outcome.Unsent, text: err.Error(), unsent: c.ctx.Err() == nil}
	}
	var secrets []string // that were computed for it
	defer func() { a.text = hide(a.text, token, secrets) }()
	target := c.link.cfg.Base + link.Fill(m.Target, token)
	ctx = httptrace.WithClientTrace(ctx, trace)
	own := true // the address is still that of the link
	for hops := 0; ; hops++ {
		req, more, err := c.message(ctx, m, target, token, own)
		if err != nil {
			return answer{outcome: outcome.Unsent, text: "the request could not be made: " + err.Error()}
		}
		secrets = append(secrets, more...)
		client := c.client
		switch {
		case !own:
			client = c.link.other
		case anew && c.fresh != nil: // on a connection that surely nobody is closing
			client = c.fresh
		case anew:
			client = c.link.fresh
		}
		// Not through the client: that would follow redirects, and read the body for it.
		resp, err := client.Transport.RoundTrip(req)
		if err == nil && c.link.cfg.Redirects && hops < maxHops {
			if to := redirect(resp, m.HTTP.OKStatus); to != nil {
				resp.Body.Close()
				own = own && link.KeepsHost(req.URL, to)
				target = to.String()
				continue
			}
		}
		if err == nil && resp.StatusCode == http.StatusUnauthorized && !m.Variant && !renewed {
			renewed = true
			if now, err := c.freshToken(ctx); err == nil && now != token { // it ran out on the way
				resp.Body.Close()
				token, target, own = now, c.link.cfg.Base+link.Fill(m.Target, now), true
				told, repeat = false, true
				continue
			}
		}
		return c.answered(ctx, m, &t, resp, err, hops)
	}
}

// redirect is where an answer sends a message to be sent again as it is; nil: nowhere.
// 303 says that it was taken (RFC 9110, section 15.4.4).
func redirect(resp *http.Response, accepted []int) *url.URL {
	switch resp.StatusCode {
	case 301, 302, 307, 308:
	default:
		return nil
	}
	if slices.Contains(accepted, resp.StatusCode) {
		return nil
	}
	to, err := resp.Location()
	if err != nil || to.Scheme != "http" && to.Scheme != "https" {
		return nil
	}
	return to
}

// answered tells what an answer, or none, means.
func (c *Conn) answered(ctx context.Context, m *link.Message, t *exchange, resp *http.Response, err error,
	hops int) answer {
	cfg := &c.link.cfg
	var body []byte
	cut := ""
	if err == nil {
		body, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
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
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		what, _ := link.Explain(err, cfg.Base)
		if m.Variant && link.Denied(err) {
			return answer{outcome: outcome.Refused, text: what}
		}
		if !t.left {
			if errors.Is(err, context.Canceled) {
				what = "the round ended before it could be sent"
			}
			return answer{outcome: outcome.Unsent, text: what, unsent: c.ctx.Err() == nil}
		}
		a := answer{outcome: outcome.NoAnswer}
		if resp == nil && ctx.Err() == nil {
			if a.untaken, a.sure = t.untaken(err); m.Variant && t.turnedAway(err) {
				a.untaken, a.sure = true, true // until its no is heard
			}
		}
		switch {
		case errors.Is(err, context.Canceled):
			what = "no answer before its connection was closed"
		case errors.Is(err, context.DeadlineExceeded):
			what = fmt.Sprintf("no answer within %s", cfg.Timeout)
		}
		if cfg.RetryKey != "" && !errors.Is(err, context.Canceled) {
			a.after = link.BackOff(cfg.BackOff[0], cfg.BackOff[1], 0)
		}
		a.text = cut + what
		return a
	}
	if !slices.Contains(m.HTTP.OKStatus, resp.StatusCode) {
		text := "status " + link.Status(resp)
		if to := resp.Header.Get("Location"); to != "" && resp.StatusCode/100 == 3 {
			text += fmt.Sprintf(": it sends on to %s", foreign.Line(to, foreign.Most))
			if hops == maxHops {
				text += fmt.Sprintf(", as %d others before", maxHops)
			}
		}
		return answer{outcome: outcome.Refused, code: resp.StatusCode, text: text + link.Snippet(body),
			after: link.RetryAfter(resp, time.Now())}
	}
	if why := c.denied(m, resp, body); why != "" {
		return answer{outcome: outcome.Refused, code: resp.StatusCode,
			text: "status " + link.Status(resp) + ", but " + why + link.Snippet(body)}
	}
	return answer{outcome: outcome.Accepted, code: resp.StatusCode}
}

// denied tells why an answer is none that acknowledges, by what the file says of it.
func (c *Conn) denied(m *link.Message, resp *http.Response, body []byte) string {
	q := c.link.cfg.Answer
	if q == nil {
		return ""
	}
	if len(body) > maxAnswer {
		return fmt.Sprintf("its body is longer than %d kB", maxAnswer>>10)
	}
	var v any = "" // without a body the rest may tell; a text has no members, so that .error == null is no yes
	if len(body) > 0 {
		var err error
		if v, err = strictjson.Decode(body); err != nil {
			return "its body is not JSON"
		}
	} else if s := q.String(); !strings.Contains(s, "$headers") && !strings.Contains(s, "$status") {
		return "it has no body"
	}
	all, err := q.All(v, max(1, m.Count), resp.StatusCode, link.Headers(resp.Header))
	switch {
	case err != nil:
		return fmt.Sprintf("accept_if: %s fails on it (%s)", q, err)
	case len(all) == 1 && all[0] == true:
		return ""
	case len(all) == 1:
		return fmt.Sprintf("accept_if: %s gives %v, not true", q, all[0])
	}
	return fmt.Sprintf("accept_if: %s gives %d values, not one that is true", q, len(all))
}

// message makes the request of a message. To an address that is not the link's own,
// nothing goes that was meant for the platform alone.
func (c *Conn) message(ctx context.Context, m *link.Message, target, token string, own bool) (req *http.Request,
	secrets []string, err error) {
	headers := m.HTTP.Headers
	if !own {
		headers = nil
	}
	if req, err = c.build(ctx, m.HTTP.Method, target, headers, m.Body, token, own); err != nil {
		return nil, nil, err
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
	if key := c.link.cfg.RetryKey; key != "" {
		if req.Body == http.NoBody { // the library knows the usual key as it is written, and would send it again by itself
			req.Header[strings.ToLower(key)] = []string{m.HTTP.Key}
		} else {
			req.Header.Set(key, m.HTTP.Key)
		}
	}
	if own && m.HTTP.Signer != nil {
		secrets, err = sign(req, m.HTTP.Signer, m.Body, token)
	}
	return req, secrets, err
}

// sign adds what is computed for a request that is complete but for that. It tells which of it is
// secret.
func sign(req *http.Request, s link.Signer, body []byte, token string) ([]string, error) {
	host := req.Host
	if host == "" {
		host = req.URL.Host
	}
	x, err := s.Sign(&link.ToSign{Method: req.Method, Host: host, Path: req.URL.EscapedPath(), Query: req.URL.RawQuery, Body: body,
		Time: time.Now().UTC(), Token: token})
	if err != nil {
		return nil, err
	}
	for _, h := range x.Headers {
		if strings.ContainsAny(h.Value, "\r\n\x00") {
			return nil, fmt.Errorf("the header %s holds a line break", h.Name)
		}
		req.Header.Set(h.Name, h.Value)
	}
	for _, q := range x.Query {
		if req.URL.RawQuery != "" {
			req.URL.RawQuery += "&"
		}
		req.URL.RawQuery += formula.URLEscape(q.Name) + "=" + formula.URLEscape(q.Value)
	}
	return x.Secrets, nil
}

// hide takes the access token, and what was computed for a request, out of a text that is to be
// shown.
func hide(text, token string, secrets []string) string {
	text = link.Hide(text, token)
	for _, s := range secrets {
		text = link.Hide(link.Hide(text, s), formula.URLEscape(s))
	}
	return text
}

// errAgain is what the client library gets where it would send a request of HTTP/2 a second
// time, because the platform did not process it. Of HTTP/1.1 it would without being sure.
var errAgain = errors.New("the platform did not take the request")

// bodiless are the methods with which the client library sends no body where there is none.
var bodiless = []string{"GET", "HEAD", "DELETE", "OPTIONS", "PROPFIND", "SEARCH"}

// build makes a request of the device. Its body cannot be had a second time: the client
// library cannot send it again, and tells that it would.
func (c *Conn) build(ctx context.Context, method, target string, headers []link.Header, body []byte, token string,
	own bool) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, target, nil)
	if err != nil {
		return nil, err
	}
	req.Body, req.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	if len(body) == 0 && c.link.cfg.Version != 2 && !slices.Contains(bodiless, method) {
		req.Body = http.NoBody // else it would be sent in chunks, of which there are none
	}
	if c.link.cfg.Version == 2 {
		req.GetBody = func() (io.ReadCloser, error) { return nil, errAgain }
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
		if h.More {
			req.Header.Add(h.Name, value)
		} else {
			req.Header.Set(h.Name, value)
		}
	}
	if own && c.id.Username != "" && req.Header.Get("Authorization") == "" {
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
	ctx, cancel := clock.WithTimeout(c.ctx, c.link.cfg.Timeout)
	defer cancel()
	if c.link.slots.Acquire(ctx, 1) != nil {
		return nil, "no turn for it within the time of a request"
	}
	defer c.link.slots.Release(1)
	token, err := c.freshToken(ctx)
	if err != nil {
		return nil, err.Error()
	}
	req, err := c.build(ctx, http.MethodGet, c.link.cfg.Base+link.Fill(a.Path, token), a.Headers, nil, token, true)
	var secrets []string
	if err == nil && a.Signer != nil {
		secrets, err = sign(req, a.Signer, nil, token)
	}
	defer func() { why = hide(why, token, secrets) }()
	if err != nil {
		return nil, "the request could not be made: " + err.Error()
	}
	resp, err := c.client.Transport.RoundTrip(req)
	if err != nil {
		what, _ := link.Explain(err, c.link.cfg.Base)
		return nil, what
	}
	defer resp.Body.Close()
	body, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	switch {
	case err != nil:
		what, _ := link.Explain(err, c.link.cfg.Base)
		return nil, what
	case resp.StatusCode == http.StatusNoContent:
		return nil, ""
	case resp.StatusCode != http.StatusOK:
		return nil, "status " + link.Status(resp) + link.Snippet(body)
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

// Close ends the request under way; what waits behind it is settled.
func (c *Conn) Close(bool) {
	c.mu.Lock()
	c.closed = true
	for len(c.waiting) > 1 {
		last := len(c.waiting) - 1
		m := c.waiting[last]
		c.waiting[last] = nil
		c.waiting = c.waiting[:last]
		c.sink.Settled(m, clock.Nano(), outcome.Unsent, 0, "still waiting for the requests before it when its connection "+
			"was closed")
	}
	c.mu.Unlock()
	c.cancel()
	if c.client != c.link.client {
		c.client.CloseIdleConnections()
	}
}
