// Package mqttsession is the client's side of MQTT as a machine without I/O: bytes and
// times go in; bytes, calls of a Handler and errors come out. It knows the whole of what
// the standards ask of a client that publishes and subscribes: version 3.1.1 (OASIS
// Standard, 29 October 2014) and version 5 (OASIS Standard, 7 March 2019). Section
// numbers in comments are those of version 5 unless another is named.
//
// A Session outlives its network connections, as the standard's session does:
//
//	s.Open(now, connect)     // a network connection is there: CONNECT is in Output
//	s.Receive(now, bytes)    // what the server sent; then write Output
//	s.Publish(now, message)  // while Room says so; then write Output
//	s.Tick(now)              // by the clock: keep-alive, a server that does not answer
//	s.Lost(now)              // the network connection is gone; Open brings the next one
//
// A Session is not for several goroutines at once, and its Handler must not call it.
package mqttsession

import (
	"errors"
	"fmt"
	"math"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/mqttwire"
)

// State is how far a network connection is.
type State uint8

// The states of a network connection (section 4.1, 4.13; non-normative in name).
const (
	Apart      State = iota // there is none
	Connecting              // CONNECT was sent, CONNACK is due (section 3.1.4)
	Connected               // CONNACK accepted
	Leaving                 // DISCONNECT was sent: nothing may follow it (section 3.14.4)
)

var stateNames = [...]string{"apart", "connecting", "connected", "leaving"}

func (s State) String() string { return stateNames[s] }

// Message is an application message to be published.
type Message interface {
	// Fill sets the packet but for its identifier and alias; it may reuse the memory of
	// User. It is called again for each sending; what it gives must stay the same.
	Fill(p *mqttwire.Publish)
}

// Sending is how a message is handed to the network.
type Sending uint8

// The ways of sending.
const (
	First Sending = iota // for the first time
	Again                // the same packet again, on a session that was kept (section 4.4)
	Anew                 // as a new packet: the server may store it a second time
)

// Fate is what became of a message.
type Fate uint8

// The fates.
const (
	Unacked      Fate = iota // QoS 0: there is no acknowledgement
	Acknowledged             // PUBACK, or PUBCOMP
	AsQoS1                   // PUBACK for a message of QoS 2
	Refused                  // an acknowledgement with a reason from 0x80 on
	Unsendable               // it was never sent: the server's limits, or the standard, do not allow it
	Stranded                 // it was sent, and may not be sent again on the new connection
	SessionGone              // PUBREC came, then the server had no session any more
	SessionLeft              // PUBREC came, then the session was left for a clean one of our own
	Uncertain                // QoS 2: PUBLISH was sent, and the session that knows whether it was taken is gone
)

// Result says what became of a message.
type Result struct {
	Fate   Fate
	Packet byte   // type of the acknowledgement
	Code   byte   // its reason
	Said   string // its reason string; or what keeps the message from being sent
}

// Handler hears what happens. Packets and what they point into are valid during the call.
type Handler interface {
	// Sent: the message is in Output; for the first time, or again.
	Sent(m Message, how Sending)
	// Settled: this became of the message; the session has let go of it.
	Settled(m Message, r Result)
	// Up: the server accepted the connection. Messages may be published, but what was
	// in flight before goes first, and is in Output when Receive returns.
	Up(ack *mqttwire.Packet)
	// Came: an application message, once for each that the protocol tells apart.
	Came(p *mqttwire.Packet)
	// TooLarge: the server sent a message of so many bytes, which is more than is taken
	// (version 3.1.1, where it cannot be told beforehand). It is acknowledged and dropped.
	TooLarge(topic string, size int)
	// Subscribed: the server answered a subscription.
	Subscribed(id uint16, p *mqttwire.Packet)
	// Ponged: PINGRESP came; pending is how many are still due, took how long the first of
	// those that were took.
	Ponged(pending int, took time.Duration)
}

// Options say what a session is like.
type Options struct {
	Connect      mqttwire.Connect
	InFlight     int           // most messages that wait for their acknowledgement
	TopicAliases int           // most topics that are sent as a number; version 5
	MaxPacket    int           // largest packet that is taken, in bytes
	Timeout      time.Duration // how long the server may leave a PINGREQ unanswered; half of it, an acknowledgement; 0: for ever
	FirstID      uint16        // the identifier before the first that is used; a random one keeps two clients of one id apart
	Exactly      bool          // it publishes messages of QoS 2
	Saved        *Saved        // what an earlier Session of this client left behind; nil: nothing
}

// Saved is what a session leaves behind when its owner gives it up, and the server keeps
// it: identifiers that must not be used for other messages, because the server would take
// those for the old ones (section 4.3.3).
type Saved struct {
	next     uint16
	spent    map[uint16]bool // PUBLISH was sent, of QoS 2
	released []uint16        // PUBREL was sent
	incoming map[uint16]bool
}

// flight is a message that was sent and is not acknowledged (section 4.1.0).
type flight struct {
	m       Message
	id      uint16
	qos     byte
	sent    bool // on this connection
	revived bool // it was in flight when the session was taken up again
	at      time.Time
}

