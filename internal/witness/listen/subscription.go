package listen

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/guest"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// maxMessage is the largest message a subscription takes, in bytes.
const maxMessage = 16 << 20

// subscriptionExpiry is how long a broker of version 5 keeps the subscription
// of a witness whose connection was lost.
const subscriptionExpiry = 300

// subscription is a source that subscribes at a broker.
type subscription struct {
	spec     *crowd.Witness
	listener *listener
	connect  mqttwire.Connect
	broker   *mqtt.Guest
	line     *mqtt.Line
	granted  mqtt.Granted
	ack      mqttwire.Packet // of this connection; only what it says of the session
	heard    message         // reused
	cancel   context.CancelFunc
	done     chan struct{}
	wg       sync.WaitGroup // of keepAlive

	mu      sync.Mutex
	opened  int           // connections so far
	leaving bool          // to change the access token
	lagging time.Time     // since when pings are answered late; zero: they are not
	fastest time.Duration // answer to a ping
	suspect time.Time     // since when one was answered so late that messages may have waited; zero: not
	waited  int64         // messages that waited for it at most, since then
	since   int64         // messages before the last ping that was answered

	came   atomic.Int64 // messages so far
	pinged atomic.Int64 // of them before the last ping
	pongs  atomic.Int64 // answers to pings so far
	busy   atomic.Bool  // this machine kept us waiting
	soon   chan struct{}

	hearMu    sync.Mutex
	down      time.Time // since when it cannot hear; zero: it can
	why       string
	connected bool
	stands    bool                // the subscriptions are in the session
	taken     bool                // another client took the session over: what the broker kept went there
	ids       map[uint16]delivery // what came last under each packet identifier of the session
	again     bool                // it subscribed anew: retained messages of this run may come once more
}

// delivery is a message that came: a digest of it, and how many had come with it.
type delivery struct {
	digest uint64
	n      int64
}

func newSubscription(spec *crowd.Witness, c *match.Catalog) (*subscription, error) {
	own, err := c.Fleet.Credentials.Guest(spec.Link, spec.Name)
	if err != nil {
		return nil, err
	}
	s := &subscription{spec: spec, broker: guest.Broker(spec.Link, &own), soon: make(chan struct{}, 1)}
	s.broker.Network = c.Network
	id := "runcrowd-" + c.Run + "-" + spec.Name
	if p := c.Fleet.Part; !p.Whole() { // each part has its own
		id += fmt.Sprintf("-%d", p.N)
	}
	s.connect = mqttwire.Connect{Version: byte(spec.Link.Version), ClientID: id, KeepAlive: 30, CleanStart: true}
	if s.connect.Version == mqttwire.V5 {
		s.connect.SessionExpiry = subscriptionExpiry
	}
	s.line = mqtt.NewLine(mqttsession.Options{Connect: s.connect, InFlight: 1, MaxPacket: maxMessage,
		Timeout: spec.Link.Timeout}, s)
	return s, nil
}

// start connects and subscribes.
func (s *subscription) start(ctx hearing.Context, e *listener) error {
	s.listener = e
	if err := s.open(ctx); err != nil {
		var refused *mqtt.SubscribeError
		if errors.As(err, &refused) {
			return &link.ReachError{Witness: s.spec.Name, Address: s.spec.Link.URL(), What: err.Error(),
				Try: "check that this user may subscribe", Err: err}
		}
		err = mqtt.ReachError(s.spec.Link.Name, s.spec.Link.Scheme, s.spec.Link.Address,
			fmt.Sprintf("the witness %q", s.spec.Name), err)
		var reach *link.ReachError
		if mqtt.Unauthorized(err) && !s.spec.OwnUser && errors.As(err, &reach) {
			reach.Try = "it is no device: give the witness a user of its own, with username: and password:"
		}
		return err
	}
	run, cancel := context.WithCancel(context.Background())
	s.cancel, s.done = cancel, make(chan struct{})
	go s.listen(run)
	s.wg.Go(func() { s.keepAlive(run) })
	return nil
}

// open connects and makes sure that the subscription stands.
func (s *subscription) open(ctx hearing.Context) error {
	if err := s.broker.Open(ctx, s.line, s.connect); err != nil {
		return err
	}
	s.mu.Lock()
	s.opened++
	s.leaving = false
	s.mu.Unlock()
	stands := s.ack.SessionPresent && s.stands
	kept := stands && !s.taken
	if !stands {
		// A session that is lost before all of it is answered may stand with a part of it, or nothing.
		s.again, s.ids, s.stands = s.connected, nil, false
		asking, cancel := context.WithTimeout(ctx, s.broker.Timeout)
		options := s.spec.QoS
		if s.listener.record != nil && s.connect.Version == mqttwire.V5 {
			options |= mqttwire.AsPublished
		}
		defer cancel()
		for _, filter := range s.spec.Filters {
			if err := s.line.Subscribe(asking, filter, options, &s.granted); err != nil {
				s.line.Close()
				s.line.Lost()
				return err
			}
			if s.granted.Code < s.spec.QoS && !s.connected {
				s.listener.remark(fmt.Sprintf("the witness %q: the broker granted QoS %d for %s; QoS %d was asked for", s.spec.Name,
					s.granted.Code, filter, s.spec.QoS))
			}
		}
	}
	s.stands, s.taken = true, false
	s.hearMu.Lock()
	if !s.down.IsZero() {
		s.listener.gap(&ledger.Gap{From: s.down, To: clock.Now(), Kept: kept, Why: s.why})
		s.down = time.Time{}
	}
	s.hearMu.Unlock()
	s.connected = true
	s.connect.CleanStart = s.connect.Version == mqttwire.V311
	return nil
}

