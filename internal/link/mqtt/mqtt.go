// Package mqtt brings messages over MQTT 3.1.1 and 5 on TCP.
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
	"errors"
	"fmt"
	"math"
	"net"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
)

// Config is what the crowd file says of an MQTT link.
type Config struct {
	Name           string
	Address        string // host:port
	Version        int    // mqttwire.V311 or V5
	KeepAlive      time.Duration
	CleanStart     bool
	SessionExpiry  time.Duration // version 5
	InFlight       int
	Backlog        int
	ConnectTimeout time.Duration
	BackOff        [2]time.Duration
}

// maxDials is how many devices of a link connect at once: more only fill the
// broker's queue of connections and make each of them slower.
const maxDials = 64

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
}

// New makes a link; nothing is connected yet.
func New(cfg Config) *Link {
	ctx, stop := context.WithCancel(context.Background())
	return &Link{cfg: cfg, dials: semaphore.NewWeighted(maxDials), ctx: ctx, stop: stop}
}

func (l *Link) connectPacket(id link.Identity, clean bool) *mqttwire.Connect {
	c := &mqttwire.Connect{Version: byte(l.cfg.Version), ClientID: id.ClientID, Username: id.Username, Password: id.Password,
		KeepAlive: uint16(l.cfg.KeepAlive / time.Second), CleanStart: clean}
	if l.cfg.Version == mqttwire.V5 {
		c.SessionExpiry = uint32(min(l.cfg.SessionExpiry/time.Second, math.MaxUint32))
	}
	return c
}

// RefusedError is a CONNACK that says no.
type RefusedError struct {
	Code   byte
	Reason string
}

func (e *RefusedError) Error() string { return "the broker refused the connection: " + e.Reason }

// handshakeError is an error after the connection was open.
type handshakeError struct{ err error }

func (e *handshakeError) Error() string { return e.err.Error() }
func (e *handshakeError) Unwrap() error { return e.err }

// dial opens a connection and exchanges CONNECT and CONNACK.
func (l *Link) dial(ctx context.Context, connect *mqttwire.Connect) (net.Conn, *mqttwire.Reader, *mqttwire.Packet, error) {
	ctx, cancel := context.WithTimeout(ctx, l.cfg.ConnectTimeout)
	defer cancel()
	var d net.Dialer
	nc, err := d.DialContext(ctx, "tcp", l.cfg.Address)
	if err != nil {
		return nil, nil, nil, err
	}
	// A cancelled context must end the exchange too.
	unhook := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	// Acknowledgements are small: so is the buffer, one a device.
	rd, pk, err := Handshake(nc, connect, 512, maxIncoming)
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
		return nil, nil, &RefusedError{pk.Reason, reason}
	}
	return rd, &pk, nil
}

// Try connects as one device and leaves again.
func (l *Link) Try(ctx context.Context, id link.Identity) error {
	connect := l.connectPacket(id, true)
	connect.SessionExpiry = 0
	nc, _, _, err := l.dial(ctx, connect)
	if err != nil {
		return ReachError(l.cfg.Name, l.cfg.Address, id.Name, err)
	}
	nc.Write(mqttwire.AppendDisconnect(nil, byte(l.cfg.Version), false))
	return nc.Close()
}

// ReachError tells why a broker could not be reached.
func ReachError(name, address, device string, err error) error {
	e := &link.ReachError{Link: name, Address: "mqtt://" + address, Err: err}
	var refused *RefusedError
	switch {
	case errors.As(err, &refused):
		e.What = fmt.Sprintf("the broker refused the connection of %s: %s", device, refused.Reason)
		switch refused.Code {
		case 0x86, 0x87, 4, 5:
			e.Try = "check username and password, and that this client may connect"
		case 0x84, 1:
			e.Try = "try the other version: 3.1.1 in place of 5"
		case 0x85, 2:
			e.Try = "check client_id: the broker may allow fewer characters"
		}
	case errors.Is(err, mqttwire.ErrMalformed):
		e.What = "the answer is not MQTT (" + err.Error() + ")"
		e.Try = "check that this port speaks MQTT without TLS"
	default:
		e.What, e.Try = link.Explain(err, address)
		var hs *handshakeError
		if errors.As(err, &hs) {
			e.What = "the connection opened, but CONNECT got no answer: " + e.What
			e.Try = "check that this port speaks MQTT without TLS, and the broker's log"
		}
	}
	return e
}

// Connect makes a device's connection.
func (l *Link) Connect(id link.Identity, sink link.Sink) link.Conn {
	ctx, cancel := context.WithCancel(l.ctx)
	c := &Conn{link: l, id: id, sink: sink, ctx: ctx, cancel: cancel, window: l.cfg.InFlight}
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
