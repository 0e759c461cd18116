package mqtt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/outcome"
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
	home   Endpoint

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

	token     string
	timer     *time.Timer // for the token's end; nil: there is none
	draining  bool        // nothing new is sent, because the token runs out
	renewed   bool        // the connection was left for a new token
	aliases   map[string]uint16
	aliasMost int
	users     []mqttwire.UserProperty // scratch
	listens   bool                    // it has subscribed
	asking    map[uint16]string       // filters of subscriptions that wait for their answer
	taken     map[uint16]bool         // identifiers of QoS 2 messages that came and are not released
}

// leastStay keeps tokens that are hardly good for anything from making a device come
// and go without end.
const leastStay = 500 * time.Millisecond

// drainMost is how long a device waits for acknowledgements before it leaves a
// connection whose access token runs out.
const drainMost = 5 * time.Second

func (c *Conn) settle(m *link.Message, o outcome.Outcome, code int, text string) {
	c.sink.Settled(m, clock.Nano(), o, code, text)
}

// Send takes a message over.
func (c *Conn) Send(m *link.Message) {
	c.mu.Lock()
	switch {
	case c.closed:
		c.settle(m, outcome.Unsent, 0, "the device had left")
	case len(c.waiting) >= c.link.cfg.Backlog:
		c.settle(m, outcome.Unsent, 0, fmt.Sprintf("the backlog of the device was full (%d messages)", c.link.cfg.Backlog))
	default:
		c.waiting = append(c.waiting, m)
		c.pump()
	}
	c.mu.Unlock()
}

