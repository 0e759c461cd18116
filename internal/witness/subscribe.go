package witness

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttwire"
)

// maxMessage is the largest message a subscription takes, in bytes.
const maxMessage = 16 << 20

// subscriptionExpiry is how long a broker of version 5 keeps the subscription
// of a witness whose connection was lost.
const subscriptionExpiry = 300

// subscription is a listener that subscribes at a broker.
type subscription struct {
	spec    *crowd.Witness
	ear     *ear
	connect mqttwire.Connect
	broker  *mqtt.Guest

	writeMu  sync.Mutex
	nc       net.Conn
	renew    time.Time // when its access token has to be changed; zero: never
	leaving  bool      // for that
	lastRead time.Time
	pings    int       // PINGREQs sent on this connection, less the PINGRESPs that came
	pinged   time.Time // when the first of them was sent
	lagging  time.Time // since when its answers come late; zero: they do not
	cancel   context.CancelFunc
	done     chan struct{}
	wg       sync.WaitGroup  // of keepAlive
	pending  map[uint16]bool // QoS 2 packets taken and not released yet
	heard    message         // reused

	hearMu    sync.Mutex
	down      time.Time // since when it cannot hear; zero: it can
	why       string
	connected bool
	again     bool // it subscribed anew: retained messages of this run may come once more
}

func newSubscription(spec *crowd.Witness, c *Catalog) (*subscription, error) {
	own, err := c.Fleet.Credentials.Guest(spec.Link, spec.Name)
	if err != nil {
		return nil, err
	}
	s := &subscription{spec: spec, pending: map[uint16]bool{}, broker: own.Broker(spec.Link)}
	s.broker.Network = c.Network
	s.connect = mqttwire.Connect{Version: byte(spec.Link.Version), ClientID: "runcrowd-" + c.Run + "-" + spec.Name,
		KeepAlive: 30, CleanStart: true}
	if s.connect.Version == mqttwire.V5 {
		s.connect.SessionExpiry = subscriptionExpiry
	}
	return s, nil
}

// start connects and subscribes.
func (s *subscription) start(ctx Context, e *ear) error {
	s.ear = e
	rd, err := s.open(ctx)
	if err != nil {
		var refused *mqtt.SubscribeError
		if errors.As(err, &refused) {
			return &link.ReachError{Witness: s.spec.Name, Address: s.spec.Link.URL(), What: err.Error(), Try: "check that this user may subscribe", Err: err}
		}
		return mqtt.ReachError(s.spec.Link.Name, s.spec.Link.Scheme, s.spec.Link.Address, fmt.Sprintf("the witness %q", s.spec.Name), err)
	}
	run, cancel := context.WithCancel(context.Background())
	s.cancel, s.done = cancel, make(chan struct{})
	go s.listen(run, rd)
	s.wg.Go(func() { s.keepAlive(run) })
	return nil
}

// open connects and makes sure that the subscription stands.
func (s *subscription) open(ctx Context) (*mqttwire.Reader, error) {
	line, err := s.broker.Open(ctx, s.connect, mqtt.Sizes{Buffer: 64 << 10, Packet: maxMessage})
	if err != nil {
		return nil, err
	}
	s.writeMu.Lock()
	s.nc, s.lastRead, s.pings, s.renew, s.leaving = line.Conn, clock.Now(), 0, line.Renew, false
	s.writeMu.Unlock()
	kept := line.Ack.SessionPresent && s.connected
	if !kept {
		clear(s.pending)
		s.again = s.connected
		err := line.Subscribe(ctx, s.spec.Filter, s.spec.QoS, s.broker.Timeout, func(p *mqttwire.Packet) error {
			acks, err := s.packet(p, nil)
			if err == nil {
				err = s.acknowledge(line.Conn, acks)
			}
			return err
		})
		if err != nil {
			line.Conn.Close()
			return nil, err
		}
	}
	s.hearMu.Lock()
	if !s.down.IsZero() {
		s.ear.gap(&ledger.Gap{From: s.down, To: clock.Now(), Kept: kept, Why: s.why})
		s.down = time.Time{}
	}
	s.hearMu.Unlock()
	s.connected = true
	s.connect.CleanStart = s.connect.Version == mqttwire.V311
	return line.Reader, nil
}

