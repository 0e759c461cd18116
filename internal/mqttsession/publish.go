package mqttsession

import (
	"errors"
	"fmt"
	"time"

	"runcrowd/internal/mqttwire"
)

// Publish sends a message (section 4.3). The caller has asked Room. It is settled at once
// where it has QoS 0, or cannot be sent.
func (s *Session) Publish(now time.Time, m Message) {
	m.Fill(&s.publish)
	id, qos := uint16(0), s.publish.QoS
	if qos > 0 {
		id = s.freeID()
	}
	if r, ok := s.append(id, false); !ok {
		r.Fate = Unsendable
		s.h.Settled(m, r)
		return
	}
	s.lastOut = now
	if qos > 0 {
		s.flights = append(s.flights, flight{m: m, id: id, qos: qos, sent: true, at: now})
	}
	s.h.Sent(m, First)
	if qos == 0 {
		s.h.Settled(m, Result{Fate: Unacked})
	}
}

// append puts the PUBLISH that was filled in into Output, unless a limit that the server has
// announced is against it (sections 3.2.2.3.4 to 3.2.2.3.6).
func (s *Session) append(id uint16, dup bool) (Result, bool) {
	p := &s.publish
	p.ID, p.Dup = id, dup
	switch {
	case s.ack.MaximumQoSSet && p.QoS > s.ack.MaximumQoS:
		return Result{Code: 0x9b, Said: fmt.Sprintf("the broker takes QoS %d at most, the message has QoS %d",
			s.ack.MaximumQoS, p.QoS)}, false
	case s.ack.NoRetain && p.Retain:
		return Result{Code: 0x9a, Said: "the broker takes no retained messages, and this is one (retain)"}, false
	}
	topic := p.Topic
	fresh := s.alias(p)
	before := len(s.out)
	var err error
	if s.out, err = mqttwire.AppendPublish(s.out, s.opt.Connect.Version, p); err != nil {
		return Result{Said: err.Error()}, false
	}
	if size := len(s.out) - before; s.ack.MaximumPacket > 0 && size > int(s.ack.MaximumPacket) {
		s.out = s.out[:before]
		return Result{Code: 0x95, Said: fmt.Sprintf("the packet has %d bytes, the broker takes %d at most", size,
			s.ack.MaximumPacket)}, false
	}
	if fresh {
		s.aliases[topic] = p.Alias
	}
	return Result{}, true
}

// alias puts a number in place of a topic that was sent with it before, or gives it one;
// then it is fresh (section 3.3.2.3.4).
func (s *Session) alias(p *mqttwire.Publish) (fresh bool) {
	if s.aliasMax == 0 || p.Topic == "" {
		return false
	}
	if known, is := s.aliases[p.Topic]; is {
		p.Alias, p.Topic = known, ""
		return false
	}
	if len(s.aliases) >= s.aliasMax {
		return false
	}
	if s.aliases == nil {
		s.aliases = map[string]uint16{}
	}
	p.Alias = uint16(len(s.aliases) + 1)
	return true
}

// Subscribe asks for a subscription (section 3.8), and gives the identifier of its answer.
// Options are those of mqttwire.AppendSubscribe.
func (s *Session) Subscribe(now time.Time, filter string, options byte) (id uint16, err error) {
	if s.state != Connected {
		return 0, fmt.Errorf("the connection is %s", s.state)
	}
	if id = s.freeID(); id == 0 {
		return 0, errors.New("all 65535 packet identifiers are in use")
	}
	before := len(s.out)
	if s.out, err = mqttwire.AppendSubscribe(s.out, s.opt.Connect.Version, id, filter, options); err != nil {
		return 0, err
	}
	if size := len(s.out) - before; s.ack.MaximumPacket > 0 && size > int(s.ack.MaximumPacket) {
		s.out = s.out[:before]
		return 0, fmt.Errorf("the subscription has %d bytes, the broker takes %d at most", size, s.ack.MaximumPacket)
	}
	if s.subs == nil {
		s.subs = map[uint16]bool{}
	}
	s.subs[id], s.lastOut = true, now
	return id, nil
}

// acknowledged takes PUBACK, PUBREC or PUBCOMP (section 4.3).
func (s *Session) acknowledged(now time.Time, p *mqttwire.Packet) {
	switch p.Type {
	case mqttwire.PUBCOMP:
		s.completed(p)
	default:
		s.taken(now, p)
	}
	if s.resuming {
		s.resume(now)
	}
}

// taken takes PUBACK and PUBREC (sections 4.3.2, 4.3.3). One that matches nothing is let
// go: it may answer a message that was given up.
func (s *Session) taken(now time.Time, p *mqttwire.Packet) {
	at := -1
	for i := range s.flights {
		if s.flights[i].id == p.ID && s.flights[i].sent {
			at = i
			break
		}
	}
	if at < 0 {
		s.unmatched(p)
		return
	}
	f := s.flights[at]
	r := Result{Fate: Acknowledged, Packet: p.Type, Code: p.Reason, Said: p.ReasonString}
	switch {
	case p.Type == mqttwire.PUBREC && f.qos == 1:
		return // an acknowledgement of the wrong kind acknowledges nothing
	case p.Type == mqttwire.PUBREC && f.revived && p.Reason == 0x91:
		// Some servers answer a repeated PUBLISH with "packet identifier in use": they
		// took it the first time.
	case p.Reason >= 0x80:
		r.Fate = Refused
	case p.Type == mqttwire.PUBACK && f.qos == 2:
		r.Fate = AsQoS1
		s.downgrade = true
	}
	s.flights = remove(s.flights, at)
	if p.Type == mqttwire.PUBREC && r.Fate == Acknowledged {
		f.at = now
		s.released = append(s.released, f)
		s.answer(mqttwire.PUBREL, p.ID, 0)
		return
	}
	s.h.Settled(f.m, r)
}

// unmatched takes an acknowledgement that matches no PUBLISH. PUBREC is answered, or the
// server would wait for ever (section 3.6.2.1).
func (s *Session) unmatched(p *mqttwire.Packet) {
	if p.Type != mqttwire.PUBREC || p.Reason >= 0x80 {
		return
	}
	for i := range s.released {
		if s.released[i].id == p.ID {
			s.answer(mqttwire.PUBREL, p.ID, 0)
			return
		}
	}
	reason := byte(0x92)
	if s.spent[p.ID] {
		reason = 0
	}
	if s.opt.Connect.Version != mqttwire.V5 {
		reason = 0
	}
	s.answer(mqttwire.PUBREL, p.ID, reason)
}

// completed takes PUBCOMP (section 4.3.3).
func (s *Session) completed(p *mqttwire.Packet) {
	for i, f := range s.released {
		if f.id != p.ID {
			continue
		}
		s.released = remove(s.released, i)
		if f.m == nil {
			return // of a round before
		}
		r := Result{Fate: Acknowledged, Packet: p.Type, Code: p.Reason, Said: p.ReasonString}
		// "Packet identifier not found" is no error when a session was taken up again
		// (section 3.7.2.1): the server had completed it before.
		if p.Reason >= 0x80 && !(p.Reason == 0x92 && f.revived) {
			r.Fate = Refused
		}
		s.h.Settled(f.m, r)
		return
	}
	delete(s.spent, p.ID) // now it is free
}

// answer puts an acknowledgement into Output; behind DISCONNECT nothing goes out.
func (s *Session) answer(packet byte, id uint16, reason byte) {
	if s.state == Connected {
		s.out = mqttwire.AppendAck(s.out, packet, id, reason)
	}
}
