package mqtt

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"syscall"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/link"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/outcome"
)

// blame finds the message after which a broker closes connections. A broker handles the
// packets of a connection in their order (section 4.6), so it is the first message that
// it did not acknowledge, or one of QoS 0 that went out just before the end.
type blame struct {
	suspect *link.Message    // the first that was not acknowledged when the connection was closed last
	strikes int              // how often that was so in a row
	alone   bool             // it goes out alone, to spare the others
	near    map[int]*closing // by stream: closings right after it, with nothing of it taken since
	held    map[int]string   // streams that are not sent any more, and why
	recent  []recent         // QoS 0, the newest last
	lastAt  time.Time        // when a message was sent last
	passed  bool             // a message was taken on this connection
	told    bool             // that QoS 2 is taken as QoS 1
	silent  bool             // the connection was given up: no answer to PINGREQ
}

// closing is how often a connection was closed right after a message of a stream.
type closing struct {
	times  int
	guilty int       // messages of it that were given up
	sentAt time.Time // the last of it on this connection; QoS 0
	others bool      // messages of other streams were taken meanwhile
}

type recent struct {
	stream int
	seq    uint64
	at     time.Time
}

// How often a connection is closed right after a message before it is sent alone, and
// before it is given up; and after how many of them the whole stream is.
const (
	strikesAlone = 2
	strikesMost  = 4
	guiltyMost   = 2
)

// justBefore is how long before a closing a message can have been its cause.
const justBefore = time.Second

// sent notes a message that goes out, and tells whether it is worth asking the broker
// whether it was taken.
func (b *blame) sent(stream int, seq uint64, qos byte) (ask bool) {
	if qos > 0 {
		b.lastAt = clock.Now()
		return false
	}
	b.lastAt = clock.Now()
	if len(b.recent) == 8 {
		b.recent = append(b.recent[:0], b.recent[1:]...)
	}
	b.recent = append(b.recent, recent{stream, seq, b.lastAt})
	if x := b.near[stream]; x != nil {
		x.sentAt = b.lastAt
		return true
	}
	return false
}

// taken notes that the broker answered a message.
func (b *blame) taken(m *link.Message) {
	b.passed = true
	if len(b.near) > 0 {
		b.cleared(m.Stream)
	}
}

// settled lets go of a message: its memory will be another one's.
func (b *blame) settled(m *link.Message) {
	if b.suspect == m {
		b.suspect, b.strikes = nil, 0
	}
}

// ponged notes that the broker answered a ping: what was sent before it was taken.
func (b *blame) ponged() {
	b.passed = true
	for stream, x := range b.near {
		if !x.sentAt.IsZero() {
			b.cleared(stream)
		}
	}
}

func (b *blame) cleared(stream int) {
	delete(b.near, stream)
	for _, x := range b.near {
		x.others = true
	}
}

// over forgets what belongs to one connection.
func (b *blame) over() {
	b.recent, b.passed, b.told, b.lastAt = b.recent[:0], false, false, time.Time{}
	for _, x := range b.near {
		x.sentAt = time.Time{}
	}
}

// faults are the reasons of DISCONNECT that speak of what was sent (section 3.14.2.1).
var faults = []byte{0x80, 0x81, 0x82, 0x83, 0x87, 0x90, 0x94, 0x95, 0x99, 0x9a, 0x9b}

// accuse looks for the message that made the broker close the connection, counts, and
// gives up what the broker will not take.
func (c *Conn) accuse(err error) (loss link.Loss) {
	b, now := &c.blame, clock.Now()
	gone, _ := errors.AsType[*mqttsession.DisconnectError](err)
	closed := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE)
	if gone != nil {
		closed = slices.Contains(faults, gone.Code)
	}
	if !closed || b.silent || now.Sub(b.lastAt) > justBefore {
		return loss
	}
	if b.near == nil {
		b.near = map[int]*closing{}
	}
	met := map[int]bool{}
	point := func(stream int, seq uint64) *closing {
		x := b.near[stream]
		if x == nil {
			x = &closing{}
			b.near[stream] = x
		}
		if !met[stream] {
			met[stream] = true
			x.times++
		}
		if loss.After == nil || x.times > loss.Times {
			loss.After, loss.Times = &link.Culprit{Stream: stream, Seq: seq}, x.times
		}
		return x
	}
	m, _ := c.s.First().(*request)
	if m != nil {
		first := (*link.Message)(m)
		stream := first.Stream // giveUp gives the message back
		x := point(stream, first.Seq)
		if b.suspect != first {
			b.suspect, b.strikes = first, 0
		}
		if b.strikes++; b.strikes >= strikesAlone {
			b.alone = true
			c.s.OneByOne(true)
		}
		if b.strikes >= strikesMost {
			x.guilty++
			c.giveUp(first, gone)
		}
		c.hold(stream, x, x.guilty >= guiltyMost)
	}
	for i := len(b.recent) - 1; i >= 0; i-- {
		if r := b.recent[i]; now.Sub(r.at) <= justBefore {
			x := point(r.stream, r.seq)
			c.hold(r.stream, x, m == nil && x.times >= strikesMost || x.times >= 2*strikesMost)
		}
	}
	return loss
}

// giveUp settles a message that the broker answers by closing the connection.
func (c *Conn) giveUp(m *link.Message, gone *mqttsession.DisconnectError) {
	c.s.Drop((*request)(m))
	c.blame.suspect, c.blame.strikes, c.blame.alone = nil, 0, false
	c.s.OneByOne(false)
	if gone != nil {
		c.settle(m, outcome.Refused, int(gone.Code), fmt.Sprintf("DISCONNECT, %d times right after it: %s", strikesMost,
			link.Hide(gone.Error(), c.token)))
		return
	}
	c.settle(m, outcome.NoAnswer, 0, fmt.Sprintf("the broker closed the connection %d times right after it", strikesMost))
}

// hold stops a reading that would keep its device away for ever, while others are taken.
func (c *Conn) hold(stream int, x *closing, enough bool) {
	if !enough || !x.others {
		return
	}
	if c.blame.held == nil {
		c.blame.held = map[int]string{}
	}
	c.blame.held[stream] = fmt.Sprintf("this reading is held back: the broker closed the connection %d times right "+
		"after it, and took the others", x.times)
}