// listen reads until stopped, and brings a lost connection back: sooner than
// devices do, so as to miss nothing of theirs.
func (s *subscription) listen(ctx Context, rd *mqttwire.Reader) {
	defer close(s.done)
	for {
		err := s.read(rd)
		if ctx.Err() != nil {
			return
		}
		s.hearMu.Lock()
		s.down = s.heardLast()
		s.why, _ = link.Explain(err, s.spec.Link.Address)
		s.writeMu.Lock()
		leaving := s.leaving
		s.writeMu.Unlock()
		if leaving {
			s.why = "it changed its access token for a new one"
		}
		s.hearMu.Unlock()
		for try := 0; ; try++ {
			if leaving && try == 0 {
				if rd, err = s.open(ctx); err == nil {
					break
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(link.BackOff(20*time.Millisecond, 200*time.Millisecond, try)):
			}
			if rd, err = s.open(ctx); err == nil {
				break
			}
			if ctx.Err() != nil {
				return
			}
		}
	}
}

func (s *subscription) read(rd *mqttwire.Reader) error {
	s.writeMu.Lock()
	nc := s.nc
	s.writeMu.Unlock()
	defer nc.Close()
	var p mqttwire.Packet
	var acks []byte
	for {
		if err := rd.Read(&p); err != nil {
			return err
		}
		s.writeMu.Lock()
		s.lastRead = clock.Now()
		s.writeMu.Unlock()
		var err error
		if acks, err = s.packet(&p, acks); err != nil {
			return err
		}
		// What came together is acknowledged together.
		if rd.Buffered() == 0 || len(acks) >= mostAcks {
			if err := s.acknowledge(nc, acks); err != nil {
				return err
			}
			acks = acks[:0]
		}
	}
}

// mostAcks is how many bytes of acknowledgements wait for the next packet.
const mostAcks = 1 << 10

// acknowledge writes acknowledgements.
func (s *subscription) acknowledge(nc net.Conn, acks []byte) error {
	if len(acks) == 0 {
		return nil
	}
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	if s.leaving { // behind DISCONNECT nothing may be sent; the broker asks again
		return nil
	}
	_, err := nc.Write(acks)
	return err
}

// heardLast is when the last packet came. A connection may have been dead since: what
// came out of the platform then was not heard, however late the cut was noticed.
func (s *subscription) heardLast() time.Time {
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	return s.lastRead
}

// packet handles one packet; its acknowledgement is appended to acks.
func (s *subscription) packet(p *mqttwire.Packet, acks []byte) ([]byte, error) {
	switch p.Type {
	case mqttwire.PUBLISH:
		switch {
		case p.Publish.QoS == 2 && s.pending[p.ID]:
			// The broker sent it again before it saw our PUBREC: not another copy.
		default:
			s.take(p)
		}
		switch p.Publish.QoS {
		case 1:
			acks = mqttwire.AppendAck(acks, mqttwire.PUBACK, p.ID)
		case 2:
			s.pending[p.ID] = true
			acks = mqttwire.AppendAck(acks, mqttwire.PUBREC, p.ID)
		}
	case mqttwire.PUBREL:
		delete(s.pending, p.ID)
		acks = mqttwire.AppendAck(acks, mqttwire.PUBCOMP, p.ID)
	case mqttwire.PINGRESP:
		s.answered()
	case mqttwire.DISCONNECT:
		return acks, fmt.Errorf("the broker disconnected: %s", mqttwire.Reason(p.Reason))
	}
	return acks, nil
}

// slow is how long the broker's answer to a ping may wait behind messages. A broker drops
// messages that wait too long for a subscriber, and tells nobody.
const slow = 500 * time.Millisecond

// answered takes the answer to a ping.
func (s *subscription) answered() {
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	s.pings = max(0, s.pings-1)
	now := clock.Now()
	switch late := now.Sub(s.pinged) > slow; {
	case late && s.lagging.IsZero():
		s.lagging = s.pinged.Add(-pingEvery)
	case !late && !s.lagging.IsZero():
		s.lagged(now)
		s.lagging = time.Time{}
	}
	s.pinged = now
}

// lagged notes that the witness lagged up to now. The caller holds writeMu.
func (s *subscription) lagged(now time.Time) {
	s.ear.gap(&ledger.Gap{From: s.lagging, To: now, Lag: true, Why: fmt.Sprintf("messages waited for it longer than %s, and a broker drops what waits too long", slow)})
}

// take hands a message to the ear.
func (s *subscription) take(p *mqttwire.Packet) {
	m := &s.heard
	*m = message{at: clock.Now(), topic: p.Publish.Topic, body: p.Publish.Payload, qos: p.Publish.QoS, retained: p.Publish.Retain,
		again: p.Publish.Dup && p.Publish.QoS == 1 || p.Publish.Retain && s.again}
	if len(p.UserProp) > 0 {
		m.beside = func(name string) (string, bool) {
			for _, u := range p.UserProp {
				if u.Key == name {
					return u.Value, true
				}
			}
			return "", false
		}
	}
	s.ear.take(m)
}

// pingEvery is how often the broker is asked whether it still answers.
const pingEvery = time.Second

// keepAlive pings and gives up a connection that does not answer.
func (s *subscription) keepAlive(ctx Context) {
	t := time.NewTicker(pingEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			s.writeMu.Lock()
			switch {
			case s.nc == nil:
			case !s.renew.IsZero() && time.Now().After(s.renew) && !s.leaving:
				// Before the broker cuts it off. The session stays (section 3.14.4).
				s.leaving = true
				s.nc.Write(mqttwire.AppendDisconnect(nil, s.connect.Version, false))
				// What is under way is still read; the broker closes (section 3.14.4.1).
				s.nc.SetReadDeadline(time.Now().Add(time.Second))
			case s.pings == 0 && !s.leaving:
				s.ping()
			case clock.Now().Sub(s.lastRead) > time.Duration(s.connect.KeepAlive)*3*time.Second/2:
				s.nc.Close()
			}
			s.writeMu.Unlock()
		}
	}
}