// listen reads until stopped, and brings a lost connection back: sooner than
// devices do, so as to miss nothing of theirs.
func (s *subscription) listen(ctx hearing.Context) {
	defer close(s.done)
	for {
		var err error
		for err == nil {
			err = s.line.Read()
		}
		s.line.Close()
		if ctx.Err() != nil {
			return
		}
		if gone, is := errors.AsType[*mqttsession.DisconnectError](err); is && gone.Code == takenOver {
			s.taken = true
		}
		s.mu.Lock()
		leaving := s.leaving
		s.opened++
		s.mu.Unlock()
		s.hearMu.Lock()
		s.down = s.line.LastIn()
		s.why, _ = link.Explain(err, s.spec.Link.Address)
		if leaving {
			s.why = "it changed its access token for a new one"
		}
		s.hearMu.Unlock()
		s.line.Lost()
		for try := 0; ; try++ {
			if leaving && try == 0 {
				if err = s.open(ctx); err == nil {
					break
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(link.BackOff(20*time.Millisecond, 200*time.Millisecond, try)):
			}
			if err = s.open(ctx); err == nil {
				break
			}
			if ctx.Err() != nil {
				return
			}
		}
	}
}

// times is how often the connection was opened and lost.
func (s *subscription) times() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.opened
}

// Up implements mqttsession.Handler.
func (s *subscription) Up(ack *mqttwire.Packet) {
	s.ack = mqttwire.Packet{SessionPresent: ack.SessionPresent}
}

// Came implements mqttsession.Handler.
func (s *subscription) Came(p *mqttwire.Packet) {
	s.came.Add(1)
	s.take(p)
}

// TooLarge implements mqttsession.Handler: what came was not looked at.
func (s *subscription) TooLarge(topic string, size int) {
	now := clock.Now()
	s.listener.gap(&ledger.Gap{From: now, To: now, Why: fmt.Sprintf("a message of %d bytes came on %s: it takes %d at "+
		"most", size, topic, maxMessage)})
}

// Subscribed implements mqttsession.Handler.
func (s *subscription) Subscribed(id uint16, p *mqttwire.Packet) { s.granted.Take(id, p) }

// Sent implements mqttsession.Handler: nothing is published here.
func (s *subscription) Sent(mqttsession.Message, mqttsession.Sending) {}

// Settled implements mqttsession.Handler.
func (s *subscription) Settled(mqttsession.Message, mqttsession.Result) {}

// slow is how long the broker's answer to a ping may wait behind messages; a fifth of it, where
// so many came as the broker keeps for a subscriber. What is more it drops, and tells nobody.
const slow = 500 * time.Millisecond

// Ponged implements mqttsession.Handler.
func (s *subscription) Ponged(_ int, took time.Duration) {
	s.pongs.Add(1)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := clock.Now()
	// What waited while a ping was on its way came before the answer to the next one.
	waited := s.came.Load() - s.since
	if took > slow/5 && s.suspect.IsZero() {
		s.suspect = now.Add(-took - pingEvery)
	}
	late := took > slow || !s.suspect.IsZero() && waited >= int64(s.spec.Queue)
	if late || !s.lagging.IsZero() {
		s.waited = max(s.waited, waited)
	}
	s.since = s.pinged.Load()
	if late || took > slow/5 {
		select {
		case s.soon <- struct{}{}: // soon, or more comes meanwhile
		default:
		}
	}
	if s.fastest == 0 || took < s.fastest {
		s.fastest = max(took, 1) // 0: none came yet
	}
	switch {
	case late && s.lagging.IsZero():
		s.lagging = s.suspect
	case !late && s.lagging.IsZero() && took-s.fastest > slow/5:
		// Too short for a queue to fill: but what came meanwhile may have been in time.
		s.listener.gap(&ledger.Gap{From: now.Add(-took - pingEvery), To: now, Lag: true, Whole: true,
			Why: fmt.Sprintf("an answer to a ping took %s, and what came meanwhile waited", took.Round(time.Millisecond))})
	case !late && !s.lagging.IsZero():
		s.lagged(now)
		s.lagging, s.waited = time.Time{}, 0
		s.busy.Store(false)
	}
	if took <= slow/5 {
		s.suspect = time.Time{}
	}
}

