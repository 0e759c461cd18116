package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
)

// flight is a message that waits for its acknowledgement.
type flight struct {
	id    uint16
	taken bool // QoS 2: PUBREC came, PUBCOMP is due (section 4.3.3)
	again bool // sent again with DUP, on a session that the broker kept
	m     *link.Message
}

// Conn is one device's connection.
type Conn struct {
	link   *Link
	id     link.Identity
	sink   link.Sink
	ctx    context.Context
	cancel context.CancelFunc
	secure *tls.Config

	mu        sync.Mutex
	nc        net.Conn // nil while down
	writer    *writer
	closed    bool
	flights   []flight // in the order of sending
	waiting   []*link.Message
	window    int
	nextID    uint16
	maxPacket int
	maxQoS    byte
	keepAlive time.Duration
	lastWrite time.Time
	lastRead  time.Time
	pinged    bool
	out       []byte // bytes that the kernel did not take yet
	flushing  bool
	scratch   []byte
}

func (c *Conn) settle(m *link.Message, o link.Outcome, code int, text string) {
	c.sink.Settled(m, time.Now().UnixNano(), o, code, text)
}

// Send takes a message over.
func (c *Conn) Send(m *link.Message) {
	c.mu.Lock()
	switch {
	case c.closed:
		c.settle(m, link.Unsent, 0, "the device had left")
	case len(c.waiting) >= c.link.cfg.Backlog:
		c.settle(m, link.Unsent, 0, fmt.Sprintf("the backlog of the device was full (%d messages)", c.link.cfg.Backlog))
	default:
		c.waiting = append(c.waiting, m)
		c.pump()
	}
	c.mu.Unlock()
}

// pump sends what waits, as far as connection and window allow.
func (c *Conn) pump() {
	n := 0
	for n < len(c.waiting) && c.nc != nil && len(c.out) < stuckOutput {
		m := c.waiting[n]
		if m.QoS > 0 && len(c.flights) >= c.window {
			break
		}
		n++
		c.publish(m)
	}
	if n > 0 {
		rest := copy(c.waiting, c.waiting[n:])
		clear(c.waiting[rest:])
		c.waiting = c.waiting[:rest]
		c.write()
	}
}

// publish encodes one message into scratch, to be written by write.
func (c *Conn) publish(m *link.Message) {
	if m.QoS > c.maxQoS {
		c.settle(m, link.Unsent, 0, fmt.Sprintf("the broker takes QoS %d at most, the message has QoS %d", c.maxQoS, m.QoS))
		return
	}
	p := mqttwire.Publish{Topic: m.Target, QoS: m.QoS, Retain: m.Retain, ContentType: m.ContentType,
		UserKey: m.MarkKey, UserVal: m.MarkValue, Payload: m.Body}
	if m.QoS > 0 {
		p.ID = c.freeID()
	}
	before := len(c.scratch)
	c.scratch = mqttwire.AppendPublish(c.scratch, byte(c.link.cfg.Version), &p)
	if size := len(c.scratch) - before; c.maxPacket > 0 && size > c.maxPacket {
		c.scratch = c.scratch[:before]
		c.settle(m, link.Unsent, 0, fmt.Sprintf("the packet has %d bytes, the broker takes %d at most", size, c.maxPacket))
		return
	}
	now := time.Now().UnixNano()
	c.sink.Sent(m, now)
	if m.QoS == 0 {
		c.sink.Settled(m, now, link.NotAsked, 0, "")
		return
	}
	c.flights = append(c.flights, flight{id: p.ID, m: m})
}

// freeID is a packet identifier that no message in flight has (section 2.2.1).
func (c *Conn) freeID() uint16 {
	for {
		if c.nextID++; c.nextID == 0 {
			c.nextID = 1
		}
		used := false
		for i := range c.flights {
			used = used || c.flights[i].id == c.nextID
		}
		if !used {
			return c.nextID
		}
	}
}

// write hands scratch to the network without waiting.
func (c *Conn) write() {
	if len(c.scratch) == 0 || c.nc == nil {
		c.scratch = c.scratch[:0]
		return
	}
	c.lastWrite = time.Now()
	b := c.scratch
	c.scratch = c.scratch[:0]
	if !c.flushing {
		n, err := c.writer.write(b)
		if err != nil {
			c.nc.Close() // the reader sees it and brings the connection back
			return
		}
		b = b[n:]
		if len(b) == 0 {
			return
		}
		c.flushing = true
		go c.flush(c.nc)
	}
	c.out = append(c.out, b...)
}