// pump sends what waits, as far as connection and window allow.
func (c *Conn) pump() {
	if c.draining {
		if len(c.flights) == 0 {
			c.leave()
		}
		return
	}
	n := 0
	for n < len(c.waiting) && c.nc != nil && len(c.out) < stuckOutput {
		m := c.waiting[n]
		if m.MQTT.QoS > 0 && len(c.flights) >= c.window {
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
	if m.MQTT.QoS > c.maxQoS {
		c.settle(m, outcome.Unsent, 0, fmt.Sprintf("the broker takes QoS %d at most, the message has QoS %d", c.maxQoS, m.MQTT.QoS))
		return
	}
	p := c.packetOf(m)
	fresh := c.alias(&p)
	if m.MQTT.QoS > 0 {
		p.ID = c.freeID()
	}
	before := len(c.scratch)
	c.scratch = mqttwire.AppendPublish(c.scratch, byte(c.link.cfg.Version), &p)
	if size := len(c.scratch) - before; c.maxPacket > 0 && size > c.maxPacket {
		c.scratch = c.scratch[:before]
		c.settle(m, outcome.Unsent, 0, fmt.Sprintf("the packet has %d bytes, the broker takes %d at most", size, c.maxPacket))
		return
	}
	if fresh {
		c.aliases[p.Topic] = p.Alias
	}
	now := clock.Nano()
	c.sink.Sent(m, now)
	if m.MQTT.QoS == 0 {
		c.sink.Settled(m, now, outcome.NotAsked, 0, "")
		return
	}
	c.flights = append(c.flights, flight{id: p.ID, m: m})
}

// packetOf is the PUBLISH of a message, but for its identifier. It is valid until
// the next call.
func (c *Conn) packetOf(m *link.Message) mqttwire.Publish {
	c.users = c.users[:0]
	for _, u := range m.MQTT.User {
		c.users = append(c.users, mqttwire.UserProperty{Key: u.Name, Value: u.Value})
	}
	return mqttwire.Publish{Topic: m.Target, QoS: m.MQTT.QoS, Retain: m.MQTT.Retain, ContentType: m.ContentType, Expiry: m.MQTT.Expiry, Correlation: m.MQTT.Correlation,
		UserKey: m.Mark.Name, UserVal: m.Mark.Value, User: c.users, Payload: m.Body}
}

// alias puts a number in place of a topic that was sent with it before, or gives
// it one; then it is fresh (section 3.3.2.3.4).
func (c *Conn) alias(p *mqttwire.Publish) (fresh bool) {
	if c.aliasMost == 0 {
		return false
	}
	if known, is := c.aliases[p.Topic]; is {
		p.Alias, p.Topic = known, ""
		return false
	}
	if len(c.aliases) >= c.aliasMost {
		return false
	}
	p.Alias = uint16(len(c.aliases) + 1)
	return true
}

// freeID is a packet identifier that no message in flight has (section 2.2.1).
func (c *Conn) freeID() uint16 {
	for {
		if c.nextID++; c.nextID == 0 {
			c.nextID = 1
		}
		_, used := c.asking[c.nextID]
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

// expire leaves a connection whose access token runs out, when all that was sent is
// acknowledged, or at the end of drainMost: most brokers cut it off otherwise.
func (c *Conn) expire(nc net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.nc != nc || c.closed:
	case c.draining || len(c.flights) == 0:
		c.leave()
	default:
		c.draining = true
		c.timer = time.AfterFunc(drainMost, func() { c.expire(nc) })
	}
}

// leave ends the connection, but not the session (section 3.14.4).
func (c *Conn) leave() {
	if c.renewed || c.nc == nil {
		return
	}
	c.renewed, c.draining = true, true // nothing may follow DISCONNECT
	c.scratch = mqttwire.AppendDisconnect(c.scratch, byte(c.link.cfg.Version), false)
	c.write()
	c.hangUp()
}

// hangUp lets the broker close the connection, or time.
func (c *Conn) hangUp() {
	// To close at once could throw away what the broker has not read yet: the
	// broker closes after DISCONNECT (section 3.14.4), or time ends it.
	if half, ok := c.nc.(interface{ CloseWrite() error }); ok && !c.flushing {
		half.CloseWrite()
	}
	c.nc.SetDeadline(time.Now().Add(time.Second))
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
		c.settle(f.m, outcome.NoAnswer, 0, text)
	}
	for _, m := range c.waiting {
		c.settle(m, outcome.Unsent, 0, "still waiting for the connection at the end of the round")
	}
	c.flights, c.waiting = nil, nil
	if c.nc != nil {
		c.scratch = mqttwire.AppendDisconnect(c.scratch, byte(c.link.cfg.Version), true)
		c.write()
		c.hangUp()
	}
	c.cancel()
	c.mu.Unlock()
}

// run keeps the connection up until Close.
func (c *Conn) run() {
	defer c.link.wg.Done()
	cfg := &c.link.cfg
	clean := cfg.CleanStart
	at, hops := c.home, 0
	for try := 0; c.ctx.Err() == nil; {
		if c.link.dials.Acquire(c.ctx, 1) != nil {
			return
		}
		token, renew, err := link.TokenOf(c.ctx, c.id.Tokens)
		var line *Line
		if err == nil {
			line, err = c.link.dial(c.ctx, c.link.connectPacket(c.id, token, clean), at.with(token))
		}
		c.link.dials.Release(1)
		renewed := false
		if err == nil {
			began := time.Now()
			hops = 0
			// In version 5 the session outlives the connection by its expiry;
			// in 3.1.1 only where the file did not ask for a clean one.
			clean = cfg.CleanStart && cfg.Version == mqttwire.V311
			c.up(line.Conn, line.Ack, token, renew)
			err = c.read(line.Reader)
			renewed = c.down(line.Conn)
			if time.Since(began) > 5*time.Second {
				try = 0
			}
		}
		if c.ctx.Err() != nil {
			return
		}
		if renewed {
			continue
		}
		reference := ""
		var refused *RefusedError
		var disc *disconnectError
		switch {
		case errors.As(err, &refused):
			reference = refused.Refers
		case errors.As(err, &disc):
			reference = disc.refers
		}
		if reference != "" && cfg.Redirects && hops < maxHops {
			at, hops = c.link.referred(at, reference), hops+1
			c.sink.Down(c.id.Device, err.Error())
			continue
		}
		at, hops = c.home, 0
		what := err.Error()
		if refused == nil && disc == nil && !errors.Is(err, mqttwire.ErrMalformed) {
			what, _ = link.Explain(err, cfg.Address)
		}
		c.sink.Down(c.id.Device, link.Hide(what, token))
		select {
		case <-c.ctx.Done():
		case <-time.After(link.BackOff(cfg.BackOff[0], cfg.BackOff[1], try)):
		}
		try++
	}
}

// up takes a new connection into use and sends again what was in flight.
func (c *Conn) up(nc net.Conn, ack *mqttwire.Packet, token string, renew time.Time) {
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
	c.token, c.draining = token, false
	if !renew.IsZero() {
		c.timer = time.AfterFunc(max(time.Until(renew), leastStay), func() { c.expire(nc) })
	}
	c.aliasMost = min(cfg.TopicAliases, int(ack.TopicAliasMaximum))
	if c.aliasMost > 0 {
		c.aliases = map[string]uint16{}
	}
	c.sink.Up(c.id.Device, c.renewed)
	c.renewed = false
	c.subscribe(ack.SessionPresent)
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
			c.settle(f.m, outcome.NoAnswer, 0, "PUBREC came, then the broker lost the session")
		case ack.SessionPresent:
			p := c.packetOf(f.m)
			p.ID, p.Dup = f.id, true
			c.scratch = mqttwire.AppendPublish(c.scratch, byte(cfg.Version), &p)
			f.again = true
			c.flights = append(c.flights, f)
			c.sink.Sent(f.m, clock.Nano())
		default:
			c.publish(f.m)
		}
	}
	c.write()
	c.pump()
}

