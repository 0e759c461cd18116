package mqttsession

import (
	"encoding/binary"
	"fmt"
	"time"

	"runcrowd/internal/mqttwire"
)

// Receive takes bytes that the server sent. After an error the connection is to be closed,
// once Output was written: in version 5 it may hold a DISCONNECT that tells the server why.
// The error is a *mqttwire.Error, *RefusedError, *SessionError or *DisconnectError.
func (s *Session) Receive(now time.Time, b []byte) error {
	s.lastIn = now
	if s.skip > 0 {
		n := min(s.skip, len(b))
		s.skip -= n
		b = b[n:]
	}
	if len(s.in) > 0 {
		s.in = append(s.in, b...)
		b = s.in
	}
	for len(b) > 0 && s.state != Apart {
		if s.state == Connecting && b[0] != mqttwire.CONNACK<<4 { // whatever it is, its length means nothing
			return &mqttwire.Error{Code: 0x82, What: mqttwire.Name(b[0]>>4) + " came where CONNACK was due"}
		}
		first, body, size, length, err := mqttwire.Frame(b, s.opt.Connect.Version)
		if err != nil {
			return s.fail(err)
		}
		if length > s.opt.MaxPacket && length >= 0 {
			rest, err := s.large(first, body, length)
			if err != nil {
				return s.fail(err)
			}
			if rest < 0 {
				break
			}
			if size > 0 {
				rest = len(b) - size
			}
			b = b[len(b)-rest:]
			continue
		}
		if size == 0 {
			break
		}
		if err := s.take(now, first, body); err != nil {
			return err
		}
		b = b[size:]
	}
	// What is left is kept in a buffer of its own: b is the caller's.
	if len(b) == 0 {
		s.in = s.in[:0]
		if cap(s.in) > 64<<10 {
			s.in = nil
		}
	} else {
		s.in = append(s.in[:0], b...)
	}
	return nil
}

// large takes the beginning of a packet that is larger than is taken. In version 5 the
// server was told (section 3.1.2.11.4). In 3.1.1 it could not be: to close would bring the
// message again for ever, so it is acknowledged and its bytes are passed over. It gives how
// many bytes of the buffer are behind it; -1: more has to come first.
func (s *Session) large(first byte, body []byte, length int) (rest int, err error) {
	if s.opt.Connect.Version == mqttwire.V5 || first>>4 != mqttwire.PUBLISH || s.state == Connecting {
		return 0, &mqttwire.Error{Code: 0x95, What: fmt.Sprintf("%s of %d bytes; the most taken is %d",
			mqttwire.Name(first>>4), length, s.opt.MaxPacket)}
	}
	if len(body) < 2 {
		return -1, nil
	}
	head := 2 + int(binary.BigEndian.Uint16(body))
	if qos := first >> 1 & 3; qos > 0 {
		head += 2
	}
	if len(body) < min(head, length) {
		return -1, nil
	}
	if err := mqttwire.Decode(&s.packet, s.opt.Connect.Version, first, body[:min(head, length)]); err != nil {
		return 0, err
	}
	p := &s.packet
	if !s.receive(p) {
		s.h.TooLarge(p.Publish.Topic, length)
	}
	if len(body) >= length {
		return len(body) - length, nil
	}
	s.skip = length - len(body)
	return 0, nil
}

// fail tells the server what it did wrong (section 4.13.1) and gives the error back.
func (s *Session) fail(err error) error {
	if e, is := err.(*mqttwire.Error); is && s.state == Connected && s.opt.Connect.Version == mqttwire.V5 {
		s.leave(e.Code, false)
	}
	return err
}

// take takes one packet.
func (s *Session) take(now time.Time, first byte, body []byte) error {
	p := &s.packet
	if err := mqttwire.Decode(p, s.opt.Connect.Version, first, body); err != nil {
		return s.fail(err)
	}
	if s.state != Connecting && p.Type == mqttwire.CONNACK { // section 3.2: once
		return s.fail(&mqttwire.Error{Code: 0x82, What: "a second CONNACK"})
	}
	switch p.Type {
	case mqttwire.CONNACK:
		return s.connack(now, p)
	case mqttwire.PUBLISH:
		if !s.receive(p) {
			s.h.Came(p)
		}
	case mqttwire.PUBACK, mqttwire.PUBREC, mqttwire.PUBCOMP:
		s.acknowledged(now, p)
	case mqttwire.PUBREL:
		s.release(p)
	case mqttwire.SUBACK:
		if !s.subs[p.ID] { // section 3.9.2.1
			return s.fail(&mqttwire.Error{Code: 0x82, What: fmt.Sprintf("SUBACK with the packet identifier %d, which no "+
				"subscription has", p.ID)})
		}
		delete(s.subs, p.ID)
		s.h.Subscribed(p.ID, p)
	case mqttwire.PINGRESP:
		took := now.Sub(s.pinged)
		s.pings, s.pinged = max(0, s.pings-1), now
		s.h.Ponged(s.pings, took)
		if s.held {
			s.held = false
			s.resume(now)
		}
	case mqttwire.DISCONNECT:
		s.state = Leaving // nothing may be sent any more (section 3.14.4)
		return &DisconnectError{p.Reason, p.ReasonString, p.ServerReference}
	}
	return nil
}

// receive acknowledges a PUBLISH (sections 4.3.2, 4.3.3), and tells whether it is one of
// QoS 2 that was taken before.
func (s *Session) receive(p *mqttwire.Packet) (before bool) {
	switch p.Publish.QoS {
	case 1:
		s.answer(mqttwire.PUBACK, p.ID, 0)
	case 2:
		if before = s.incoming[p.ID]; !before {
			if s.incoming == nil {
				s.incoming = map[uint16]bool{}
			}
			s.incoming[p.ID] = true
		}
		s.answer(mqttwire.PUBREC, p.ID, 0)
	}
	return before
}

// release takes PUBREL (section 4.3.3).
func (s *Session) release(p *mqttwire.Packet) {
	reason := byte(0)
	if !s.incoming[p.ID] && s.opt.Connect.Version == mqttwire.V5 {
		reason = 0x92 // section 3.7.2.1
	}
	delete(s.incoming, p.ID)
	s.answer(mqttwire.PUBCOMP, p.ID, reason)
}