// flush waits for the kernel to take what write could not hand over.
func (c *Conn) flush(nc net.Conn) {
	for {
		c.mu.Lock()
		if c.nc != nc || len(c.out) == 0 {
			if c.nc == nc {
				c.flushing = false
				c.pump()
			}
			c.mu.Unlock()
			return
		}
		b := c.out
		c.out = nil
		c.mu.Unlock()
		if _, err := nc.Write(b); err != nil {
			nc.Close()
			return
		}
	}
}

// Tick sends a PINGREQ when the connection was silent for the keep-alive time
// (section 3.1.2.10), and gives a connection up that does not answer it.
func (c *Conn) Tick(now time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	ka := c.keepAlive
	if c.nc == nil || ka == 0 {
		return c.link.cfg.KeepAlive / 2
	}
	if c.pinged && now.Sub(c.lastRead) > ka+ka/2 {
		c.nc.Close()
		return ka / 2
	}
	// Three quarters leave time for the packet to arrive.
	if now.Sub(c.lastWrite) >= ka*3/4 || !c.pinged && now.Sub(c.lastRead) >= ka*3/4 {
		c.scratch = mqttwire.AppendPing(c.scratch)
		c.pinged = true
		c.write()
	}
	return ka / 4
}

// Open is how many messages are not settled.
func (c *Conn) Open() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.flights) + len(c.waiting)
}

// Close disconnects and settles what is open.
func (c *Conn) Close() {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return
	}
	c.closed = true
	for _, f := range c.flights {
		text := "no acknowledgement before the end of the round"
		if f.taken {
			text = "PUBREC came, but no PUBCOMP before the end of the round"
		}
		c.settle(f.m, link.NoAnswer, 0, text)
	}
	for _, m := range c.waiting {
		c.settle(m, link.Unsent, 0, "still waiting for the connection at the end of the round")
	}
	c.flights, c.waiting = nil, nil
	if c.nc != nil {
		c.scratch = mqttwire.AppendDisconnect(c.scratch, byte(c.link.cfg.Version), true)
		c.write()
		// To close at once could throw away what the broker has not read yet:
		// the broker closes after DISCONNECT (section 3.14.4), or time ends it.
		nc := c.nc
		if half, ok := nc.(interface{ CloseWrite() error }); ok && !c.flushing {
			half.CloseWrite()
		}
		nc.SetDeadline(time.Now().Add(time.Second))
	}
	c.cancel()
	c.mu.Unlock()
}

// run keeps the connection up until Close.
func (c *Conn) run() {
	defer c.link.wg.Done()
	cfg := &c.link.cfg
	clean := cfg.CleanStart
	for try := 0; c.ctx.Err() == nil; {
		err := c.link.dials.Acquire(c.ctx, 1)
		if err != nil {
			return
		}
		nc, rd, ack, err := c.link.dial(c.ctx, c.link.connectPacket(c.id, clean), c.secure)
		c.link.dials.Release(1)
		if err == nil {
			began := time.Now()
			// In version 5 the session outlives the connection by its expiry;
			// in 3.1.1 only where the file did not ask for a clean one.
			clean = cfg.CleanStart && cfg.Version == mqttwire.V311
			c.up(nc, ack)
			err = c.read(rd)
			c.down(nc)
			if time.Since(began) > 5*time.Second {
				try = 0
			}
		}
		if c.ctx.Err() != nil {
			return
		}
		what := err.Error()
		var refused *RefusedError
		var disc *disconnectError
		if !errors.As(err, &refused) && !errors.As(err, &disc) && !errors.Is(err, mqttwire.ErrMalformed) {
			what, _ = link.Explain(err, cfg.Address)
		}
		c.sink.Down(c.id.Device, what)
		select {
		case <-c.ctx.Done():
		case <-time.After(link.BackOff(cfg.BackOff[0], cfg.BackOff[1], try)):
		}
		try++
	}
}