// down puts the connection out of use, and tells whether it was left for a new
// access token.
func (c *Conn) down(nc net.Conn) bool {
	nc.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.nc, c.out, c.flushing, c.draining = nil, nil, false, false
	if c.timer != nil {
		c.timer.Stop()
	}
	return c.renewed
}

// subscribe subscribes to where commands come from (section 3.8). A session that the
// broker kept has the subscriptions of before; its QoS 2 messages may come again.
func (c *Conn) subscribe(kept bool) {
	if !kept {
		c.taken = nil
	}
	c.asking = nil
	if kept && c.listens { // to subscribe again would bring retained messages again
		return
	}
	c.listens = true
	for _, a := range c.id.Asks {
		if c.asking == nil {
			c.asking = map[uint16]string{}
		}
		id := c.freeID()
		c.asking[id] = a.Filter
		c.scratch = mqttwire.AppendSubscribe(c.scratch, byte(c.link.cfg.Version), id, a.Filter, a.QoS)
	}
}

// came takes a message in that the broker passed on.
func (c *Conn) came(p *mqttwire.Packet) {
	first := true
	switch p.Publish.QoS {
	case 1:
		c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBACK, p.ID)
	case 2:
		if first = !c.taken[p.ID]; first && c.taken == nil {
			c.taken = map[uint16]bool{}
		}
		if len(c.taken) < 65535 {
			c.taken[p.ID] = true
		}
		c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBREC, p.ID)
	}
	// A device without commands may still be brought messages, of a session that
	// another program left. They are acknowledged and let go.
	if first && len(c.id.Asks) > 0 && !c.closed {
		c.sink.Came(c.id.Device, &link.Incoming{At: clock.Nano(), Topic: p.Publish.Topic, Body: bytes.Clone(p.Publish.Payload),
			Response: p.Publish.ResponseTopic, Correlation: bytes.Clone(p.Publish.Correlation)})
	}
	c.write()
}

// disconnectError is a DISCONNECT from the broker (section 3.14).
type disconnectError struct{ reason, refers string }

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
		return &disconnectError{refers(mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString), p.ServerReference), p.ServerReference}
	case mqttwire.PUBLISH:
		c.came(p)
	case mqttwire.SUBACK:
		filter, asked := c.asking[p.ID]
		delete(c.asking, p.ID)
		why := ""
		if p.Reason >= 0x80 {
			why = mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString)
		}
		if asked {
			c.sink.Listens(c.id.Device, filter, why)
		}
	case mqttwire.PUBREL:
		delete(c.taken, p.ID)
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
		c.settle(f.m, outcome.Refused, int(p.Reason), link.Hide(mqttwire.Name(p.Type)+" "+reason(), c.token))
	case p.Type == mqttwire.PUBREC && f.m.MQTT.QoS == 2:
		c.flights[at].taken = true
		c.scratch = mqttwire.AppendAck(c.scratch, mqttwire.PUBREL, p.ID)
		return
	case p.Type == mqttwire.PUBACK && f.m.MQTT.QoS == 1, p.Type == mqttwire.PUBCOMP && f.taken:
		text := ""
		if p.Reason != 0 {
			text = link.Hide(reason(), c.token)
		}
		c.settle(f.m, outcome.Accepted, int(p.Reason), text)
	default:
		return // an acknowledgement of the wrong kind acknowledges nothing
	}
	copy(c.flights[at:], c.flights[at+1:])
	c.flights[len(c.flights)-1] = flight{}
	c.flights = c.flights[:len(c.flights)-1]
}
