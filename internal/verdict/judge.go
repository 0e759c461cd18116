package verdict

import (
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Judge decides on messages, one at a time.
type Judge struct {
	*Survey
	compare     func(stream, witness int) *comparer
	ruling      Ruling
	copies      []*evidence.Sighting
	testimonies []saying
	breaks      map[string][]ledger.Break // by device
	excluded    [][]bool                  // by stream and witness: it has nothing to do with it; nil: with all
}

// NewJudge makes a judge of a run, of which there is a survey.
func NewJudge(s *Survey) *Judge {
	f := s.facts
	j := &Judge{Survey: s, compare: comparers(f), testimonies: make([]saying, len(f.Witnesses)), excluded: make([][]bool, len(f.Streams))}
	for stream, list := range f.Actions.Breaks {
		if stream < len(f.Streams) {
			if j.breaks == nil {
				j.breaks = map[string][]ledger.Break{}
			}
			j.breaks[f.Streams[stream].Device] = list
		}
	}
	exclude := func(stream, w int) {
		if j.excluded[stream] == nil {
			j.excluded[stream] = make([]bool, len(f.Witnesses))
		}
		if w >= 0 && w < len(f.Witnesses) {
			j.excluded[stream][w] = true
		}
	}
	for i := range f.Streams {
		for _, w := range f.Streams[i].Unseen {
			exclude(i, w)
		}
		for w := range f.Witnesses {
			if f.Witnesses[w].Proof == ledger.Counts { // of all messages together, and of none
				exclude(i, w)
			}
		}
	}
	return j
}

// Ruling is what was decided on a message.
type Ruling struct {
	Verdict Verdict
	// Answer is how the protocol's own answer stands: Holds, Missing, Unheard where it
	// is not known, Unasked with QoS 0.
	Answer State
	// States are what each witness says.
	States []State
	// Delays are how long each witness's proof took.
	Delays []Delay
}

// saying is what a witness says of a message, as data.
type saying struct {
	state       State
	words       words
	times       int    // it was found
	delay       Delay  // to where it was found
	text        string // a place, or why
	differences []Difference
}

// words are the ways of saying it.
type words uint8

const (
	sayFound words = iota
	sayNotFound
	sayExcused // text is why
	sayValues
	sayUnder        // text is the device
	sayUnderReading // text is the reading
	sayTimes
	sayAttempts
	saySentAnew
	sayLate
	sayNoValues
	sayClock
	sayNotToTheEnd
	sayGapOnce      // text is why
	sayGapMeanwhile // text is why
	sayDisturbed
	sayTwoPages
	sayUnsure
	sayUnsureOnce
	sayLetIn
	sayKeptOut
	sayNotKnownOut // text is why
)

// Rule decides on a case. The ruling is valid until the next. Recovered says that the
// ledger does not tell when the message was due.
func (j *Judge) Rule(c *evidence.Case, recovered bool) *Ruling {
	s := &j.facts.Streams[c.Stream]
	r := &j.ruling
	*r = Ruling{States: r.States[:0], Delays: r.Delays[:0]}
	var worst [Missing + 1]bool // that some witness is in
	if c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard {
		return j.keptOut(c, recovered)
	}
	sees, found := 0, false
	open := recovered || c.Outcome == outcome.Open && !j.facts.Whole()
	for w := range j.facts.Witnesses {
		if j.excluded[c.Stream] != nil && j.excluded[c.Stream][w] {
			j.testimonies[w] = saying{delay: noDelay}
			r.States, r.Delays = append(r.States, Unasked), append(r.Delays, noDelay)
			continue
		}
		sees++
		x := j.testify(w, s, c, recovered)
		j.testimonies[w] = x
		worst[x.state] = true
		found = found || x.state != Missing && x.state != Unheard
		if open && x.state == Missing {
			x.state = Unheard // perhaps it was never taken: nobody is to blame
		}
		r.States, r.Delays = append(r.States, x.state), append(r.Delays, x.delay)
	}
	h := heardOf{c, open, worst, sees, found}
	r.Verdict = h.verdict()
	switch {
	case c.Outcome == outcome.NotAsked || s.QoS0:
		r.Answer = Unasked
	case c.Outcome == outcome.Accepted:
		r.Answer = Holds
	case open:
		r.Answer = Unheard
	default:
		r.Answer = Missing
	}
	return r
}

// heardOf is all that is known of a message: the protocol's answer, and what the
// witnesses say.
type heardOf struct {
	*evidence.Case
	open  bool // the protocol's answer is not known
	says  [Missing + 1]bool
	sees  int  // witnesses that should see it
	found bool // by any of them
}

// verdict is where the verdict of a message is decided: the first that applies.
func (h *heardOf) verdict() Verdict {
	switch {
	case h.Outcome == outcome.Dropped && !h.found:
		return Dropped
	case h.open || h.Outcome == outcome.Accepted || h.Outcome == outcome.NotAsked:
	case h.found:
		return Unacknowledged
	case h.Outcome == outcome.Refused:
		return Refused
	case h.Outcome == outcome.Unsent || h.Attempts == 0:
		return Unsent
	case h.says[Unheard]:
		return Unknown
	default:
		return Unanswered
	}
	switch {
	case h.says[Missing] && !h.open:
		return Lost
	case h.says[Changed]:
		return Altered
	case h.says[Elsewhere]:
		return Misfiled
	case h.says[Copied]:
		return Repeated
	case h.says[TooLate]:
		return Late
	case h.says[Unheard] || h.says[Open] || h.open:
		return Unknown
	case h.sees == 0 && h.Outcome == outcome.NotAsked:
		return Unknown // QoS 0 and nobody who looks: nothing can prove it
	}
	return Proven
}

// testify says what one witness knows of a message.
func (j *Judge) testify(w int, s *ledger.Stream, c *evidence.Case, recovered bool) saying {
	wit := &j.facts.Witnesses[w]
	copies, perhaps, unsure := j.copies[:0], 0, false
	var first, last *evidence.Sighting
	for i := range c.Sightings {
		x := &c.Sightings[i]
		if x.Witness != w {
			continue
		}
		if x.Unsure {
			unsure = true
			continue
		}
		last = x
		switch {
		case x.Perhaps:
			perhaps++
		// What is said to be once more, and is the first that came, is a copy: the one
		// before was never heard.
		case x.Again && first != nil || x.Row != 0 && slices.ContainsFunc(copies, func(y *evidence.Sighting) bool { return y.Row == x.Row }):
		default:
			copies = append(copies, x)
		}
		if first == nil {
			first = x
		}
	}
	j.copies = copies
	if first == nil {
		switch {
		case c.Outcome == outcome.Unsent || c.Outcome == outcome.Dropped || c.Attempts == 0 && !recovered && j.facts.Whole():
			return saying{state: Missing, words: sayNotFound, delay: noDelay} // nobody can find what was never sent
		case unsure:
			return saying{state: Unheard, words: sayUnsure, delay: noDelay}
		default:
			if why := j.excused(w, c); why != "" {
				return saying{state: Unheard, words: sayExcused, text: why, delay: noDelay}
			}
			return saying{state: Missing, words: sayNotFound, delay: noDelay}
		}
	}
	if len(copies) > 0 {
		first = copies[0]
	}
	x := saying{state: Holds, times: max(1, len(copies)), delay: noDelay}
	if timed(first) && !c.Sent.IsZero() {
		x.delay = j.Clocks[w].delay(c.Sent, first)
	}
	say := func(st State, w words) saying { x.state, x.words = st, w; return x }
	known := !recovered                          // what was sent of it is not in the ledger
	current := func(y *evidence.Sighting) bool { // what the platform holds now; all that a listener heard
		switch {
		case y.Witness != w || y.Perhaps || y.Unsure:
			return false
		case !y.Asked:
			return true
		case y.Row == 0:
			return len(copies) > 1 || y == last || last.Perhaps
		}
		for i := len(c.Sightings) - 1; i >= 0; i-- {
			if z := &c.Sightings[i]; z.Witness == w && z.Row == y.Row {
				return z == y
			}
		}
		return true
	}
	if !recovered {
		for i := range c.Sightings {
			if y := &c.Sightings[i]; !y.Same && current(y) {
				if x.differences, known = j.compare(c.Stream, w).differences(c.Carried(), y.Values()); len(x.differences) > 0 {
					return say(Changed, sayValues)
				}
				if !known {
					break
				}
			}
		}
	}
	for i := range c.Sightings {
		y := &c.Sightings[i]
		if y.FiledDevice == "" && y.FiledIn == "" || !current(y) {
			continue
		}
		if x.text = y.FiledDevice; x.text != "" && x.text != s.Device {
			return say(Elsewhere, sayUnder)
		}
		if x.text = y.FiledIn; x.text != "" && x.text != s.Reading {
			return say(Elsewhere, sayUnderReading)
		}
	}
	allowed := 1 // where the protocol says so, one more for each time it was sent anew
	if c.Meant != ledger.ToKeepOne {
		allowed += c.Copies
	}
	if s.MayRepeat {
		allowed += c.Anew
	}
	if len(copies) > allowed {
		if !s.QoS0 && (recovered || j.facts.Lost || c.Outcome == outcome.Open && !j.facts.Whole()) {
			return say(Open, sayAttempts) // a record that it was sent again may be missing
		}
		if len(copies) <= 1+c.Anew { // the first sending was as good as surely never taken
			return say(Open, saySentAnew)
		}
		return say(Copied, sayTimes)
	}
	switch {
	case unsure:
		return say(Open, sayUnsureOnce)
	case !known:
		return say(Open, sayNoValues)
	case len(copies)+perhaps > allowed:
		return say(Open, sayTwoPages)
	}
	// A row that does not tell when it was stored cannot be called late: it may
	// have been there long before the witness asked.
	if wit.Within > 0 && !c.Sent.IsZero() && timed(first) {
		switch x.delay.inTime(wit.Within) {
		case TooLate:
			if wit.Listens { // perhaps it was not late, but waited for the witness
				if g := j.gaps[w].over(c.Sent, first.Seen); g != nil {
					x.text = g.Why
					return say(Open, sayGapMeanwhile)
				}
			}
			if j.disturbed(c, first.Seen) { // it was the plan that made it late, perhaps
				return say(Open, sayDisturbed)
			}
			return say(TooLate, sayLate)
		case Open:
			return say(Open, sayClock)
		}
	}
	if h, ok := wit.Heard[c.Round]; !ok || !h.Complete {
		return say(Open, sayNotToTheEnd)
	}
	if wit.Listens {
		from := c.Sent
		if from.IsZero() {
			from = first.Seen
		}
		if g := j.gaps[w].deaf(from, first.Seen.Add(wit.WatchCopies), s.QoS0); g != nil {
			x.text = g.Why
			return say(Open, sayGapOnce)
		}
	}
	return x
}

// keptOut decides on a message that the platform has to refuse, or to discard.
func (j *Judge) keptOut(c *evidence.Case, recovered bool) *Ruling {
	r := &j.ruling
	*r = Ruling{Verdict: Proven, Answer: Unasked, States: r.States[:0], Delays: r.Delays[:0]}
	sees, unheard := 0, false
	for w := range j.facts.Witnesses {
		x := saying{state: Unasked, delay: noDelay, words: sayKeptOut}
		if j.excluded[c.Stream] == nil || !j.excluded[c.Stream][w] {
			sees++
			if slices.ContainsFunc(c.Sightings, func(s evidence.Sighting) bool { return s.Witness == w }) {
				x.state, x.words = Changed, sayLetIn
				r.Verdict = LetIn
			} else if why := j.excused(w, c); why != "" && c.Attempts > 0 {
				x.words, x.text, unheard = sayNotKnownOut, why, true
			}
		}
		j.testimonies[w] = x
		r.States, r.Delays = append(r.States, x.state), append(r.Delays, noDelay)
	}
	open := recovered || c.Outcome == outcome.Open && !j.facts.Whole()
	switch {
	case c.Outcome == outcome.Accepted && c.Meant == ledger.ToRefuse:
		r.Verdict, r.Answer = LetIn, Missing
	case r.Verdict == LetIn:
	case c.Outcome == outcome.Dropped:
		r.Verdict = Dropped
	case open:
		r.Verdict = Unknown
	case c.Outcome == outcome.Unsent || c.Outcome != outcome.Refused && c.Attempts == 0:
		r.Verdict = Unsent
	case unheard:
		r.Verdict = Unknown
	case c.Outcome == outcome.Refused:
	case c.Outcome == outcome.NoAnswer || c.Outcome == outcome.Open:
		r.Verdict = Unanswered
	case c.Meant == ledger.ToRefuse: // QoS 0: nothing said no
		r.Verdict = Unknown
	case sees == 0: // nobody looks whether it was kept
		r.Verdict = Unknown
	}
	return r
}

// breakMargin is how long before the plan broke a connection a message without an
// acknowledgement may have been under way.
const breakMargin = 2 * time.Second

// mendMargin is how long behind the end of it one may have gone to a connection that was
// just broken.
const mendMargin = 500 * time.Millisecond

// mayBreak tells whether a message may have been lost by a connection that the plan broke:
// nothing acknowledges it, and nobody has seen it.
func mayBreak(c *evidence.Case) bool {
	return c.Outcome == outcome.NotAsked && !c.Sent.IsZero() && len(c.Sightings) == 0
}

// MayBeGone tells whether a message that nothing acknowledges may have been lost by a
// connection that the plan broke, or that was lost with damage: nobody is to blame for it.
func (j *Judge) MayBeGone(c *evidence.Case) bool {
	return c.Outcome == outcome.NotAsked && !c.Sent.IsZero() && (j.broken(c) || j.facts.Lost)
}

// broken tells whether the plan broke the connection of a device while a message of it was
// on its way.
func (j *Judge) broken(c *evidence.Case) bool {
	return slices.ContainsFunc(j.breaks[j.facts.Streams[c.Stream].Device], func(b ledger.Break) bool {
		return b.Deaf && !c.Sent.Before(b.From.Add(-breakMargin)) && (b.To.IsZero() || !c.Sent.After(b.To.Add(mendMargin)))
	})
}

// disturbed tells whether the plan disturbed the connection of a device between the moment
// at which a message was sent first and another.
func (j *Judge) disturbed(c *evidence.Case, to time.Time) bool {
	return slices.ContainsFunc(j.breaks[j.facts.Streams[c.Stream].Device], func(b ledger.Break) bool {
		return !to.Before(b.From) && (b.To.IsZero() || !c.Sent.After(b.To.Add(breakMargin)))
	})
}

// timed tells whether it is known when a message came to where it was found: a
// subscription hears it then, a query must be told.
func timed(x *evidence.Sighting) bool { return !x.Asked || !x.Stored.IsZero() }

// excused tells why a witness cannot be blamed for not having a message, or "".
func (j *Judge) excused(w int, c *evidence.Case) string {
	if h, heard := j.facts.Witnesses[w].Heard[c.Round]; !heard || !h.Complete { // why is told once, with the witness
		return "the witness was not heard to the end"
	}
	if mayBreak(c) {
		switch {
		case j.broken(c):
			return "the plan broke its connection just then, and nothing acknowledges QoS 0"
		case j.facts.Lost:
			return "the ledger is damaged: whether the plan broke its connection just then is not known, and nothing acknowledges QoS 0"
		}
	}
	if g := j.gaps[w].over(c.Sent, patience(&j.facts.Witnesses[w], c)); g != nil {
		if g.Lag {
			return "the witness lagged just then: " + g.Why
		}
		return "the witness could not listen just then: " + g.Why
	}
	return ""
}

// Finding tells a ruling in words. It belongs to the case that was ruled on last.
func (j *Judge) Finding(c *evidence.Case, recovered bool) Finding {
	s := &j.facts.Streams[c.Stream]
	f := Finding{Device: s.Device, Kind: s.Kind, Reading: s.Reading, Seq: c.Seq, Round: c.Round, Verdict: j.ruling.Verdict.String(), Due: c.Due,
		Attempts: c.Attempts, Outcome: c.Outcome.String(), Said: c.Text(), Carried: "null", Stream: c.Stream}
	if !recovered {
		f.Carried = string(c.Carried())
	}
	for w := range j.testimonies {
		if t := j.testimony(w, c, recovered); t != nil {
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
		if j.facts.Lost {
			f.Said = "what the ledger tells of it is damaged"
		}
	case c.Outcome == outcome.Open && j.facts.Lost:
		f.Outcome, f.Said = "unknown", "its answer may be in the damaged part of the ledger"
	case c.Outcome == outcome.Open && !j.facts.Ended:
		f.Outcome, f.Said = "unknown", "the run was killed before its answer was written"
	}
	return f
}

// testimony is what a witness said of the message ruled on, in words; nil for nothing.
func (j *Judge) testimony(w int, c *evidence.Case, recovered bool) *Testimony {
	x := &j.testimonies[w]
	wit := &j.facts.Witnesses[w]
	t := &Testimony{Witness: wit.Name, Differences: x.differences}
	switch x.words {
	case sayFound:
		if x.state != Holds {
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
		if c.Outcome == outcome.Unsent || c.Outcome == outcome.Dropped || c.Attempts == 0 && !recovered && j.facts.Whole() {
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
		t.Says = fmt.Sprintf("found %d times, and it was sent again so that the platform may have taken it twice: whether it did, or stored it twice, is not known", x.times)
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
		t.Says = fmt.Sprintf("found, but whether within %s is not known: the platform's clock and ours do not agree well enough", wit.Within)
		if j.Clocks[w].echoed() {
			t.Says = fmt.Sprintf("found, but whether within %s is not known: the time that it tells is the one that the device sent", wit.Within)
		}
	case sayNotToTheEnd:
		t.Says = "found, but whether once is not known: the witness was not heard to the end"
	case sayGapOnce:
		t.Says = "found, but whether once is not known: the witness could not listen all the time: " + x.text
	case sayGapMeanwhile:
		t.Says = fmt.Sprintf("found, but whether within %s is not known: the witness could not listen meanwhile: %s", wit.Within, x.text)
	case sayLetIn:
		t.Says = "found, and must not be"
	case sayKeptOut:
		t.Says = "not found, as it must be"
	case sayNotKnownOut:
		t.Says = "not found, but it could not be heard to the end: " + x.text
	case sayDisturbed:
		t.Says = fmt.Sprintf("found %s after it was sent, and allowed are %s: whether the platform was late is not known, because the plan disturbed the device's network meanwhile", Span(x.delay.Took), wit.Within)
	case sayUnsure:
		t.Says = "not known: something was found that may be this message or another one, and nothing tells which"
	case sayUnsureOnce:
		t.Says = "found, and something more that may be another copy of it or another message: nothing tells which"
	case sayTwoPages:
		t.Says = "found on more than one page of an answer: whether these are two rows or one that moved is not known; say what a row's own identity is with row"
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