// up takes a new connection into use and sends again what was in flight.
func (c *Conn) up(nc net.Conn, ack *mqttwire.Packet) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		nc.Close()
		return
	}
	cfg := &c.link.cfg
	c.nc, c.out, c.flushing, c.pinged = nc, nil, false, false
	c.writer = newWriter(nc)
	c.lastRead = time.Now()
	c.lastWrite = c.lastRead
	c.window, c.maxQoS, c.maxPacket, c.keepAlive = cfg.InFlight, 2, int(ack.MaximumPacket), cfg.KeepAlive
	if ack.ReceiveMaximum > 0 {
		c.window = min(c.window, int(ack.ReceiveMaximum))
	}
	if ack.MaximumQoSSet {
		c.maxQoS = ack.MaximumQoS
	}
	if ack.KeepAliveSet {
		c.keepAlive = time.Duration(ack.ServerKeepAlive) * time.Second
	}
	c.sink.Up(c.id.Device)
	old := c.flights
	c.flights = nil
	for _, f := range old {
		switch {
		case f.taken && ack.SessionPresent:
			c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBREL, f.id)
			c.flights = append(c.flights, f)
		case f.taken:
			// The broker had taken it and forgot the session: to publish it
			// again could store it twice.
			c.settle(f.m, link.NoAnswer, 0, "PUBREC came, then the broker lost the session")
		case ack.SessionPresent:
			p := mqttwire.Publish{Topic: f.m.Target, ID: f.id, QoS: f.m.QoS, Dup: true, Retain: f.m.Retain,
				ContentType: f.m.ContentType, UserKey: f.m.MarkKey, UserVal: f.m.MarkValue, Payload: f.m.Body}
			c.scratch = mqttwire.AppendPublish(c.scratch, byte(cfg.Version), &p)
			f.again = true
			c.flights = append(c.flights, f)
			c.sink.Sent(f.m, time.Now().UnixNano())
		default:
			c.publish(f.m)
		}
	}
	c.write()
	c.pump()
}

func (c *Conn) down(nc net.Conn) {
	nc.Close()
	c.mu.Lock()
	c.nc, c.out, c.flushing = nil, nil, false
	c.mu.Unlock()
}

// disconnectError is a DISCONNECT from the broker (section 3.14).
type disconnectError struct{ reason string }

func (e *disconnectError) Error() string { return "the broker disconnected: " + e.reason }

// read handles what the broker sends until the connection ends.
func (c *Conn) read(rd *mqttwire.Reader) error {
	var p mqttwire.Packet
	for {
		if err := rd.Read(&p); err != nil {
			return err
		}
		c.mu.Lock()
		c.lastRead = time.Now()
		err := c.packet(&p)
		c.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

func (c *Conn) packet(p *mqttwire.Packet) error {
	switch p.Type {
	case mqttwire.PINGRESP:
		c.pinged = false
	case mqttwire.PUBACK, mqttwire.PUBREC, mqttwire.PUBCOMP:
		c.acknowledged(p)
		// Half a window is worth a write; the last ones must not wait.
		if 2*len(c.flights) <= c.window {
			c.pump()
		}
		c.write()
	case mqttwire.DISCONNECT:
		return &disconnectError{mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString)}
	case mqttwire.PUBLISH:
		// Devices do not subscribe; a session that another program left may
		// still bring messages. They are acknowledged and let go.
		if p.Publish.QoS == 1 {
			c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBACK, p.ID)
		} else if p.Publish.QoS == 2 {
			c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBREC, p.ID)
		}
		c.write()
	case mqttwire.PUBREL:
		c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBCOMP, p.ID)
		c.write()
	default:
		return fmt.Errorf("%w: %s is not for a device", mqttwire.ErrMalformed, mqttwire.Name(p.Type))
	}
	return nil
}

// acknowledged matches an acknowledgement to its message. One that matches
// nothing is let go: it may answer a message that was given up.
func (c *Conn) acknowledged(p *mqttwire.Packet) {
	at := -1
	for i := range c.flights {
		if c.flights[i].id == p.ID {
			at = i
			break
		}
	}
	if at < 0 {
		return
	}
	f := c.flights[at]
	reason := func() string { return mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString) }
	// Some brokers answer a repeated QoS 2 PUBLISH with "packet identifier in
	// use": they have taken it the first time.
	has := p.Type == mqttwire.PUBREC && f.again && p.Reason == 0x91
	switch {
	case p.Reason >= 0x80 && !has:
		c.settle(f.m, link.Refused, int(p.Reason), mqttwire.Name(p.Type)+" "+reason())
	case p.Type == mqttwire.PUBREC && f.m.QoS == 2:
		c.flights[at].taken = true
		c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBREL, p.ID)
		return
	case p.Type == mqttwire.PUBACK && f.m.QoS == 1, p.Type == mqttwire.PUBCOMP && f.taken:
		text := ""
		if p.Reason != 0 {
			text = reason()
		}
		c.settle(f.m, link.Accepted, int(p.Reason), text)
	default:
		return // an acknowledgement of the wrong kind acknowledges nothing
	}
	copy(c.flights[at:], c.flights[at+1:])
	c.flights[len(c.flights)-1] = flight{}
	c.flights = c.flights[:len(c.flights)-1]
}
