// Package mqtt brings messages over MQTT 3.1.1 and 5, on TCP, TLS and WebSocket.
//
// A device costs one goroutine, which waits for what the broker sends; writing
// is done by whoever has something to write. A write that the kernel would not
// take at once is finished by a goroutine that lives just as long as that.
//
// Acknowledgements are matched by packet identifier (section 2.2.1 of version
// 5). When a connection is lost, messages of QoS 1 and 2 that wait for their
// acknowledgement are sent again on the next one: with the same identifier and
// the DUP flag where the broker kept the session (section 4.4), as new packets
// where it did not. A QoS 2 message that the broker has taken (PUBREC) is never
// published again.
package mqtt

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/sync/semaphore"

	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
)

// Config is what the crowd file says of an MQTT link.
type Config struct {
	Name           string
	Scheme         string // mqtt, mqtts, ws or wss; empty is mqtt
	Address        string // host:port
	Path           string // of a WebSocket
	TLS            *link.TLS
	Version        int // mqttwire.V311 or V5
	KeepAlive      time.Duration
	CleanStart     bool
	SessionExpiry  time.Duration // version 5
	InFlight       int
	Backlog        int
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration
	TopicAliases   int  // version 5: most topics of a device that are sent as a number
	Redirects      bool // version 5: go where the server refers to
}

// maxDials is how many devices of a link connect at once: more only fill the
// broker's queue of connections and make each of them slower.
const maxDials = 64

// maxHops is how often a device follows from broker to broker.
const maxHops = 5

// maxIncoming is the largest packet a device takes, in bytes.
const maxIncoming = 1 << 20

// stuckOutput is how many bytes may wait for the kernel to take them before a
// device stops handing more to the connection.
const stuckOutput = 256 << 10

// Link is an MQTT platform.
type Link struct {
	cfg   Config
	dials *semaphore.Weighted
	ctx   context.Context
	stop  context.CancelFunc
	wg    sync.WaitGroup

	shared *tls.Config // of devices without a certificate of their own
}

// New makes a link; nothing is connected yet.
func New(cfg Config) *Link {
	ctx, stop := context.WithCancel(context.Background())
	l := &Link{cfg: cfg, dials: semaphore.NewWeighted(maxDials), ctx: ctx, stop: stop}
	if cfg.TLS != nil {
		l.shared = cfg.TLS.Config(link.Host(cfg.Address), nil)
	}
	return l
}

// secure is the TLS configuration for a device: its own where it has a certificate.
func (l *Link) secure(id link.Identity) *tls.Config {
	if l.cfg.TLS != nil && id.Cert != nil {
		return l.cfg.TLS.Config(link.Host(l.cfg.Address), id.Cert)
	}
	return l.shared
}

// Dial opens a connection that carries MQTT: over TCP, TLS or WebSocket (section
// 4.2). Secure is for mqtts and wss.
func Dial(ctx context.Context, scheme, address, path string, secure *tls.Config) (net.Conn, error) {
	var d net.Dialer
	switch scheme {
	case "mqtts":
		nc, err := (&tls.Dialer{NetDialer: &d, Config: secure}).DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, err
		}
		return nc, nil
	case "ws", "wss":
		t := &http.Transport{Proxy: http.ProxyFromEnvironment, DialContext: d.DialContext, TLSClientConfig: secure, DisableCompression: true}
		// The subprotocol is that of section 6; each packet is a binary message.
		ws, resp, err := websocket.Dial(ctx, scheme+"://"+address+path, &websocket.DialOptions{HTTPClient: &http.Client{Transport: t}, Subprotocols: []string{"mqtt"}})
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
	nc, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	return nc, nil
}

// upgradeError is an answer of HTTP where a WebSocket was asked for.
type upgradeError struct{ text string }

func (e *upgradeError) Error() string { return e.text }

// Connect is the CONNECT packet of a device, with its access token filled in.
func Connect(version int, id link.Identity, token string) *mqttwire.Connect {
	c := &mqttwire.Connect{Version: byte(version), ClientID: link.Fill(id.ClientID, token), Username: link.Fill(id.Username, token), Password: link.Fill(id.Password, token)}
	if w := id.Will; w != nil {
		c.Will = &mqttwire.Will{Topic: w.Topic, Payload: w.Body, QoS: w.QoS, Retain: w.Retain, Delay: w.Delay, ContentType: w.ContentType}
	}
	return c
}