// Session is one client's session. Make it with New.
type Session struct {
	opt Options
	h   Handler

	// The state of the session (section 4.1.0).
	had      bool     // there is a session that the server may have kept
	flights  []flight // PUBLISH was sent; in that order
	released []flight // PUBREC came, PUBREL was sent; in the order of the PUBRECs
	incoming map[uint16]bool
	spent    map[uint16]bool // identifiers that the server may still know for something else
	nextID   uint16
	unused   uint16 // so many identifiers after nextID are in no use

	// The network connection.
	state     State
	out       []byte
	in        []byte // a packet that is not whole yet
	skip      int    // bytes of a packet that is too large, still to come
	ack       mqttwire.Packet
	packet    mqttwire.Packet
	publish   mqttwire.Publish
	window    int
	keep      time.Duration
	lastOut   time.Time
	lastIn    time.Time
	pings     int
	pinged    time.Time // when the first of them was sent
	excused   time.Time // the end of a silence that was looked at too late,
	until     time.Time // and to when it may last in its place
	aliases   map[string]uint16
	aliasMax  int
	subs      map[uint16]bool // subscriptions that wait for their answer
	resuming  bool            // flights of before wait to be sent
	held      bool            // what was in flight waits for the answer to a ping
	single    bool            // messages go one by one
	unknown   bool            // the server has a session of which nothing is known
	downgrade bool            // the server answered PUBACK to a message of QoS 2
}

// New makes a session; nothing is connected.
func New(opt Options, h Handler) *Session {
	s := &Session{opt: opt, h: h, nextID: opt.FirstID}
	if opt.Saved != nil {
		s.nextID, s.spent, s.incoming, s.had = opt.Saved.next, opt.Saved.spent, opt.Saved.incoming, true
		for _, id := range opt.Saved.released {
			s.released = append(s.released, flight{id: id, qos: 2})
		}
	}
	return s
}

// State is that of the network connection.
func (s *Session) State() State { return s.state }

// Output is what has to be written; it is the caller's from now on. Give the buffer back
// with Recycle to save memory.
func (s *Session) Output() []byte {
	if len(s.out) == 0 { // the buffer stays: nobody would give it back
		return nil
	}
	b := s.out
	s.out = nil
	return b
}

// Recycle gives a buffer back that Output gave.
func (s *Session) Recycle(b []byte) {
	if s.out == nil && cap(b) <= 4096 {
		s.out = b[:0]
	}
}

// InFlight is how many messages wait for their acknowledgement.
func (s *Session) InFlight() int {
	n := len(s.flights) + len(s.released)
	for i := range s.released {
		if s.released[i].m == nil { // of a round before
			n--
		}
	}
	return n
}

// Window is how many messages may.
func (s *Session) Window() int { return s.window }

// Room tells whether a message may be published now (sections 3.3.4, 4.9).
func (s *Session) Room(qos byte) bool {
	switch {
	case s.state != Connected || s.resuming:
		return false
	case qos == 0:
		return true
	}
	return len(s.flights)+len(s.released) < s.window && s.identifiers() < math.MaxUint16
}

// First is the message that was sent first of those that the server has not taken yet;
// nil: there is none.
func (s *Session) First() Message {
	if len(s.flights) == 0 {
		return nil
	}
	return s.flights[0].m
}

// Downgrades tells whether the server answered a message of QoS 2 as one of QoS 1.
func (s *Session) Downgrades() bool { return s.downgrade }

// OneByOne makes messages of QoS 1 and 2 wait for the acknowledgement of the one before. On
// a new connection the first waits until the server has answered a ping: what ends the
// connection then is known to come behind that.
func (s *Session) OneByOne(on bool) {
	s.single = on
	s.window = s.most()
}

// most is how many messages may be in flight on this connection (section 4.9).
func (s *Session) most() int {
	n := s.opt.InFlight
	if s.ack.ReceiveMaximum > 0 {
		n = min(n, int(s.ack.ReceiveMaximum))
	}
	if s.single {
		n = 1
	}
	return n
}

// Kept tells whether the server may keep the session when the connection is gone.
func (s *Session) Kept() bool { return s.had }

// Unknown tells whether the server has a session that has to be begun anew.
func (s *Session) Unknown() bool { return s.unknown }

// Ack is the CONNACK of this connection.
func (s *Session) Ack() *mqttwire.Packet { return &s.ack }

// Leave sends DISCONNECT; end also ends the session (section 3.14). Output must be
// written. What is in flight stays so.
func (s *Session) Leave(end bool) { s.leave(0, end) }

// leave may come before CONNACK: otherwise the server would publish the will (section
// 3.1.4 allows it).
func (s *Session) leave(reason byte, end bool) {
	if s.state != Connected && s.state != Connecting {
		return
	}
	s.out = mqttwire.AppendDisconnect(s.out, s.opt.Connect.Version, reason, end)
	s.state = Leaving
	if end {
		s.had = false
	}
}

