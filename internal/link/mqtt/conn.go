package mqtt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/outcome"
)

// Conn is one device's connection.
type Conn struct {
	link   *Link
	id     link.Identity
	ctx    context.Context
	cancel context.CancelFunc
	home   Endpoint

	mu       sync.Mutex
	sink     link.Sink // nil until a device takes it over
	s        *mqttsession.Session
	nc       net.Conn // nil while down
	writer   *writer
	out      []byte // bytes that the kernel did not take yet
	flushing bool
	lost     bool // nc is of no use any more, though its end was not read yet
	closed   bool
	last     bool // it was closed for good
	waiting  []*link.Message

	token    string
	renew    time.Time   // when the token has to be changed; zero: never
	timer    *time.Timer // for that
	draining bool        // nothing new is sent, because the token runs out
	renewed  bool        // the connection was left for a new token
	listens  bool        // its subscriptions were answered in this session
	fresh    bool        // it has to subscribe
	asking   map[uint16]asking
	blame    blame

	wake  chan struct{} // wakes it where it waits to connect again
	over  chan struct{} // closed when its goroutine is at its end
	early chan chunk    // what Watch's goroutine reads; nil: nobody does
	seen  []chunk       // of that, looked at by Watch
}

// asking is a subscription that waits for its answer.
type asking struct {
	filter string
	qos    byte
}

// leastStay keeps tokens that are hardly good for anything from making a device come
// and go without end.
const leastStay = 500 * time.Millisecond

// drainMost is how long a device waits for acknowledgements before it leaves a
// connection whose access token runs out.
const drainMost = 5 * time.Second

// hangUpMost is how long a broker may take to close a connection that a device has left, and
// comes back from.
const hangUpMost = 5 * time.Second

// request is a message as the session asks for it.
type request link.Message

// Fill implements mqttsession.Message.
func (m *request) Fill(p *mqttwire.Publish) {
	users := p.User
	*p = mqttwire.Publish{Topic: m.Target, QoS: m.MQTT.QoS, Retain: m.MQTT.Retain, ContentType: m.ContentType,
		Expiry: m.MQTT.Expiry, Correlation: m.MQTT.Correlation,
		ResponseTopic: m.MQTT.Response, UTF8: m.MQTT.UTF8,
		UserKey: m.Mark.Name, UserVal: m.Mark.Value, User: users[:0], Payload: m.Body}
	for _, u := range m.MQTT.User {
		p.User = append(p.User, mqttwire.UserProperty{Key: u.Name, Value: u.Value})
	}
}

func (c *Conn) settle(m *link.Message, o outcome.Outcome, code int, text string) {
	c.sink.Settled(m, clock.Nano(), o, code, text)
}

// Send takes a message over.
func (c *Conn) Send(m *link.Message) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.closed:
		c.settle(m, outcome.Unsent, 0, "the device had left")
	case c.blame.held[m.Stream] != "":
		c.settle(m, outcome.Unsent, 0, c.blame.held[m.Stream])
	case len(c.waiting) >= c.link.cfg.Backlog:
		c.settle(m, outcome.Unsent, 0, fmt.Sprintf("the backlog of the device was full (%d messages)", c.link.cfg.Backlog))
	default:
		c.waiting = append(c.waiting, m)
		c.pump()
		c.write()
	}
}

// pump sends what waits, as far as connection and window allow.
func (c *Conn) pump() {
	if c.draining {
		if c.s.InFlight() == 0 {
			c.leave()
		}
		return
	}
	n := 0
	for n < len(c.waiting) && c.nc != nil && !c.lost && len(c.out) < stuckOutput {
		m := c.waiting[n]
		if !c.s.Room(m.MQTT.QoS) || c.blame.alone && c.s.InFlight() > 0 {
			break
		}
		n++
		if held := c.blame.held[m.Stream]; held != "" {
			c.settle(m, outcome.Unsent, 0, held)
			continue
		}
		stream, seq, qos := m.Stream, m.Seq, m.MQTT.QoS // QoS 0: it is the sink's at once
		c.s.Publish(clock.Now(), (*request)(m))
		if c.blame.sent(stream, seq, qos) {
			c.s.Ping(clock.Now()) // its answer shows that the message was taken
		}
	}
	if n > 0 {
		rest := copy(c.waiting, c.waiting[n:])
		clear(c.waiting[rest:])
		c.waiting = c.waiting[:rest]
	}
}

