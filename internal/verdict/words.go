package verdict

import (
	"fmt"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/outcome"
)

// Finding tells a ruling in words. It belongs to the case that was ruled on last.
func (j *Judge) Finding(c *evidence.Case, recovered bool) Finding {
	s := &j.facts.Streams[c.Stream]
	f := Finding{Device: s.Device, Kind: s.Kind, Reading: s.Reading, Seq: c.Seq, Round: c.Round,
		Verdict: j.ruling.Verdict.String(), Due: c.Due,
		Attempts: c.Attempts, Outcome: c.Outcome.String(), Said: c.Text(), Carried: "null", Stream: c.Stream}
	if !recovered {
		f.Carried = string(c.Carried())
	}
	for w := range j.testimonies {
		if t := j.inWords(w, c, recovered); t != nil {
			f.Testimony = append(f.Testimony, *t)
		}
	}
	if !c.Sent.IsZero() {
		sent := c.Sent
		f.Sent = &sent
		if !c.At.IsZero() {
			f.Took = c.At.Sub(c.Sent)
		}
	}
	switch {
	case recovered:
		f.Outcome, f.Said = "unknown", "sent in the last moment before the run was killed; the ledger does not tell of it"
		if j.facts.Of(c.Stream).Lost {
			f.Said = "what the ledger tells of it is damaged"
		}
	case c.Outcome == outcome.Open && j.facts.Of(c.Stream).Lost:
		f.Outcome, f.Said = "unknown", "its answer may be in the damaged part of the ledger"
	case c.Outcome == outcome.Open && j.facts.Killed(c.Stream, c.Seq):
		f.Outcome, f.Said = "unknown", "the run was killed before its answer was written"
	}
	return f
}

// inWords is what a witness said of the message ruled on; nil for nothing.
func (j *Judge) inWords(w int, c *evidence.Case, recovered bool) *Testimony {
	x := &j.testimonies[w]
	wit := &j.facts.Witnesses[w]
	t := &Testimony{Witness: wit.Name, State: x.state, Differences: x.differences}
	switch x.words {
	case sayFound:
		if x.state != Found {
			return nil // it has nothing to do with it
		}
		t.Says = "found"
		if !recovered && !c.Sent.IsZero() {
			t.Says = "found, as it was sent"
			if x.delay.Took >= 0 {
				t.Says += ", after " + Span(x.delay.Took)
			}
		}
	case sayNotFound:
		if j.neverSent(c, recovered) {
			return nil
		}
		t.Says = "not found"
	case sayExcused:
		t.Says = "not known: " + x.text
	case sayValues:
		t.Says = "found with other values"
	case sayUnder:
		t.Says = "found under " + x.text
	case sayUnderReading:
		t.Says = "found under the reading " + x.text
	case sayTimes:
		t.Says = fmt.Sprintf("found %d times", x.times)
		if x.times == 2 {
			t.Says = "found twice"
		}
		if len(c.Sightings) >= evidence.MostSightings {
			t.Says += " or more"
		}
	case saySentAnew:
		t.Says = fmt.Sprintf("found %d times, and it was sent again so that the platform may have taken it twice: whether "+
			"it did, or stored it twice, is not known", x.times)
	case sayAttempts:
		t.Says = fmt.Sprintf("found %d times, and how often it was sent is not known: the ledger is not whole", x.times)
	case sayLate:
		t.Says = fmt.Sprintf("found %s after it was sent; allowed are %s", Span(x.delay.Took), wit.Within)
	case sayNoValues:
		t.Says = "found, but not all of its values could be made or read back here: there is nothing to compare it with"
		if recovered {
			t.Says = "found, but what was sent is not known: there is nothing to compare it with"
		}
	case sayClock:
		t.Says = fmt.Sprintf("found, but whether within %s is not known: the platform's clock and ours do not agree well "+
			"enough", wit.Within)
		if j.Clock(w, c.Stream).echoed() {
			t.Says = fmt.Sprintf("found, but whether within %s is not known: the time that it tells is the device's own",
				wit.Within)
		}
	case sayOff:
		t.Says = fmt.Sprintf("found, but whether within %s is not known: its row is filed under a wrong time, %s",
			wit.Within, offText(x.off))
	case sayStill:
		t.Says = fmt.Sprintf("found, but whether within %s is not known: this process stood still meanwhile", wit.Within)
	case sayLostCopy:
		t.Says = "found, but whether once is not known: " + x.text
	case sayNotToTheEnd:
		t.Says = "found, but whether once is not known: the witness was not heard to the end"
	case sayGapOnce:
		t.Says = "found, but whether once is not known: the witness could not listen all the time: " + x.text
	case sayGapMeanwhile:
		t.Says = fmt.Sprintf("found, but whether within %s is not known: the witness could not listen meanwhile: %s",
			wit.Within, x.text)
	case sayLetIn:
		t.Says = "found, and must not be"
	case sayKeptOut:
		t.Says = "not found, as it must be"
	case sayNotKnownOut:
		t.Says = "not found, but it could not be heard to the end: " + x.text
	case sayDisturbed:
		t.Says = fmt.Sprintf("found %s after it was sent, and allowed are %s: whether the platform was late is not known, "+
			"because the plan disturbed the device's network meanwhile", Span(x.delay.Took), wit.Within)
	case sayUnsure:
		t.Says = "not known: something was found that may be this message or another one, and nothing tells which"
	case sayUnsureOnce:
		t.Says = "found, and something more that may be another copy of it or another message: nothing tells which"
	case sayTwoPages:
		if wit.Listens {
			t.Says = "found, but whether once is not known: the broker delivered it again after a cut, and it may be a copy " +
				"that was never heard"
			break
		}
		t.Says = "found on more than one page of an answer: whether these are two rows or one that moved is not known; say " +
			"what a row's own identity is with row"
	}
	return t
}

// Span is a time in three figures or so: "1.25ms", "250ms", "3.2s".
func Span(d time.Duration) string {
	switch a := d.Abs(); {
	case a >= 100*time.Second:
		return d.Round(time.Second).String()
	case a >= time.Second:
		return d.Round(10 * time.Millisecond).String()
	case a >= 10*time.Millisecond:
		return d.Round(100 * time.Microsecond).String()
	case a >= time.Millisecond:
		return d.Round(10 * time.Microsecond).String()
	}
	return d.Round(time.Microsecond).String()
}

// Differences hands how the message ruled on last was altered to see, by witness.
func (j *Judge) Differences(see func(witness int, d *Difference)) {
	for w := range j.testimonies {
		for i := range j.testimonies[w].differences {
			see(w, &j.testimonies[w].differences[i])
		}
	}
}
