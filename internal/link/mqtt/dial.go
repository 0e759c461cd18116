package mqtt

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
	"time"

	"github.com/coder/websocket"
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
		t := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: e.Network.Dial, TLSClientConfig: e.TLS, DisableCompression: true}
		// The subprotocol is that of section 6; each packet is a binary message.
		ws, resp, err := websocket.Dial(ctx, e.Scheme+"://"+e.Address+e.Path, &websocket.DialOptions{HTTPClient: &http.Client{Transport: t}, Subprotocols: []string{"mqtt"}})
		if err != nil {
			var status string
			if resp != nil && resp.StatusCode != http.StatusSwitchingProtocols {
				status = fmt.Sprintf("the platform answered %s in place of a WebSocket", resp.Status)
				return nil, &upgradeError{status}
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
type upgradeError struct{ text string }

func (e *upgradeError) Error() string { return e.text }

// Sizes bound what is read from a broker, in bytes.
type Sizes struct {
	Buffer int // what is read at once
	Packet int // the largest packet that is taken
}

// Line is a connection on which the broker has accepted CONNECT.
type Line struct {
	Conn   net.Conn
	Reader *mqttwire.Reader
	Ack    *mqttwire.Packet // CONNACK
	Renew  time.Time        // when the access token has to be changed; zero: never

	version byte
}

// Open dials and exchanges CONNECT and CONNACK (section 3.2), within the time of the
// context.
func (e *Endpoint) Open(ctx context.Context, connect *mqttwire.Connect, sizes Sizes) (*Line, error) {
	nc, err := e.Dial(ctx)
	if err != nil {
		return nil, err
	}
	// A cancelled context must end the exchange too.
	unhook := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	line, err := Handshake(nc, connect, sizes)
	if !unhook() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		nc.Close()
		return nil, &handshakeError{err}
	}
	nc.SetDeadline(time.Time{})
	return line, nil
}

// Handshake sends CONNECT on an open connection and waits for CONNACK (section 3.2).
func Handshake(nc net.Conn, connect *mqttwire.Connect, sizes Sizes) (*Line, error) {
	if _, err := nc.Write(mqttwire.AppendConnect(nil, connect)); err != nil {
		return nil, err
	}
	rd := mqttwire.NewReader(bufio.NewReaderSize(nc, sizes.Buffer), connect.Version, sizes.Packet)
	var pk mqttwire.Packet
	if err := rd.Read(&pk); err != nil {
		return nil, err
	}
	if pk.Type != mqttwire.CONNACK {
		return nil, fmt.Errorf("%w: %s came where CONNACK was due", mqttwire.ErrMalformed, mqttwire.Name(pk.Type))
	}
	if pk.Reason != 0 {
		reason := mqttwire.Because(mqttwire.ConnectReason(connect.Version, pk.Reason), pk.ReasonString)
		return nil, &RefusedError{pk.Reason, refers(reason, pk.ServerReference), pk.ServerReference}
	}
	return &Line{Conn: nc, Reader: rd, Ack: &pk, version: connect.Version}, nil
}

// Guest is somebody on the platform's side who connects to the broker: not a device.
type Guest struct {
	Endpoint
	Username, Password string // may hold link.TokenPlace, as may Path
	Tokens             link.TokenSource
	Timeout            time.Duration // for connecting, and for the answer to SUBSCRIBE
}

// Open connects with the guest's credentials, within its timeout.
func (g *Guest) Open(ctx context.Context, connect mqttwire.Connect, sizes Sizes) (*Line, error) {
	token, renew, err := link.TokenOf(ctx, g.Tokens)
	if err != nil {
		return nil, err
	}
	at := g.Endpoint.with(token)
	connect.Username, connect.Password = link.Fill(g.Username, token), link.Fill(g.Password, token)
	ctx, cancel := context.WithTimeout(ctx, g.Timeout)
	defer cancel()
	line, err := at.Open(ctx, &connect, sizes)
	if err != nil {
		return nil, err
	}
	line.Renew = renew
	return line, nil
}

// Subscribe subscribes on a new connection; the answer must come within a time. What
// comes before it goes to other, which may be nil: retained messages may (section 3.8.4
// of MQTT 5).
func (n *Line) Subscribe(ctx context.Context, filter string, qos byte, within time.Duration, other func(*mqttwire.Packet) error) error {
	n.Conn.SetDeadline(time.Now().Add(within))
	unhook := context.AfterFunc(ctx, func() { n.Conn.SetDeadline(time.Unix(1, 0)) })
	defer func() {
		if unhook() {
			n.Conn.SetDeadline(time.Time{})
		}
	}()
	if _, err := n.Conn.Write(mqttwire.AppendSubscribe(nil, n.version, 1, filter, qos)); err != nil {
		return err
	}
	for {
		var p mqttwire.Packet
		if err := n.Reader.Read(&p); err != nil {
			return err
		}
		switch {
		case p.Type == mqttwire.SUBACK && p.Reason >= 0x80:
			return &SubscribeError{filter, mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString)}
		case p.Type == mqttwire.SUBACK:
			return nil
		case other != nil:
			if err := other(&p); err != nil {
				return err
			}
		}
	}
}

// SubscribeError is a subscription that the broker refused.
type SubscribeError struct{ Filter, Reason string }

func (e *SubscribeError) Error() string {
	return fmt.Sprintf("the broker refused the subscription %q: %s", e.Filter, e.Reason)
}

// RefusedError is a CONNACK that says no.
type RefusedError struct {
	Code   byte
	Reason string
	Refers string // to another server; empty: to none
}

func (e *RefusedError) Error() string { return "the broker refused the connection: " + e.Reason }

// handshakeError is an error after the connection was open.
type handshakeError struct{ err error }

func (e *handshakeError) Error() string { return e.err.Error() }
func (e *handshakeError) Unwrap() error { return e.err }

// refers adds to a reason where the server refers to.
func refers(reason, reference string) string {
	if reference == "" {
		return reason
	}
	return fmt.Sprintf("%s: it refers to %s", reason, reference)
}