// write hands what the session has to say to the network without waiting.
func (c *Conn) write() {
	b := c.s.Output()
	if len(b) == 0 || c.nc == nil {
		return
	}
	if !c.flushing {
		n, err := c.writer.write(b)
		if err != nil {
			c.lost = true
			c.nc.Close() // the reader sees it and brings the connection back
			return
		}
		if n == len(b) {
			c.s.Recycle(b)
			return
		}
		b = b[n:]
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
				c.write()
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

// Tick does what is due by the clock, and gives a connection up that is dead.
func (c *Conn) Tick(now time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.nc == nil || c.s.State() != mqttsession.Connected {
		return max(c.link.cfg.Timeout/2, time.Second)
	}
	wait, err := c.s.Tick(now)
	if err != nil {
		c.blame.silent = true
		c.nc.Close()
		return c.link.cfg.Timeout / 2
	}
	c.write()
	return max(wait, 10*time.Millisecond)
}

// expire leaves a connection whose access token runs out, when all that was sent is
// acknowledged, or at the end of drainMost: most brokers cut it off otherwise.
func (c *Conn) expire(nc net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case c.nc != nc || c.closed:
	case c.draining || c.s.InFlight() == 0:
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
	c.renewed, c.draining = true, true
	c.s.Leave(false)
	c.write()
	c.hangUp(hangUpMost)
}

// hangUp lets the broker close the connection, or time: more of it where the device comes
// back and would take the place of this connection.
func (c *Conn) hangUp(most time.Duration) {
	// To close at once could throw away what the broker has not read yet: the
	// broker closes after DISCONNECT (section 3.14.4), or time ends it.
	if half, ok := c.nc.(interface{ CloseWrite() error }); ok && !c.flushing {
		half.CloseWrite()
	}
	c.nc.SetDeadline(time.Now().Add(most))
}

// Open is how many messages are not settled.
func (c *Conn) Open() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.s.InFlight() + len(c.waiting)
}

// Close disconnects and settles what is open.
func (c *Conn) Close(last bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return
	}
	c.closed, c.last = true, last
	kept := c.s.Kept()
	left := c.s.GiveUp(func(m mqttsession.Message, _ byte, released bool) {
		text := "no acknowledgement before the end of the round"
		if released {
			text = "PUBREC came, but no PUBCOMP before the end of the round"
		}
		c.settle((*link.Message)(m.(*request)), outcome.NoAnswer, 0, text)
	})
	for _, m := range c.waiting {
		c.settle(m, outcome.Unsent, 0, c.whyWaiting())
	}
	c.waiting = nil
	ends := last && c.link.cfg.EndSession && (c.nc != nil || c.link.cfg.Version == mqttwire.V311)
	if kept && !ends && !c.id.Stranger {
		c.link.keep(c.id.ClientID, &leaving{left, c.listens}, last)
	}
	most := time.Second
	if !last {
		most = hangUpMost
		if c.nc != nil {
			c.link.end(c, false)
		}
	}
	c.goodbye(ends, most)
	c.cancel()
}

// Wake makes it try again at once, where it waits to connect.
func (c *Conn) Wake() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Lost keeps what waits for the next connection.
func (c *Conn) Lost() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lost = c.nc != nil
}

// whyWaiting tells why a message did not leave.
func (c *Conn) whyWaiting() string {
	if c.nc != nil && c.s.State() == mqttsession.Connected {
		return "still waiting at the end of the round: the broker had not acknowledged enough of the messages before it"
	}
	return "still waiting for the connection at the end of the round"
}

// goodbye sends DISCONNECT; end also ends the session.
func (c *Conn) goodbye(end bool, most time.Duration) {
	if c.nc == nil {
		return
	}
	c.s.Leave(end)
	c.write()
	c.hangUp(most)
}

// abandon closes a connection that nobody has taken over.
func (c *Conn) abandon() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	if nc := c.nc; nc != nil {
		c.goodbye(c.link.cfg.EndSession, time.Second)
		c.link.wg.Go(func() { // nobody reads it: until the broker closes it, or time does
			io.Copy(io.Discard, nc)
			nc.Close()
		})
	}
	c.cancel()
}

// adopt gives the connection to a device.
func (c *Conn) adopt(id link.Identity, sink link.Sink) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.id, c.sink = id, sink
	if c.nc != nil { // Try has opened it
		c.announce()
		c.after()
	}
}

