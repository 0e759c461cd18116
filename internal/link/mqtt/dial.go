package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"

	"runcrowd/internal/clock"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
)

// Endpoint is where a broker listens, and how a connection to it is secured.
type Endpoint struct {
	Scheme  string // mqtt, mqtts, ws or wss; empty is mqtt
	Address string // host:port
	Path    string // of a WebSocket
	TLS     *tls.Config
	Network link.Network
}

// Dial opens a connection that carries MQTT: over TCP, TLS or WebSocket (section 4.2).
func (e *Endpoint) Dial(ctx context.Context) (net.Conn, error) {
	switch e.Scheme {
	case "mqtts":
		nc, err := e.Network.Dial(ctx, "tcp", e.Address)
		if err != nil {
			return nil, err
		}
		secure := &tls.Config{}
		if e.TLS != nil {
			secure = e.TLS.Clone()
		}
		if secure.ServerName == "" {
			secure.ServerName = link.Host(e.Address)
		}
		t := tls.Client(nc, secure)
		if err := t.HandshakeContext(ctx); err != nil {
			nc.Close()
			return nil, err
		}
		return t, nil
	case "ws", "wss":
		t := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: e.Network.Dial, TLSClientConfig: e.TLS,
			DisableCompression: true, MaxResponseHeaderBytes: link.MaxHeader}
		// The subprotocol is that of section 6; each packet is a binary message.
		ws, resp, err := websocket.Dial(ctx, e.Scheme+"://"+e.Address+e.Path,
			&websocket.DialOptions{HTTPClient: &http.Client{Transport: t}, Subprotocols: []string{"mqtt"}})
		if err != nil {
			t.CloseIdleConnections() // it keeps the connection of a refused upgrade
			var status string
			if resp != nil && resp.StatusCode != http.StatusSwitchingProtocols {
				status = fmt.Sprintf("the platform answered %s in place of a WebSocket", link.Status(resp))
				return nil, &upgradeError{status, resp.StatusCode}
			}
			return nil, err
		}
		ws.SetReadLimit(-1)
		return websocket.NetConn(context.Background(), ws, websocket.MessageBinary), nil
	}
	nc, err := e.Network.Dial(ctx, "tcp", e.Address)
	if err != nil {
		return nil, err
	}
	return nc, nil
}

// upgradeError is an answer of HTTP where a WebSocket was asked for.
type upgradeError struct {
	text   string
	status int
}

// denied tells whether a platform said no to who asked for a WebSocket.
func denied(err error) bool {
	u, is := errors.AsType[*upgradeError](err)
	return is && (u.status == http.StatusUnauthorized || u.status == http.StatusForbidden)
}

func (e *upgradeError) Error() string { return e.text }

// handshakeError is an error after the connection was open.
type handshakeError struct{ err error }

func (e *handshakeError) Error() string { return e.err.Error() }
func (e *handshakeError) Unwrap() error { return e.err }

// Line is a session and its network connections, one after the other, for those on the
// platform's side: witnesses and people. Its methods may be called from several goroutines,
// but for Shake, Read and Subscribe, which are for one.
type Line struct {
	mu     sync.Mutex
	renew  time.Time
	nc     net.Conn
	s      *mqttsession.Session
	buf    []byte
	lastIn time.Time
}

// NewLine makes a line that is not connected yet.
func NewLine(opt mqttsession.Options, h mqttsession.Handler) *Line {
	return &Line{s: mqttsession.New(opt, h), buf: make([]byte, 16<<10)}
}

// writeMost is how long a write may take before a line is given up.
const writeMost = 5 * time.Second

// Shake exchanges CONNECT and CONNACK on an open network connection (section 3.2 of
// MQTT 5), within the time of the context.
func (l *Line) Shake(ctx context.Context, nc net.Conn, connect mqttwire.Connect) error {
	l.mu.Lock()
	l.nc = nc
	err := l.s.Open(clock.Now(), connect)
	if err == nil {
		err = l.flush()
	}
	l.mu.Unlock()
	defer l.bound(ctx)()
	for err == nil && l.state() == mqttsession.Connecting {
		err = l.Read()
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		nc.Close()
		l.Lost()
		return &handshakeError{err}
	}
	return nil
}

func (l *Line) state() mqttsession.State {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.s.State()
}

// bound ends reads and writes when the context does; the result takes that back.
func (l *Line) bound(ctx context.Context) func() {
	nc := l.nc
	unhook := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	return func() {
		if unhook() {
			nc.SetDeadline(time.Time{})
		}
	}
}