func (l *Link) connectPacket(id link.Identity, token string, clean bool) *mqttwire.Connect {
	c := Connect(l.cfg.Version, id, token)
	c.KeepAlive, c.CleanStart = uint16(l.cfg.KeepAlive/time.Second), clean
	if l.cfg.Version == mqttwire.V5 {
		c.SessionExpiry = uint32(min(l.cfg.SessionExpiry/time.Second, math.MaxUint32))
	}
	return c
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

// place is where a device connects: the address of the link, or where the broker
// referred it to.
type place struct {
	address string
	path    string // of a WebSocket
	secure  *tls.Config
}

func (l *Link) place(id link.Identity) place {
	p := place{l.cfg.Address, l.cfg.Path, l.secure(id)}
	if id.Path != "" {
		p.path = id.Path
	}
	return p
}

// with is the place for a device with an access token.
func (p place) with(token string) place {
	p.path = link.Fill(p.path, token)
	return p
}

// referred is the place that a server reference names (section 4.11): HOST or
// HOST:PORT, of which the first of several is taken.
func (l *Link) referred(p place, reference string) place {
	first, _, _ := strings.Cut(strings.TrimSpace(reference), " ")
	_, port, _ := net.SplitHostPort(l.cfg.Address)
	host := first
	if h, own, err := net.SplitHostPort(first); err == nil {
		host, port = h, own
	}
	p.address = net.JoinHostPort(strings.Trim(host, "[]"), port)
	if p.secure != nil && l.cfg.TLS.ServerName == "" {
		p.secure = p.secure.Clone()
		p.secure.ServerName = strings.Trim(host, "[]")
	}
	return p
}

// dial opens a connection and exchanges CONNECT and CONNACK.
func (l *Link) dial(ctx context.Context, connect *mqttwire.Connect, at place) (net.Conn, *mqttwire.Reader, *mqttwire.Packet, error) {
	ctx, cancel := context.WithTimeout(ctx, l.cfg.ConnectTimeout)
	defer cancel()
	// Acknowledgements are small: so is the buffer, one a device.
	return Open(ctx, l.cfg.Scheme, at.address, at.path, at.secure, connect, 512, maxIncoming)
}

// Open is Dial and Handshake, within the time of the context.
func Open(ctx context.Context, scheme, address, path string, secure *tls.Config, connect *mqttwire.Connect, buffer, max int) (net.Conn, *mqttwire.Reader, *mqttwire.Packet, error) {
	nc, err := Dial(ctx, scheme, address, path, secure)
	if err != nil {
		return nil, nil, nil, err
	}
	// A cancelled context must end the exchange too.
	unhook := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	rd, pk, err := Handshake(nc, connect, buffer, max)
	if !unhook() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		nc.Close()
		return nil, nil, nil, &handshakeError{err}
	}
	nc.SetDeadline(time.Time{})
	return nc, rd, pk, nil
}

// Handshake sends CONNECT and waits for CONNACK (section 3.2). The reader it
// gives has a buffer of so many bytes and takes packets of at most max bytes.
func Handshake(nc net.Conn, connect *mqttwire.Connect, buffer, max int) (*mqttwire.Reader, *mqttwire.Packet, error) {
	if _, err := nc.Write(mqttwire.AppendConnect(nil, connect)); err != nil {
		return nil, nil, err
	}
	rd := mqttwire.NewReader(bufio.NewReaderSize(nc, buffer), connect.Version, max)
	var pk mqttwire.Packet
	if err := rd.Read(&pk); err != nil {
		return nil, nil, err
	}
	if pk.Type != mqttwire.CONNACK {
		return nil, nil, fmt.Errorf("%w: %s came where CONNACK was due", mqttwire.ErrMalformed, mqttwire.Name(pk.Type))
	}
	if pk.Reason != 0 {
		reason := mqttwire.Because(mqttwire.ConnectReason(connect.Version, pk.Reason), pk.ReasonString)
		return nil, nil, &RefusedError{pk.Reason, refers(reason, pk.ServerReference), pk.ServerReference}
	}
	return rd, &pk, nil
}