// first opens the first connection for Try; at is where that was.
func (c *Conn) first(ctx context.Context) (token string, at Endpoint, err error) {
	at = c.home
	for hops := 0; ; hops++ {
		if token, err = c.open(ctx, at, true); err == nil {
			return token, at, nil
		}
		refused, is := errors.AsType[*mqttsession.RefusedError](err)
		if !is || refused.Refers == "" || !c.link.cfg.Redirects || hops == maxHops {
			return token, at, err
		}
		at = c.link.referred(at, refused.Refers)
	}
}

// open opens a connection and exchanges CONNECT and CONNACK (section 3.2). Bare: nothing
// behind CONNACK is read.
func (c *Conn) open(ctx context.Context, at Endpoint, bare bool) (token string, err error) {
	token, renew, err := link.TokenOf(ctx, c.id.Tokens)
	if err != nil {
		return token, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.link.cfg.ConnectTimeout)
	defer cancel()
	at = at.with(token)
	nc, err := at.Dial(ctx)
	if err != nil {
		return token, err
	}
	err = c.Shake(ctx, nc, token, renew, bare)
	if errors.As(err, new(*mqttsession.UnknownSessionError)) { // what an earlier process left: it is begun anew
		c.down(nc, nil)
		if nc, err = at.Dial(ctx); err != nil {
			return token, err
		}
		err = c.Shake(ctx, nc, token, renew, bare)
	}
	if err != nil {
		c.down(nc, nil)
		return token, &handshakeError{err}
	}
	return token, nil
}

// Shake exchanges CONNECT and CONNACK on an open network connection. Bare: nothing behind
// CONNACK is read.
func (c *Conn) Shake(ctx context.Context, nc net.Conn, token string, renew time.Time, bare bool) error {
	c.mu.Lock()
	cfg := &c.link.cfg
	c.nc, c.out, c.flushing, c.lost, c.writer = nc, nil, false, false, newWriter(nc)
	c.token, c.renew, c.draining = token, renew, false
	// In version 3.1.1 a clean session ends with its connection; in version 5 the
	// session outlives it, and clean_start is for the first connection.
	clean := cfg.CleanStart && !c.s.Kept() || c.s.Unknown()
	err := c.s.Open(clock.Now(), c.link.connectPacket(c.id, token, clean))
	if err == nil {
		c.write()
	}
	c.mu.Unlock()
	if err != nil {
		return err
	}
	unhook := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	var one [1]byte
	buf := one[:]
	if !bare {
		buf = make([]byte, readMost)
	}
	for up := false; !up; {
		n, err := nc.Read(buf)
		c.mu.Lock()
		var bad error
		if n > 0 {
			bad = c.receive(buf[:n])
		}
		up = c.s.State() == mqttsession.Connected
		c.mu.Unlock()
		switch {
		case bad != nil:
			return bad
		case up:
		case errors.Is(err, io.EOF):
			return io.ErrUnexpectedEOF
		case err != nil:
			return err
		}
	}
	if !unhook() {
		return ctx.Err()
	}
	nc.SetDeadline(time.Time{})
	c.mu.Lock()
	if c.closed { // meanwhile
		nc.SetDeadline(time.Now().Add(time.Second))
	}
	c.mu.Unlock()
	return nil
}

// Ack is the CONNACK that the connection began with.
func (c *Conn) Ack() *mqttwire.Packet {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.s.Ack()
}

// chunk is what one read gave.
type chunk struct {
	b   []byte
	err error
}

