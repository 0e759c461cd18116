// Package mqtt brings messages over MQTT 3.1.1 and 5, on TCP, TLS and WebSocket.
//
// The protocol itself is mqttsession's; here its bytes are moved. A device costs one
// goroutine, which waits for what the broker sends; writing is done by whoever has
// something to write. A write that the kernel would not take at once is finished by a
// goroutine that lives just as long as that.
//
// When a connection is lost, messages of QoS 1 and 2 that wait for their acknowledgement
// are sent again on the next one: with the same identifier and the DUP flag where the
// broker kept the session (section 4.4), as new packets where it did not. A QoS 2 message
// that the broker has taken (PUBREC) is never published again.
package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"runcrowd/internal/link"
	"runcrowd/internal/mqttsession"
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
	Timeout        time.Duration // how long the broker may leave a PINGREQ unanswered; half of it, an acknowledgement
	CleanStart     bool
	SessionExpiry  time.Duration // version 5
	EndSession     bool          // sessions are ended when devices leave for good
	InFlight       int
	Backlog        int
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration
	TopicAliases   int  // version 5: most topics of a device that are sent as a number
	Redirects      bool // version 5: go where the server refers to
	Network        link.Network
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

	mu     sync.Mutex
	parked map[string]*Conn    // that Try has opened, by client id
	left   map[string]*leaving // sessions of devices that come back, by client id
	ending map[string]*Conn    // connections that were left, until they are at their end, by client id
	stay   int                 // sessions that are left on the broker for good
}

// leaving is what a device leaves behind at the end of a round.
type leaving struct {
	session *mqttsession.Saved
	listens bool // its subscriptions are in the session
}

