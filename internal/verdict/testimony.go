package verdict

import (
	"fmt"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"time"
)

// testify says what one witness knows of a message.
func (j *judge) testify(w int, s *ledger.Stream, m *ledger.Message, found []int, recovered bool) (state, *Testimony) {
	wit := &j.Witnesses[w]
	var copies []*ledger.Sighting
	var again *ledger.Sighting
	for _, i := range found {
		x := &j.Sightings[i]
		switch {
		case x.Witness != w:
		case x.Redelivered:
			again = x
		default:
			copies = append(copies, x)
		}
	}
	if len(copies) == 0 && again != nil {
		copies = append(copies, again)
	}
	say := func(st state, format string, args ...any) (state, *Testimony) {
		return st, &Testimony{Witness: wit.Name, Says: fmt.Sprintf(format, args...)}
	}
	if len(copies) == 0 {
		if m.Outcome == outcome.Unsent || m.Attempts == 0 && !recovered && j.whole() {
			return missing, nil // nobody can find what was never sent
		}
		if why := j.excused(wit, s, m); why != "" {
			return say(unheard, "not known: %s", why)
		}
		return say(missing, "not found")
	}
	j.delay(wit, m, copies[0])
	known := true
	if !recovered {
		for _, x := range copies {
			var d []Difference
			if d, known = differences(m.Carried, x.Values, s); len(d) > 0 {
				st, t := say(altered, "found with other values")
				t.Differences = d
				return st, t
			}
		}
	}
	for _, x := range copies {
		if x.FiledDevice != "" && x.FiledDevice != s.Device {
			return say(misfiled, "found under %s", x.FiledDevice)
		}
		if x.FiledReading != "" && x.FiledReading != s.Reading {
			return say(misfiled, "found under the reading %s", x.FiledReading)
		}
	}
	allowed := 1
	if s.MayRepeat {
		allowed = max(1, m.Attempts)
	}
	if len(copies) > allowed {
		times := fmt.Sprintf("%d times", len(copies))
		if len(copies) == 2 {
			times = "twice"
		}
		return say(repeated, "found %s", times)
	}
	if !known {
		return say(open, "found, but not all of its values could be made or read back here: there is nothing to compare it with")
	}
	st, t := holds, (*Testimony)(nil)
	// A row that does not tell when it was stored cannot be called late: it may
	// have been there long before the witness asked.
	if wit.Within > 0 && !m.Sent.IsZero() && timed(copies[0]) {
		switch verdict, took := j.clocks[w].inTime(m.Sent, copies[0], wit.Within); verdict {
		case late:
			return say(late, "found %s after it was sent; allowed are %s", Span(took), wit.Within)
		case open:
			st, t = say(open, "found, but whether within %s is not known: the platform's clock and ours do not agree", wit.Within)
		}
	}
	if h, ok := wit.Heard[m.Round]; !ok || !h.Complete {
		return say(open, "found, but whether once is not known: the witness was not heard to the end")
	}
	return st, t
}

// found says that a witness found a message as it should: told only beside what
// others say of one that is not proven.
func (j *judge) found(w int, m *ledger.Message, found []int, recovered bool) Testimony {
	t := Testimony{Witness: j.Witnesses[w].Name, Says: "found"}
	for _, i := range found {
		x := &j.Sightings[i]
		if x.Witness != w || recovered || m.Sent.IsZero() {
			continue
		}
		t.Says = "found, as it was sent"
		if timed(x) {
			t.Says += ", after " + Span(max(0, when(x).Sub(m.Sent)))
		}
		break
	}
	return t
}

// timed tells whether it is known when a message came to where it was found: a
// subscription hears it then, a query must be told.
func timed(x *ledger.Sighting) bool { return !x.Asked || !x.Stored.IsZero() }

// when is when a message was found: by the platform's own clock where it tells, but
// never later than we saw it.
func when(x *ledger.Sighting) time.Time {
	if x.Stored.IsZero() || x.Stored.After(x.Seen) {
		return x.Seen
	}
	return x.Stored
}

func (j *judge) delay(w *ledger.Witness, m *ledger.Message, x *ledger.Sighting) {
	if m.Sent.IsZero() || !timed(x) {
		return
	}
	p := proofIndex(w.Proof)
	j.delays[p] = append(j.delays[p], int64(max(0, when(x).Sub(m.Sent))))
}

// excused tells why a witness cannot be blamed for not having a message, or "".
func (j *judge) excused(w *ledger.Witness, s *ledger.Stream, m *ledger.Message) string {
	h, heard := w.Heard[m.Round]
	switch {
	case !heard, !h.Complete: // why is told once, with the witness
		return "the witness was not heard to the end"
	}
	for _, d := range w.Gaps {
		if d.QoS0 && !s.QoS0 {
			continue
		}
		startsBefore := d.To.IsZero() || !m.Sent.After(d.To)
		endsAfter := m.At.IsZero() || m.Outcome == outcome.NoAnswer || !m.At.Before(d.From.Add(-gapMargin))
		if startsBefore && endsAfter {
			return "the witness could not listen just then: " + d.Why
		}
	}
	return ""
}