// Watch looks for a while whether the broker ends a connection that waits for Connect.
// What else comes is kept for the device.
func (c *Conn) Watch(d time.Duration) error {
	early, nc := make(chan chunk, 64), c.nc
	c.early = early
	go func() {
		for {
			buf := make([]byte, readMost)
			n, err := nc.Read(buf)
			select {
			case early <- chunk{buf[:n], err}:
			case <-c.ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	var came []byte
	for timeout := time.After(d); ; {
		select {
		case x := <-early:
			c.seen = append(c.seen, x)
			came = append(came, x.b...)
			if x.err != nil {
				return x.err
			}
			var p mqttwire.Packet
			for rest := came; len(rest) > 0; {
				first, body, size, _, err := mqttwire.Frame(rest, byte(c.link.cfg.Version))
				if err != nil || size == 0 {
					break
				}
				if first>>4 == mqttwire.DISCONNECT && mqttwire.Decode(&p, byte(c.link.cfg.Version), first, body) == nil {
					return &mqttsession.DisconnectError{Code: p.Reason, Said: p.ReasonString, Refers: p.ServerReference}
				}
				rest = rest[size:]
			}
		case <-timeout:
			return nil
		}
	}
}

// readEarly reads what Watch has read first.
func (c *Conn) readEarly() chunk {
	if len(c.seen) > 0 {
		x := c.seen[0]
		c.seen = c.seen[1:]
		return x
	}
	select {
	case x := <-c.early:
		return x
	case <-c.ctx.Done():
		return chunk{err: net.ErrClosed}
	}
}

// readMost is how much is read at once, in bytes: acknowledgements are small, and so is
// the buffer, one a device.
const readMost = 512

// run keeps the connection there until it is closed.
func (c *Conn) run() {
	defer c.link.wg.Done()
	defer func() {
		c.link.end(c, true)
		close(c.over)
	}()
	if c.nc == nil {
		c.follow()
	}
	cfg := &c.link.cfg
	at, hops := c.home, 0
	opened := c.nc != nil
	for try := 0; c.ctx.Err() == nil; {
		var token string
		var err error
		if !opened {
			if c.link.dials.Acquire(c.ctx, 1) != nil {
				return
			}
			// In a goroutine of its own: dialling needs a deep stack, which this one, that reads as
			// long as the device is there, would keep.
			done := make(chan struct{})
			go func() {
				defer close(done)
				token, err = c.open(c.ctx, at, false)
			}()
			<-done
			c.link.dials.Release(1)
		}
		opened = false
		renewed, early := false, err != nil
		var loss link.Loss
		if err == nil {
			began := time.Now()
			hops = 0
			nc := c.nc
			err = c.read(nc)
			var passed bool
			loss, renewed, passed = c.down(nc, err)
			if time.Since(began) > 5*time.Second || passed {
				try = 0
			}
			token = c.token
		}
		if c.ctx.Err() != nil {
			break
		}
		if renewed {
			continue
		}
		reference := ""
		refused, _ := errors.AsType[*mqttsession.RefusedError](err)
		gone, _ := errors.AsType[*mqttsession.DisconnectError](err)
		switch {
		case refused != nil:
			reference = refused.Refers
		case gone != nil:
			reference = gone.Refers
		}
		loss.Why = link.Hide(c.why(err), token)
		loss.Early, loss.Refused = early, refused != nil || link.Denied(err) || denied(err)
		if reference != "" && cfg.Redirects && hops < maxHops {
			at, hops = c.link.referred(at, reference), hops+1
			c.sink.Down(c.id.Device, loss)
			continue
		}
		at, hops = c.home, 0
		c.sink.Down(c.id.Device, loss)
		select {
		case <-c.ctx.Done():
		case <-c.wake:
			try = -1
		case <-time.After(link.BackOff(cfg.BackOff[0], cfg.BackOff[1], try)):
		}
		try++
	}
	c.purge()
}

// follow waits until the connection that the device had before is at its end. A broker closes
// the older of two with the same client id (section 3.1.4), with what it has not read of it.
func (c *Conn) follow() {
	c.link.mu.Lock()
	before := c.link.ending[c.id.ClientID]
	c.link.mu.Unlock()
	if before != nil {
		select {
		case <-before.over:
		case <-c.ctx.Done():
		}
	}
}

// why tells a connection's end in words.
func (c *Conn) why(err error) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.blame.silent {
		c.blame.silent = false
		return fmt.Sprintf("the broker did not answer PINGREQ within %s: the connection was dead", c.link.cfg.Timeout)
	}
	var handshake *handshakeError
	what := ""
	switch {
	case errors.As(err, new(*mqttsession.RefusedError)), errors.As(err, new(*mqttsession.DisconnectError)), errors.As(err,
		new(*mqttsession.SessionError)), errors.Is(err, mqttwire.ErrMalformed):
		return err.Error()
	}
	what, _ = link.Explain(err, c.link.cfg.Address)
	if errors.As(err, &handshake) && !link.IsTLS(err) {
		what = "CONNECT got no answer: " + what
	}
	return what
}

// purge removes the session of a device that has left for good, where version 3.1.1 has no
// other way: a clean session takes its place (3.1.1, section 3.1.2.4).
func (c *Conn) purge() {
	c.mu.Lock()
	is := c.last && c.link.cfg.EndSession && !c.link.cfg.CleanStart && c.link.cfg.Version == mqttwire.V311
	c.mu.Unlock()
	if is && !c.replace() {
		c.link.keep(c.id.ClientID, nil, true)
	}
}

// replace puts a clean session in the place of the device's, and leaves it.
func (c *Conn) replace() bool {
	ctx, cancel := context.WithTimeout(c.link.ctx, c.link.cfg.ConnectTimeout)
	defer cancel()
	token, _, err := link.TokenOf(ctx, c.id.Tokens)
	if err != nil {
		return false
	}
	connect := c.link.connectPacket(c.id, token, true)
	connect.Will = nil
	at := c.home.with(token)
	nc, err := at.Dial(ctx)
	if err != nil {
		return false
	}
	defer nc.Close()
	line := NewLine(mqttsession.Options{Connect: connect, InFlight: 1, MaxPacket: maxIncoming}, (*hearer)(nil))
	if err := line.Shake(ctx, nc, connect); err != nil {
		return false
	}
	line.Leave(true)
	for line.Read() == nil { // until the broker closes
	}
	return true
}

// read handles what the broker sends until the connection ends.
func (c *Conn) read(nc net.Conn) error {
	buf := make([]byte, readMost)
	early := c.early != nil // of this connection alone
	defer func() { c.early = nil }()
	for {
		var n int
		var err error
		if early {
			x := c.readEarly()
			n, err = copy(buf, x.b), x.err
		} else {
			n, err = nc.Read(buf)
		}
		if n > 0 {
			c.mu.Lock()
			bad := c.receive(buf[:n])
			c.mu.Unlock()
			if bad != nil {
				return bad
			}
		}
		if err != nil {
			return err
		}
	}
}

// receive hands bytes to the session, and sends what they make room for.
func (c *Conn) receive(b []byte) error {
	err := c.s.Receive(clock.Now(), b)
	c.after()
	return err
}

// after does what the session's calls have asked for.
func (c *Conn) after() {
	defer c.write()
	if c.sink == nil {
		return
	}
	if c.fresh {
		c.fresh = false
		c.subscribe()
	}
	if c.blame.alone && c.blame.suspect == nil {
		c.blame.alone = false
		c.s.OneByOne(false)
	}
	// Half a window is worth a write; the last ones must not wait.
	if c.draining || c.s.State() == mqttsession.Connected && 2*c.s.InFlight() <= c.s.Window() {
		c.pump()
	}
}

// down puts the connection out of use. It tells what is to be said of it, whether it was
// left for a new access token, and whether a message was acknowledged on it.
func (c *Conn) down(nc net.Conn, err error) (loss link.Loss, renewed, passed bool) {
	nc.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.nc != nc {
		return loss, false, false
	}
	if c.timer != nil {
		c.timer.Stop()
	}
	renewed, passed = c.renewed, c.blame.passed
	if err != nil && !renewed && !c.closed {
		loss = c.accuse(err)
	}
	c.blame.over()
	c.nc, c.out, c.flushing, c.draining, c.asking = nil, nil, false, false, nil
	c.s.Lost()
	return loss, renewed, passed
}

// subscribe subscribes to where commands come from (section 3.8).
func (c *Conn) subscribe() {
	c.asking = nil
	for _, a := range c.id.Asks {
		id, err := c.s.Subscribe(clock.Now(), a.Filter, a.QoS)
		if err != nil {
			c.sink.Listens(c.id.Device, a.Filter, err.Error())
			continue
		}
		if c.asking == nil {
			c.asking = map[uint16]asking{}
		}
		c.asking[id] = asking{a.Filter, a.QoS}
	}
	c.listens = false // until they are answered: a session that is lost before may stand without them
}

// announce tells the sink that the connection is there.
func (c *Conn) announce() {
	c.sink.Up(c.id.Device, c.renewed)
	c.renewed = false
	if !c.renew.IsZero() {
		nc := c.nc
		c.timer = time.AfterFunc(max(time.Until(c.renew), leastStay), func() { c.expire(nc) })
	}
}

// hearer hears the session of a Conn.
type hearer Conn

// Up implements mqttsession.Handler. A session that the broker kept has the subscriptions
// of before: to subscribe again would bring retained messages again.
func (h *hearer) Up(ack *mqttwire.Packet) {
	if h == nil {
		return
	}
	h.fresh = len(h.id.Asks) > 0 && !(ack.SessionPresent && h.listens)
	if h.sink != nil {
		(*Conn)(h).announce()
	}
}

// Sent implements mqttsession.Handler.
func (h *hearer) Sent(m mqttsession.Message, how mqttsession.Sending) {
	x := (*link.Message)(m.(*request))
	h.sink.Sent(x, clock.Nano(), how == mqttsession.Anew || how == mqttsession.Again &&
		(x.MQTT.QoS == 1 || h.s.Downgrades()))
	if how != mqttsession.First {
		h.blame.sent(x.Stream, x.Seq, x.MQTT.QoS)
	}
}

// asQoS1 is what is said of a message of QoS 2 that was answered with PUBACK.
const asQoS1 = "PUBACK came in place of PUBREC: the broker took a message of QoS 2 as QoS 1"

// Settled implements mqttsession.Handler.
func (h *hearer) Settled(m mqttsession.Message, r mqttsession.Result) {
	c := (*Conn)(h)
	x := (*link.Message)(m.(*request))
	defer c.blame.settled(x)
	reason := func() string {
		if r.Said == "" {
			return mqttwire.Reason(r.Code)
		}
		return link.Hide(mqttwire.Because(mqttwire.Reason(r.Code), r.Said), c.token)
	}
	switch r.Fate {
	case mqttsession.Unacked:
		c.settle(x, outcome.NotAsked, 0, "")
		return
	case mqttsession.Acknowledged:
		c.blame.taken(x)
		text := ""
		if r.Code != 0 {
			text = reason()
		}
		c.settle(x, outcome.Accepted, int(r.Code), text)
	case mqttsession.AsQoS1:
		c.blame.taken(x)
		if !c.blame.told {
			c.blame.told = true
			c.sink.Remark(c.id.Device, asQoS1)
		}
		c.settle(x, outcome.Accepted, int(r.Code), asQoS1)
	case mqttsession.Refused:
		c.blame.taken(x)
		c.settle(x, outcome.Refused, int(r.Code), mqttwire.Name(r.Packet)+" "+reason())
	case mqttsession.Unsendable:
		c.settle(x, outcome.Unsent, int(r.Code), r.Said)
	case mqttsession.Stranded:
		c.settle(x, outcome.NoAnswer, int(r.Code), "it was sent, and the connection was lost before an acknowledgement; it "+
			"could not be sent again: "+r.Said)
	case mqttsession.SessionGone:
		// To publish it again could store it twice.
		c.settle(x, outcome.NoAnswer, 0, "PUBREC came, then the broker lost the session")
	case mqttsession.Uncertain:
		c.settle(x, outcome.NoAnswer, 0, "it was sent, then the connection was lost, and with it the session: whether the "+
			"broker had taken it cannot be told, and to send it again could store it twice (QoS 2)")
	case mqttsession.SessionLeft:
		c.settle(x, outcome.NoAnswer, 0, "PUBREC came, then the connection was lost, and with it the session: it was a "+
			"clean one (clean_start)")
	}
}

// Came implements mqttsession.Handler. A device without commands may still be brought
// messages, of a session that another program left. They are let go.
func (h *hearer) Came(p *mqttwire.Packet) {
	if h == nil || len(h.id.Asks) == 0 || h.closed || h.sink == nil {
		return
	}
	h.sink.Came(h.id.Device, &link.Incoming{At: clock.Nano(), Topic: p.Publish.Topic, Body: bytes.Clone(p.Publish.Payload),
		Response: p.Publish.ResponseTopic, Correlation: bytes.Clone(p.Publish.Correlation)})
}

// TooLarge implements mqttsession.Handler.
func (h *hearer) TooLarge(topic string, size int) {
	if h != nil && h.sink != nil {
		h.sink.Remark(h.id.Device, fmt.Sprintf("a message of %d bytes came on %s, and was dropped: a device takes %d", size,
			topic, maxIncoming))
	}
}

// Subscribed implements mqttsession.Handler.
func (h *hearer) Subscribed(id uint16, p *mqttwire.Packet) {
	a, asked := h.asking[id]
	if !asked {
		return
	}
	delete(h.asking, id)
	h.listens = len(h.asking) == 0
	why := ""
	if p.Reason >= 0x80 {
		why = mqttwire.Because(mqttwire.Reason(p.Reason), p.ReasonString)
	} else if p.Reason < a.qos {
		h.sink.Remark(h.id.Device, fmt.Sprintf("the broker granted QoS %d for %s; QoS %d was asked for", p.Reason, a.filter,
			a.qos))
	}
	h.sink.Listens(h.id.Device, a.filter, why)
}

// Ponged implements mqttsession.Handler.
func (h *hearer) Ponged(pending int, _ time.Duration) {
	if h != nil && pending == 0 {
		h.blame.ponged()
	}
}