// Read takes in what the broker sends next, and writes what the session answers. One
// goroutine at a time reads.
func (l *Line) Read() error {
	n, err := l.nc.Read(l.buf)
	l.mu.Lock()
	defer l.mu.Unlock()
	if n > 0 {
		l.lastIn = clock.Now()
		if bad := l.s.Receive(l.lastIn, l.buf[:n]); bad != nil {
			l.flush()
			return bad
		}
		if bad := l.flush(); bad != nil {
			return bad
		}
	}
	if err == io.EOF && l.s.State() == mqttsession.Connecting {
		return io.ErrUnexpectedEOF
	}
	return err
}

// Do lets f use the session, and writes what it has to say.
func (l *Line) Do(f func(s *mqttsession.Session, now time.Time) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := f(l.s, clock.Now()); err != nil {
		return err
	}
	return l.flush()
}

func (l *Line) flush() error {
	b := l.s.Output()
	if len(b) == 0 {
		return nil
	}
	l.nc.SetWriteDeadline(time.Now().Add(writeMost))
	_, err := l.nc.Write(b)
	l.s.Recycle(b)
	return err
}

// Leave says goodbye; end also ends the session. What is under way may still be read for
// a second: the broker closes the connection (section 3.14.4).
func (l *Line) Leave(end bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.nc == nil {
		return
	}
	l.s.Leave(end)
	l.flush()
	l.nc.SetReadDeadline(time.Now().Add(time.Second))
}

// Until reads until something is so, and keeps the connection alive meanwhile. The error
// is that of the connection, also where the context ended it.
func (l *Line) Until(ctx context.Context, so func() bool) error {
	defer l.bound(ctx)()
	done := make(chan struct{})
	defer close(done)
	go func() {
		t := time.NewTicker(time.Second)
		defer t.Stop()
		for {
			select {
			case <-done:
				return
			case <-t.C:
			}
			if l.Do(func(s *mqttsession.Session, now time.Time) error {
				_, err := s.Tick(
					now)
				return err
			}) == mqttsession.ErrSilent {
				l.Close()
			}
		}
	}()
	for !so() {
		if err := l.Read(); err != nil {
			return err
		}
	}
	return nil
}

// Renew is when the access token has to be changed; zero: never.
func (l *Line) Renew() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.renew
}

// LastIn is when the broker sent something last.
func (l *Line) LastIn() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lastIn
}

// Lost lets the session know that the network connection is gone.
func (l *Line) Lost() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.s.Lost()
}

// Close closes the network connection.
func (l *Line) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.nc != nil {
		l.nc.Close()
	}
}

// Subscribe subscribes on a line that nobody else reads, and waits for the answer: the
// QoS that was granted. Options are those of mqttwire.AppendSubscribe. Heard is what the
// session's Handler noted of the answer.
func (l *Line) Subscribe(ctx context.Context, filter string, options byte, heard *Granted) error {
	defer l.bound(ctx)()
	var id uint16
	*heard = Granted{}
	err := l.Do(func(s *mqttsession.Session, now time.Time) (err error) {
		id, err = s.Subscribe(now, filter, options)
		return err
	})
	for err == nil && heard.ID != id {
		err = l.Read()
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return err
	case heard.Code >= 0x80:
		return &SubscribeError{filter, mqttwire.Because(mqttwire.Reason(heard.Code), heard.Said)}
	}
	return nil
}

// Granted is the answer to a subscription.
type Granted struct {
	ID   uint16
	Code byte // the QoS that was granted, or a reason from 0x80 on
	Said string
}

// Take notes the answer.
func (g *Granted) Take(id uint16, p *mqttwire.Packet) { *g = Granted{id, p.Reason, p.ReasonString} }

// SubscribeError is a subscription that the broker refused.
type SubscribeError struct{ Filter, Reason string }

func (e *SubscribeError) Error() string {
	return fmt.Sprintf("the broker refused the subscription %q: %s", e.Filter, e.Reason)
}

// Guest is somebody on the platform's side who connects to the broker: not a device.
type Guest struct {
	Endpoint
	Username, Password string // may hold link.TokenPlace, as may Path
	Tokens             link.TokenSource
	Timeout            time.Duration // for connecting, and for the answer to SUBSCRIBE
}

// Open connects with the guest's credentials, within its timeout.
func (g *Guest) Open(ctx context.Context, l *Line, connect mqttwire.Connect) error {
	token, renew, err := link.TokenOf(ctx, g.Tokens)
	if err != nil {
		return err
	}
	at := g.Endpoint.with(token)
	connect.Username, connect.Password = link.Fill(g.Username, token), link.Fill(g.Password, token)
	ctx, cancel := context.WithTimeout(ctx, g.Timeout)
	defer cancel()
	nc, err := at.Dial(ctx)
	if err != nil {
		return err
	}
	l.mu.Lock()
	l.renew = renew
	l.mu.Unlock()
	return l.Shake(ctx, nc, connect)
}
