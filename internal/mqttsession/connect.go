package mqttsession

import (
	"math"
	"time"

	"runcrowd/internal/mqttwire"
)

// Open begins a network connection with CONNECT, which must come first (section 3.1.0). The
// error says what the standard does not allow in it.
func (s *Session) Open(now time.Time, c mqttwire.Connect) error {
	s.opt.Connect = c
	if c.Version == mqttwire.V5 {
		c.MaximumPacket = uint32(s.opt.MaxPacket)
	}
	s.state, s.in, s.skip, s.pings, s.subs, s.ack = Connecting, nil, 0, 0, nil, mqttwire.Packet{}
	s.held = false
	var err error
	s.out, err = mqttwire.AppendConnect(s.out[:0], &c)
	s.lastOut, s.lastIn = now, now
	return err
}

// connack takes the answer to CONNECT (section 3.2).
func (s *Session) connack(now time.Time, p *mqttwire.Packet) error {
	c := &s.opt.Connect
	if p.Reason != 0 {
		return &RefusedError{c.Version, p.Reason, p.ReasonString, p.ServerReference}
	}
	if p.SessionPresent && c.CleanStart {
		s.state = Connected
		s.leave(0x82, false) // section 3.2.2.1.1; 3.1.1, section 3.2.2.2, leaves it to the client
		return &SessionError{}
	}
	if s.unknown = p.SessionPresent && !s.had && s.opt.Exactly; s.unknown {
		s.state = Connected
		s.leave(0, false)
		return &UnknownSessionError{}
	}
	s.state, s.ack = Connected, *p
	s.ack.UserProp = nil
	s.window = s.most()
	s.keep = time.Duration(c.KeepAlive) * time.Second
	if p.KeepAliveSet { // section 3.2.2.3.14: the server's takes the place of ours
		s.keep = time.Duration(p.ServerKeepAlive) * time.Second
	}
	s.aliasMax = min(s.opt.TopicAliases, int(p.TopicAliasMaximum))
	clear(s.aliases) // they are those of a connection (section 3.3.2.3.4)
	s.downgrade = false
	s.h.Up(&s.ack)
	if p.SessionPresent {
		s.takeUp(now)
	} else {
		s.beginAnew()
	}
	s.had = c.Version == mqttwire.V311 && !c.CleanStart || c.Version == mqttwire.V5 && s.expiry() > 0
	if s.single {
		s.held, s.resuming = true, true
		s.Ping(now)
		return nil
	}
	s.resume(now)
	return nil
}

// expiry is how long the server keeps the session, in seconds (section 3.2.2.3.2).
func (s *Session) expiry() uint32 {
	if s.ack.SessionExpirySet {
		return s.ack.SessionExpiry
	}
	return s.opt.Connect.SessionExpiry
}

// takeUp goes on with the session that the server kept: each PUBREL is sent again in the
// order of the PUBRECs, each PUBLISH in the order of before (sections 4.4, 4.6).
func (s *Session) takeUp(now time.Time) {
	for i := range s.released {
		s.released[i].revived, s.released[i].at = true, now
		s.out = mqttwire.AppendAck(s.out, mqttwire.PUBREL, s.released[i].id, 0)
	}
	for i := range s.flights {
		f := &s.flights[i]
		f.sent, f.revived = false, true
	}
}

// beginAnew drops the state of a session that the server does not have (section 3.2.2.1.1).
// What it had not acknowledged of QoS 1 goes out as new packets; of QoS 2 that could be
// stored twice, where once was asked for.
func (s *Session) beginAnew() {
	s.incoming, s.spent = nil, nil
	gone := SessionGone
	if s.opt.Connect.CleanStart {
		gone = SessionLeft
	}
	for _, f := range s.released {
		if f.m != nil {
			// The server had taken it: to publish it again could store it twice.
			s.h.Settled(f.m, Result{Fate: gone})
		}
	}
	s.released = nil
	flights := s.flights
	s.flights = s.flights[:0]
	for _, f := range flights {
		if f.qos == 2 {
			s.h.Settled(f.m, Result{Fate: Uncertain})
			continue
		}
		f.sent, f.id = false, 0
		s.flights = append(s.flights, f)
	}
	clear(flights[len(s.flights):])
}

// resume sends what was in flight on the last connection, as far as the server's receive
// maximum allows (section 4.9): it holds for these as for new ones.
func (s *Session) resume(now time.Time) {
	if s.held {
		return
	}
	s.resuming = false
	for i := 0; i < len(s.flights) && s.state == Connected; i++ {
		f := &s.flights[i]
		if f.sent {
			continue
		}
		if i+len(s.released) >= s.window || f.id == 0 && s.identifiers() > math.MaxUint16 {
			s.resuming = true
			return
		}
		if !s.send(now, f) {
			i--
		}
	}
}

// send sends a message in flight once more; it is false where that cannot be, and the
// message was settled.
func (s *Session) send(now time.Time, f *flight) bool {
	how := Again
	fresh := f.id == 0
	if fresh {
		how = Anew
		f.id = s.freeID()
	}
	f.m.Fill(&s.publish)
	r, ok := s.append(f.id, !fresh)
	if ok {
		f.sent, f.at = true, now
		s.lastOut = now
		s.h.Sent(f.m, how)
		return true
	}
	if !fresh { // the server may keep what it knows of this packet
		s.spend(f.id)
	}
	r.Fate = Stranded
	m := f.m
	for i := range s.flights {
		if &s.flights[i] == f {
			s.flights = remove(s.flights, i)
			break
		}
	}
	s.h.Settled(m, r)
	return false
}