// refers adds to a reason where the server refers to.
func refers(reason, reference string) string {
	if reference == "" {
		return reason
	}
	return fmt.Sprintf("%s: it refers to %s", reason, reference)
}

// Try connects as one device and leaves again.
func (l *Link) Try(ctx context.Context, id link.Identity) error {
	token, _, err := link.TokenOf(ctx, id.Pass)
	if err != nil {
		return ReachError(l.cfg.Name, l.cfg.Scheme, l.cfg.Address, id.Name, err)
	}
	connect := l.connectPacket(id, token, true)
	connect.SessionExpiry, connect.Will = 0, nil
	at := l.place(id).with(token)
	nc, _, _, err := l.dial(ctx, connect, at)
	for hops := 0; err != nil && l.cfg.Redirects && hops < maxHops; hops++ {
		var refused *RefusedError
		if !errors.As(err, &refused) || refused.Refers == "" {
			break
		}
		at = l.referred(at, refused.Refers)
		nc, _, _, err = l.dial(ctx, connect, at)
	}
	if err != nil {
		reach := ReachError(l.cfg.Name, l.cfg.Scheme, at.address, id.Name, err)
		if e, is := errors.AsType[*link.ReachError](reach); is {
			e.What = link.Hide(e.What, token)
		}
		return reach
	}
	nc.Write(mqttwire.AppendDisconnect(nil, byte(l.cfg.Version), false))
	nc.Close() // the broker may have closed first: it was reached all the same
	return nil
}

// ReachError tells why a broker could not be reached.
func ReachError(name, scheme, address, device string, err error) error {
	if scheme == "" {
		scheme = "mqtt"
	}
	speaks := map[string]string{"mqtt": "MQTT without TLS", "mqtts": "MQTT over TLS", "ws": "MQTT over WebSocket", "wss": "MQTT over WebSocket and TLS"}[scheme]
	e := &link.ReachError{Link: name, Address: scheme + "://" + address, Err: err}
	var refused *RefusedError
	var upgrade *upgradeError
	switch {
	case errors.As(err, &upgrade):
		e.What, e.Try = upgrade.text, "check the path of the address: brokers often use /mqtt or /"
	case errors.As(err, &refused):
		e.What = fmt.Sprintf("the broker refused the connection of %s: %s", device, refused.Reason)
		switch refused.Code {
		case 0x86, 0x87, 4, 5:
			e.Try = "check username and password, and that this client may connect"
		case 0x84, 1:
			e.Try = "try the other version: 3.1.1 in place of 5"
		case 0x9c, 0x9d:
			e.Try = "go there with this link's credentials: redirects: follow; or write that address"
		case 0x85, 2:
			e.Try = "check client_id: the broker may allow fewer characters"
		}
	case errors.Is(err, mqttwire.ErrMalformed):
		e.What = "the answer is not MQTT (" + err.Error() + ")"
		e.Try = "check that this port speaks " + speaks
	default:
		e.What, e.Try = link.Explain(err, address)
		var hs *handshakeError
		if errors.As(err, &hs) && !link.IsTLS(err) {
			e.What = "the connection opened, but CONNECT got no answer: " + e.What
			e.Try = "check that this port speaks " + speaks + ", and the broker's log"
		}
	}
	return e
}

// Connect makes a device's connection.
func (l *Link) Connect(id link.Identity, sink link.Sink) link.Conn {
	ctx, cancel := context.WithCancel(l.ctx)
	c := &Conn{link: l, id: id, sink: sink, ctx: ctx, cancel: cancel, window: l.cfg.InFlight, home: l.place(id)}
	l.wg.Add(1)
	go c.run()
	return c
}

// Close ends all connections and waits for their goroutines.
func (l *Link) Close() {
	done := make(chan struct{})
	go func() { l.wg.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(2 * time.Second):
	}
	l.stop()
	<-done
}