// ping sends a PINGREQ. The caller holds writeMu.
func (s *subscription) ping() {
	if s.pings++; s.pings == 1 {
		s.pinged = clock.Now()
	}
	s.nc.Write(mqttwire.AppendPing(nil)) // what fails here, fails in read too
}

// fence implements listener.
func (s *subscription) fence(ctx Context) bool {
	deadline := time.Now().Add(s.broker.Timeout)
	s.writeMu.Lock()
	asked := s.nc
	s.ping()
	s.writeMu.Unlock()
	for ctx.Err() == nil && time.Now().Before(deadline) {
		s.hearMu.Lock()
		up := s.down.IsZero()
		s.writeMu.Lock()
		reconnected := s.nc != asked
		if reconnected {
			asked = s.nc
			s.ping()
		}
		answered := up && s.pings == 0
		s.writeMu.Unlock()
		s.hearMu.Unlock()
		if answered {
			return true
		}
		sleep(ctx, 2*time.Millisecond)
	}
	return false
}

// state implements listener; a time in which messages came late is noted up to now.
func (s *subscription) state() (last, down time.Time, why string) {
	s.hearMu.Lock()
	defer s.hearMu.Unlock()
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	if !s.lagging.IsZero() {
		now := clock.Now()
		s.lagged(now)
		s.lagging = now
	}
	return s.lastRead, s.down, s.why
}

// stop disconnects and ends the subscription's session.
func (s *subscription) stop() {
	if s.cancel == nil {
		return
	}
	s.cancel()
	s.writeMu.Lock()
	if s.nc != nil {
		s.nc.SetWriteDeadline(time.Now().Add(time.Second))
		s.nc.Write(mqttwire.AppendDisconnect(nil, s.connect.Version, true))
		s.nc.Close()
	}
	s.writeMu.Unlock()
	<-s.done
	s.wg.Wait()
}