// Lost takes note that the network connection is gone.
func (s *Session) Lost() {
	s.state, s.out, s.in, s.skip, s.pings, s.subs = Apart, nil, nil, 0, 0, nil
	if s.opt.Connect.Version == mqttwire.V311 && s.opt.Connect.CleanStart {
		s.had = false // such a session ends with its connection (3.1.1, section 3.1.2.4)
	}
}

// GiveUp lets go of all messages in flight, in their order, and says what the server may
// still know of them.
func (s *Session) GiveUp(settle func(m Message, qos byte, released bool)) *Saved {
	left := &Saved{next: s.nextID, spent: s.spent, incoming: s.incoming}
	for _, f := range s.released {
		if f.m != nil {
			settle(f.m, f.qos, true)
		}
		left.released = append(left.released, f.id)
	}
	for _, f := range s.flights {
		if f.qos == 2 && f.id > 0 {
			s.spend(f.id)
			left.spent = s.spent
		}
		settle(f.m, f.qos, false)
	}
	s.flights, s.released = nil, nil
	return left
}

// Drop lets go of one message in flight. Its identifier is not used again in this session.
func (s *Session) Drop(m Message) {
	for i := range s.flights {
		if s.flights[i].m == m {
			s.spend(s.flights[i].id)
			s.flights = remove(s.flights, i)
			return
		}
	}
}

// spend keeps an identifier from being used again while the server keeps the session.
func (s *Session) spend(id uint16) {
	if s.spent == nil {
		s.spent = map[uint16]bool{}
	}
	if len(s.spent) < 60_000 {
		s.spent[id] = true
	}
}

func remove(list []flight, i int) []flight {
	copy(list[i:], list[i+1:])
	list[len(list)-1] = flight{}
	return list[:len(list)-1]
}

// freeID is a packet identifier that is in no use (section 2.2.1); 0 where all are. They are
// given in turn, so that those after the last are free for long: it looks only at the end of
// such a stretch, in O(identifiers in use).
func (s *Session) freeID() uint16 {
	if s.unused == 0 && !s.stretch() {
		return 0
	}
	s.unused--
	s.nextID++
	return s.nextID
}

// stretch finds the next identifiers that are in no use. False: there are none.
func (s *Session) stretch() bool {
	used := make([]bool, math.MaxUint16+1)
	used[0] = true
	for id := range s.subs {
		used[id] = true
	}
	for id := range s.spent {
		used[id] = true
	}
	for i := range s.flights {
		used[s.flights[i].id] = true
	}
	for i := range s.released {
		used[s.released[i].id] = true
	}
	id := s.nextID + 1
	for n := 0; used[id]; n++ {
		if n == math.MaxUint16 {
			return false
		}
		id++
	}
	s.nextID = id - 1
	for ; !used[id] && s.unused < math.MaxUint16; id++ {
		if s.unused++; id == math.MaxUint16 {
			break
		}
	}
	return true
}

// identifiers are how many are in use at most.
func (s *Session) identifiers() int {
	return len(s.flights) + len(s.released) + len(s.subs) + len(s.spent)
}

// ErrSilent is the error of Tick when the server answers nothing any more.
var ErrSilent = errors.New("the broker does not answer")

// RefusedError is a CONNACK that says no (section 3.2.2.2).
type RefusedError struct {
	Version byte
	Code    byte
	Said    string // reason string
	Refers  string // to another server (section 4.11)
}

func (e *RefusedError) Error() string {
	return "the broker refused the connection: " + e.Reason()
}

// Reason tells why, in words.
func (e *RefusedError) Reason() string {
	return refers(mqttwire.Because(mqttwire.ConnectReason(e.Version, e.Code), e.Said), e.Refers)
}

// DisconnectError is a DISCONNECT from the server (section 3.14).
type DisconnectError struct {
	Code   byte
	Said   string
	Refers string
}

func (e *DisconnectError) Error() string {
	return "the broker disconnected: " + refers(mqttwire.Because(mqttwire.Reason(e.Code), e.Said), e.Refers)
}

// refers adds to a reason where the server refers to.
func refers(reason, reference string) string {
	if reference == "" {
		return reason
	}
	return fmt.Sprintf("%s: it refers to %s", reason, foreign.Line(reference, foreign.Most))
}

// UnknownSessionError is a CONNACK that says that the server took up a session of which nothing is known here, as
// after a process was killed: it could take a new message of QoS 2 for an old one (sections 3.2.2.1.1, 4.3.3). The
// session has to be begun anew, with a clean start.
type UnknownSessionError struct{}

func (e *UnknownSessionError) Error() string {
	return "the broker has a session of this client id, of which nothing is known here"
}

// SessionError is a CONNACK that says that the server took up a session where a clean
// one was asked for (section 3.2.2.1.1).
type SessionError struct{}

func (e *SessionError) Error() string {
	return "CONNACK says that the broker took up an old session (session present), though a clean one was asked for: a " +
		"fault of the broker"
}
