package mqttsession

import (
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/mqttwire"
)

// Ping sends PINGREQ (section 3.12).
func (s *Session) Ping(now time.Time) {
	if s.state != Connected {
		return
	}
	if s.pings++; s.pings == 1 {
		s.pinged = now
	}
	s.out = append(s.out, mqttwire.PINGREQ<<4, 0)
	s.lastOut = now
}

// Pings is how many PINGRESPs are due, and since when the first is.
func (s *Session) Pings() (n int, since time.Time) { return s.pings, s.pinged }

// Tick does what is due by the clock, and says when to call it again; 0: never. It sends
// PINGREQ when nothing was sent for most of the keep-alive time (section 3.1.2.10), and
// when an acknowledgement does not come: the connection may be dead. The error is
// ErrSilent.
func (s *Session) Tick(now time.Time) (time.Duration, error) {
	if s.state != Connected {
		return s.opt.Timeout / 2, nil
	}
	wait := time.Duration(0)
	due := func(at time.Time) bool {
		if left := at.Sub(now); left > 0 {
			if wait == 0 || left < wait {
				wait = left
			}
			return false
		}
		return true
	}
	silent := s.opt.Timeout
	if silent == 0 {
		silent = s.keep * 3 / 2
	}
	if s.pings > 0 && silent > 0 {
		// A look that comes late itself may come before what was there long ago was read.
		at := later(s.pinged, s.lastIn).Add(silent)
		if more := clock.Overdue(now.Sub(at), silent); more > 0 && s.excused != at {
			s.excused, s.until = at, now.Add(more)
		}
		if s.excused == at {
			at = s.until
		}
		if due(at) {
			return 0, ErrSilent
		}
	}
	// Three quarters of the keep-alive time leave time for the packet to arrive.
	if s.keep > 0 && due(s.lastOut.Add(s.keep*3/4)) {
		s.Ping(now)
		due(s.lastOut.Add(s.keep * 3 / 4))
	}
	if patience := s.opt.Timeout / 2; patience > 0 && s.pings == 0 {
		if oldest := s.oldest(); !oldest.IsZero() {
			if due(later(oldest, s.lastIn).Add(patience)) {
				s.Ping(now)
			}
		} else if wait == 0 || patience < wait {
			wait = patience // what is sent meanwhile is looked after in time
		}
	}
	if s.pings > 0 && silent > 0 && s.excused != later(s.pinged, s.lastIn).Add(silent) {
		due(later(s.pinged, s.lastIn).Add(silent))
	}
	return wait, nil
}

// oldest is since when an acknowledgement is due; zero: none is.
func (s *Session) oldest() (at time.Time) {
	if len(s.flights) > 0 && s.flights[0].sent {
		at = s.flights[0].at
	}
	if len(s.released) > 0 && (at.IsZero() || s.released[0].at.Before(at)) {
		at = s.released[0].at
	}
	return at
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