// lagged notes that the witness lagged up to now. The caller holds mu.
func (s *subscription) lagged(now time.Time) {
	why := fmt.Sprintf("up to %d messages waited for it, for some time", s.waited)
	if s.waited == 0 {
		why = "its broker answered late, and no message waited"
	}
	if s.busy.Load() {
		why += ", because this machine was busy"
	}
	whole := s.waited < int64(s.spec.Queue)
	if !whole {
		why += fmt.Sprintf("; a broker may drop what is more than %d (queue)", s.spec.Queue)
	}
	s.listener.gap(&ledger.Gap{From: s.lagging, To: now, Lag: true, Whole: whole, Why: why})
}

// redelivered tells whether a message of QoS 1 is one that came before, and is delivered again
// because the broker did not get our acknowledgement: it says so (DUP), and comes under the same
// packet identifier (MQTT 5, section 4.4). One that says so and did not come under it may never
// have been heard: brokers say it also of what they had written to a connection that was dead.
// So may one whose identifier is free again: the broker answered a ping that we sent after our
// acknowledgement.
func (s *subscription) redelivered(p *mqttwire.Packet) (again, perhaps bool) {
	if p.Publish.QoS != 1 {
		return false, false
	}
	h := fnv.New64a()
	h.Write([]byte(p.Publish.Topic))
	h.Write([]byte{0})
	h.Write(p.Publish.Payload)
	digest := h.Sum64()
	if s.ids == nil {
		s.ids = map[uint16]delivery{}
	}
	before, came := s.ids[p.ID]
	s.ids[p.ID] = delivery{digest, s.came.Load()}
	if !p.Publish.Dup {
		return false, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	again = came && before.digest == digest && before.n > s.since
	return again, !again
}

// take hands a message to the listener.
func (s *subscription) take(p *mqttwire.Packet) {
	again, perhaps := s.redelivered(p)
	m := &s.heard
	*m = message{at: clock.Now(), topic: p.Publish.Topic, body: p.Publish.Payload, qos: p.Publish.QoS,
		retained: p.Publish.Retain,
		kind:     p.Publish.ContentType, user: p.UserProp,
		response: p.Publish.ResponseTopic, correlation: p.Publish.Correlation, expiry: p.Publish.Expiry, utf8: p.Publish.UTF8,
		again: again || p.Publish.Retain && s.again, perhaps: perhaps}
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
	s.listener.take(m)
}

// takenOver is the reason of a broker that gave a session to another client (MQTT 5, section 3.14.2.1).
const takenOver = 0x8e

// pingEvery is how often the broker is asked whether it still answers.
const pingEvery = 250 * time.Millisecond

// keepAlive pings, obeys the keep-alive time, and gives up a connection that does not answer.
func (s *subscription) keepAlive(ctx hearing.Context) {
	t := time.NewTicker(pingEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case due := <-t.C:
			if time.Since(due) > slow/2 {
				s.busy.Store(true)
			}
		case <-s.soon:
		}
		renew := s.line.Renew()
		s.mu.Lock()
		leaves := !renew.IsZero() && time.Now().After(renew) && !s.leaving
		s.leaving = s.leaving || leaves
		s.mu.Unlock()
		if leaves {
			s.line.Leave(false) // before the broker cuts it off; the session stays (section 3.14.4)
			continue
		}
		err := s.line.Do(func(x *mqttsession.Session, now time.Time) error {
			if n, _ := x.Pings(); n == 0 {
				s.pinged.Store(s.came.Load())
				x.Ping(now)
			}
			_, err := x.Tick(now)
			return err
		})
		if errors.Is(err, mqttsession.ErrSilent) {
			s.line.Close()
		}
	}
}

// fence implements source.
func (s *subscription) fence(ctx hearing.Context) bool {
	deadline := time.Now().Add(s.spec.Link.Timeout * 9 / 10) // then the session gives the connection up
	asked, ours := -1, int64(0)
	for ctx.Err() == nil && time.Now().Before(deadline) {
		s.hearMu.Lock()
		up := s.down.IsZero()
		s.hearMu.Unlock()
		times := s.times()
		again := times != asked
		asked = times
		answered := false
		s.line.Do(func(x *mqttsession.Session, now time.Time) error {
			// Another ping may be on its way at any time: ours is answered after those before it.
			answered = up && !again && s.pongs.Load() >= ours && x.State() == mqttsession.Connected
			if again {
				n, _ := x.Pings()
				if n == 0 {
					s.pinged.Store(s.came.Load())
				}
				x.Ping(now)
				ours = s.pongs.Load() + int64(n) + 1
			}
			return nil
		})
		if answered && times == s.times() {
			return true
		}
		hearing.Sleep(ctx, 2*time.Millisecond)
	}
	return false
}

// state implements source; a time in which messages came late is noted up to now.
func (s *subscription) state() (last, down time.Time, why string) {
	last = s.line.LastIn()
	s.hearMu.Lock()
	defer s.hearMu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.lagging.IsZero() {
		now := clock.Now()
		s.lagged(now)
		s.lagging = now
	}
	return last, s.down, s.why
}

// lost implements source.
func (*subscription) lost() string { return "the subscription was lost: " }

// stop disconnects and ends the subscription's session.
func (s *subscription) stop() {
	if s.cancel == nil {
		return
	}
	s.cancel()
	s.line.Leave(true)
	s.line.Close()
	<-s.done
	s.wg.Wait()
}