// New makes a link; nothing is connected yet.
func New(cfg Config) *Link {
	ctx, stop := context.WithCancel(context.Background())
	l := &Link{cfg: cfg, dials: semaphore.NewWeighted(maxDials), ctx: ctx, stop: stop, parked: map[string]*Conn{},
		left: map[string]*leaving{}, ending: map[string]*Conn{}}
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

// Connect is the CONNECT packet of a device, with its access token filled in.
func Connect(version int, id link.Identity, token string) *mqttwire.Connect {
	c := &mqttwire.Connect{Version: byte(version), ClientID: link.Fill(id.ClientID, token),
		Username: link.Fill(id.Username, token), Password: link.Fill(id.Password, token)}
	if w := id.Will; w != nil {
		c.Will = &mqttwire.Will{Topic: w.Topic, Payload: w.Body, QoS: w.QoS, Retain: w.Retain, Delay: w.Delay,
			ContentType: w.ContentType}
	}
	return c
}

func (l *Link) connectPacket(id link.Identity, token string, clean bool) mqttwire.Connect {
	c := Connect(l.cfg.Version, id, token)
	c.KeepAlive, c.CleanStart = uint16(l.cfg.KeepAlive/time.Second), clean
	if l.cfg.Version == mqttwire.V5 {
		c.SessionExpiry = uint32(min(l.cfg.SessionExpiry/time.Second, math.MaxUint32))
	}
	return *c
}

// place is where a device connects, if the broker does not refer it elsewhere.
func (l *Link) place(id link.Identity) Endpoint {
	e := Endpoint{Scheme: l.cfg.Scheme, Address: l.cfg.Address, Path: l.cfg.Path, TLS: l.secure(id),
		Network: l.cfg.Network}
	if id.Network != nil {
		e.Network = id.Network
	}
	if id.Path != "" {
		e.Path = id.Path
	}
	return e
}

// with is the endpoint for a device with an access token.
func (e Endpoint) with(token string) Endpoint {
	e.Path = link.Fill(e.Path, token)
	return e
}

// referred is the endpoint that a server reference names (section 4.11): HOST or
// HOST:PORT, of which the first of several is taken.
func (l *Link) referred(e Endpoint, reference string) Endpoint {
	first, _, _ := strings.Cut(strings.TrimSpace(reference), " ")
	_, port, _ := net.SplitHostPort(l.cfg.Address)
	host := first
	if h, own, err := net.SplitHostPort(first); err == nil {
		host, port = h, own
	}
	e.Address = net.JoinHostPort(strings.Trim(host, "[]"), port)
	if e.TLS != nil && l.cfg.TLS.ServerName == "" {
		e.TLS = e.TLS.Clone()
		e.TLS.ServerName = strings.Trim(host, "[]")
	}
	return e
}

// Try connects one device. Its connection waits, unread, until Connect takes it over:
// what the broker kept for the device goes to the device.
func (l *Link) Try(ctx context.Context, id link.Identity) error {
	l.mu.Lock()
	open := l.parked[id.ClientID] != nil
	l.mu.Unlock()
	if open {
		return nil
	}
	c := l.NewConn(id)
	token, at, err := c.first(ctx)
	if err == nil {
		l.Park(c)
		return nil
	}
	c.cancel()
	reach := ReachError(l.cfg.Name, l.cfg.Scheme, at.Address, id.Name, err)
	if e, is := errors.AsType[*link.ReachError](reach); is {
		e.What = link.Hide(e.What, token)
	}
	return reach
}

// Park keeps a connection for Connect to take over.
func (l *Link) Park(c *Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if old := l.parked[c.id.ClientID]; old != nil {
		old.abandon()
	}
	l.parked[c.id.ClientID] = c
}

// ReachError tells why a broker could not be reached.
func ReachError(name, scheme, address, device string, err error) error {
	if scheme == "" {
		scheme = "mqtt"
	}
	speaks := map[string]string{"mqtt": "MQTT without TLS", "mqtts": "MQTT over TLS", "ws": "MQTT over WebSocket",
		"wss": "MQTT over WebSocket and TLS"}[scheme]
	e := &link.ReachError{Link: name, Address: scheme + "://" + address, Err: err}
	var refused *mqttsession.RefusedError
	var upgrade *upgradeError
	switch {
	case errors.As(err, &upgrade):
		e.What, e.Try = upgrade.text, "check the path of the address: brokers often use /mqtt or /"
	case errors.As(err, &refused):
		e.What = fmt.Sprintf("the broker refused the connection of %s: %s", device, refused.Reason())
		switch {
		case Unauthorized(err):
			e.Try = "check username and password, and that this client may connect"
		case refused.Code == 0x84, refused.Code == 1:
			e.Try = "try the other version: 3.1.1 in place of 5"
		case refused.Code == 0x9c, refused.Code == 0x9d:
			e.Try = "go there with this link's credentials: redirects: follow; or write that address"
		case refused.Code == 0x85, refused.Code == 2:
			e.Try = "check client_id: the broker may allow fewer characters"
		}
	case errors.As(err, new(*mqttsession.SessionError)):
		e.What, e.Try = err.Error(), "give these clients ids that nobody had before, and report it to the makers of the "+
			"broker"
	case errors.Is(err, mqttwire.ErrMalformed):
		e.What = "the answer is not MQTT (" + err.Error() + ")"
		e.Try = "check that this port speaks " + speaks
	default:
		e.What, e.Try = link.Explain(err, address)
		var hs *handshakeError
		if errors.As(err, &hs) && !link.IsTLS(err) {
			e.What = "the connection opened, but CONNECT got no answer: " + e.What
			e.Try = "check that this port speaks " + speaks + ", in this version (version: 5 or 3.1.1), and the broker's log"
		}
	}
	return e
}

// Unauthorized tells whether a broker refused a connection because of who asked for it: by its user
// name and password, or as it may not (MQTT 5, section 3.2.2.2; 3.1.1, section 3.2.2.3).
func Unauthorized(err error) bool {
	var refused *mqttsession.RefusedError
	return errors.As(err, &refused) && slices.Contains([]byte{0x86, 0x87, 4, 5}, byte(refused.Code))
}

// Connect makes a device's connection, or takes over the one that Try has opened.
func (l *Link) Connect(id link.Identity, sink link.Sink) link.Conn {
	l.mu.Lock()
	c := l.parked[id.ClientID]
	delete(l.parked, id.ClientID)
	l.mu.Unlock()
	if c != nil && id.Stranger {
		c.abandon()
		c = nil
	}
	if c == nil {
		c = l.NewConn(id)
	}
	l.wg.Add(1)
	c.adopt(id, sink)
	go c.run()
	return c
}

// NewConn makes a connection that is not open yet: Shake opens it, Park keeps it for
// Connect.
func (l *Link) NewConn(id link.Identity) *Conn {
	ctx, cancel := context.WithCancel(l.ctx)
	c := &Conn{link: l, id: id, ctx: ctx, cancel: cancel, home: l.place(id), wake: make(chan struct{}, 1),
		over: make(chan struct{})}
	opt := mqttsession.Options{InFlight: l.cfg.InFlight, TopicAliases: l.cfg.TopicAliases, MaxPacket: maxIncoming,
		Timeout: l.cfg.Timeout, Exactly: id.Exactly}
	if l.cfg.Version == mqttwire.V5 && l.cfg.SessionExpiry > 0 || !l.cfg.CleanStart {
		// The broker may keep messages of an earlier run, or of another client with the
		// same id, that it knows by identifiers such as 1.
		opt.FirstID = uint16(rand.N(65535))
	}
	l.mu.Lock()
	if left := l.left[id.ClientID]; left != nil && !id.Stranger {
		opt.Saved, c.listens = left.session, left.listens
		delete(l.left, id.ClientID)
	}
	l.mu.Unlock()
	opt.Connect.Version = byte(l.cfg.Version)
	c.s = mqttsession.New(opt, (*hearer)(c))
	return c
}

// keep notes what a device leaves behind.
func (l *Link) keep(client string, left *leaving, last bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if last {
		l.stay++
	} else {
		l.left[client] = left
	}
}

// end notes that a connection was left, and that it is at its end.
func (l *Link) end(c *Conn, over bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case !over:
		l.ending[c.id.ClientID] = c
	case l.ending[c.id.ClientID] == c:
		delete(l.ending, c.id.ClientID)
	}
}

// cut ends a connection that was left, and that the broker does not close.
func (c *Conn) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.nc != nil {
		c.nc.SetDeadline(time.Now())
	}
}

// Close ends all connections and waits for their goroutines.
func (l *Link) Close() (left int, kept time.Duration) {
	l.mu.Lock()
	for client, c := range l.parked {
		c.abandon()
		delete(l.parked, client)
	}
	l.mu.Unlock()
	done := make(chan struct{})
	go func() { l.wg.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(2 * time.Second):
	}
	l.stop()
	l.mu.Lock()
	still := slices.Collect(maps.Values(l.ending))
	l.mu.Unlock()
	for _, c := range still {
		c.cut()
	}
	<-done
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cfg.Version == mqttwire.V5 && l.cfg.SessionExpiry < math.MaxUint32*time.Second {
		kept = l.cfg.SessionExpiry
	}
	return l.stay + len(l.left), kept
}
