package verdict

import (
	"slices"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// said is what a witness says of a message, as data.
type said struct {
	state       State
	words       words
	times       int           // it was found
	delay       Delay         // to where it was found
	off         time.Duration // by which the time of its row is wrong
	text        string        // a place, or why
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
	sayStill
	sayOff
	sayNotToTheEnd
	sayLostCopy     // text is why
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

// look is one witness at one message: what the rules decide by.
type look struct {
	*Judge
	c         *evidence.Case
	w         int // the witness
	recovered bool
	// of its sightings: those that are copies of their own, in their order
	copies      []*evidence.Sighting
	perhaps     int  // that may be rows which were met before
	unsure      bool // something was found that may be this message or another one
	first, last *evidence.Sighting
	found       said // what is found, as far as no rule says more
	unread      bool // what was sent of it could not be read back, or is not known
}

func (l *look) witness() *ledger.Witness { return &l.facts.Witnesses[l.w] }
func (l *look) stream() *ledger.Stream   { return &l.facts.Streams[l.c.Stream] }

// foundAs says that it was found, and what is to be said of that.
func (l *look) foundAs(s State, w words) (said, bool) {
	l.found.state, l.found.words = s, w
	return l.found, true
}

// missed says that it was not found.
func missed(s State, w words, text string) (said, bool) {
	return said{state: s, words: w, text: text, delay: noDelay}, true
}

// rules are what decides on what one witness says, in their order: the first that applies.
// Each rule is told whether it does. What none applies to was found, once, in time, as it was
// sent.
var rules = [...]struct {
	name string
	rule func(*look) (said, bool)
}{
	{"nothing was found", (*look).notFound},
	{"other values", (*look).otherValues},
	{"another place", (*look).anotherPlace},
	{"more copies than were sent", (*look).moreCopies},
	{"something else that it may be", (*look).mayBeMore},
	{"too late", (*look).tooLate},
	{"not heard to the end", (*look).notToTheEnd},
	{"a gap in which a copy may have been missed", (*look).missedCopy},
}

// testify says what one witness knows of a message.
func (j *Judge) testify(w int, c *evidence.Case, recovered bool) said {
	l := &j.look // one for all: nothing is allocated for a message
	*l = look{Judge: j, c: c, w: w, recovered: recovered, unread: recovered}
	l.gather()
	for i := range rules {
		if x, applies := rules[i].rule(l); applies {
			return x
		}
	}
	return l.found
}

// gather sorts the sightings of the witness: which are copies, and which may be.
func (l *look) gather() {
	l.copies = l.Judge.copies[:0]
	for i := range l.c.Sightings {
		x := &l.c.Sightings[i]
		if x.Witness != l.w {
			continue
		}
		if x.Unsure {
			l.unsure = true
			continue
		}
		l.last = x
		switch {
		case x.Perhaps:
			l.perhaps++
		// What is said to be once more, and is the first that came, is a copy: the one
		// before was never heard.
		case x.Again && l.first != nil || x.Row != 0 && slices.ContainsFunc(l.copies,
			func(y *evidence.Sighting) bool { return y.Row == x.Row }):
		default:
			l.copies = append(l.copies, x)
		}
		if l.first == nil {
			l.first = x
		}
	}
	if len(l.copies) > 0 {
		l.first = l.copies[0]
	}
	l.Judge.copies = l.copies
	l.found = said{state: Found, times: max(1, len(l.copies)), delay: noDelay}
	if l.first != nil && timed(l.first) && !l.c.Sent.IsZero() {
		k := l.Clock(l.w, l.c.Stream)
		l.found.delay = k.delay(l.c.Sent, l.first)
		if by, is := k.off(l.c.Sent, l.first); is {
			l.found.off = by
			k.name(l.stream().Device, l.stream().Reading, l.c.Seq, by)
		}
		l.found.delay.Least = max(0, l.found.delay.Least-l.still(l.c.Sent, l.first.Seen))
	}
}

// notFound applies where the witness has nothing of the message for certain.
func (l *look) notFound() (said, bool) {
	switch {
	case l.first != nil:
		return said{}, false
	case l.neverSent(l.c, l.recovered): // nobody can find it
		return missed(NotFound, sayNotFound, "")
	case l.unsure:
		return missed(NotHeard, sayUnsure, "")
	}
	if why := l.excused(l.w, l.c); why != "" {
		return missed(NotHeard, sayExcused, why)
	}
	return missed(NotFound, sayNotFound, "")
}

// neverSent tells whether a message surely never left.
func (j *Judge) neverSent(c *evidence.Case, recovered bool) bool {
	return c.Outcome == outcome.Unsent || c.Outcome == outcome.Dropped || c.Attempts == 0 && !recovered && j.facts.Settled(c.Stream, c.Seq)
}

// current tells whether a sighting is what the platform holds now: of a row, only its last
// form; of what was heard, all.
func (l *look) current(y *evidence.Sighting) bool {
	switch {
	case y.Witness != l.w || y.Unsure:
		return false
	case !y.Asked:
		return true
	case y.Perhaps:
		return false
	case y.Row == 0:
		return len(l.copies) > 1 || y == l.last || l.last.Perhaps
	}
	for i := len(l.c.Sightings) - 1; i >= 0; i-- {
		if z := &l.c.Sightings[i]; z.Witness == l.w && z.Row == y.Row {
			return z == y
		}
	}
	return true
}

// otherValues applies where something holds other values than were sent.
func (l *look) otherValues() (said, bool) {
	for i := range l.c.Sightings {
		y := &l.c.Sightings[i]
		if l.unread || y.Same || !l.current(y) {
			continue
		}
		differences, known := l.compare(l.c.Stream, l.w).differences(l.c.Carried(), y.Values())
		if len(differences) > 0 {
			l.found.differences = differences
			return l.foundAs(FoundAltered, sayValues)
		}
		l.unread = !known
	}
	return said{}, false
}

// anotherPlace applies where it was filed under another device or reading.
func (l *look) anotherPlace() (said, bool) {
	for i := range l.c.Sightings {
		y := &l.c.Sightings[i]
		if y.FiledDevice == "" && y.FiledIn == "" || !l.current(y) {
			continue
		}
		if y.FiledDevice != "" && y.FiledDevice != l.stream().Device {
			l.found.text = y.FiledDevice
			return l.foundAs(FoundMisfiled, sayUnder)
		}
		if y.FiledIn != "" && y.FiledIn != l.stream().Reading {
			l.found.text = y.FiledIn
			return l.foundAs(FoundMisfiled, sayUnderReading)
		}
	}
	return said{}, false
}

// allowed is how many copies there may be: one, and where the protocol or the plan says so
// one more for each time that it was sent again.
func (l *look) allowed() int {
	n := 1
	if l.c.Meant != ledger.ToKeepOne {
		n += l.c.Copies
	}
	if l.stream().MayRepeat {
		n += l.c.Anew
	}
	return n
}

// moreCopies applies where there are more copies than were sent.
func (l *look) moreCopies() (said, bool) {
	switch {
	case len(l.copies) <= l.allowed():
		return said{}, false
	// A record that it was sent again may be missing.
	case !l.stream().QoS0 && (l.recovered || l.facts.Of(l.c.Stream).Lost || l.c.Outcome == outcome.Open && !l.facts.Settled(l.c.Stream, l.c.Seq)):
		return l.foundAs(InDoubt, sayAttempts)
	case len(l.copies) <= 1+l.c.Anew: // the first sending was as good as surely never taken
		return l.foundAs(InDoubt, saySentAnew)
	}
	return l.foundAs(FoundRepeated, sayTimes)
}

// mayBeMore applies where it is not known whether all that was found is this message, once
// and as it was sent.
func (l *look) mayBeMore() (said, bool) {
	switch {
	case l.unsure:
		return l.foundAs(InDoubt, sayUnsureOnce)
	case l.unread:
		return l.foundAs(InDoubt, sayNoValues)
	case len(l.copies)+l.perhaps > l.allowed():
		return l.foundAs(InDoubt, sayTwoPages)
	}
	return said{}, false
}

// tooLate applies where it came after the time allowed, or may have. A row that does not tell
// when it was stored cannot be called late: it may have been there long before the witness
// asked.
func (l *look) tooLate() (said, bool) {
	wit := l.witness()
	if wit.Within == 0 || l.c.Sent.IsZero() || !timed(l.first) {
		return said{}, false
	}
	switch l.found.delay.inTime(wit.Within) {
	case InDoubt:
		if l.found.off != 0 {
			return l.foundAs(InDoubt, sayOff)
		}
		if l.still(l.c.Sent, l.first.Seen) > 0 {
			return l.foundAs(InDoubt, sayStill)
		}
		return l.foundAs(InDoubt, sayClock)
	case FoundLate:
		if h := wit.Heard[l.c.Round]; wit.Listens && !h.Complete { // whether it waited is written down later
			l.found.text = "the witness was not heard to the end of the round, and may have heard late"
			return l.foundAs(InDoubt, sayGapMeanwhile)
		}
		if wit.Listens { // perhaps it was not late, but waited for the witness
			if g := l.gaps[l.w].over(l.c.Sent, l.first.Seen); g != nil {
				l.found.text = g.Why
				return l.foundAs(InDoubt, sayGapMeanwhile)
			}
		}
		if l.disturbed(l.c, l.first.Seen) { // it was the plan that made it late, perhaps
			return l.foundAs(InDoubt, sayDisturbed)
		}
		return l.foundAs(FoundLate, sayLate)
	}
	return said{}, false
}

// notToTheEnd applies where a copy may come that the witness does not see any more.
func (l *look) notToTheEnd() (said, bool) {
	if l.losses.of(l.w, l.c).held(l.c.Seq) {
		l.found.text = "a part of the ledger is damaged, which may have held another copy"
		return l.foundAs(InDoubt, sayLostCopy)
	}
	if h, ok := l.witness().Heard[l.c.Round]; ok && h.Complete {
		return said{}, false
	}
	return l.foundAs(InDoubt, sayNotToTheEnd)
}

// missedCopy applies where a listening witness could not listen when a copy may have come.
func (l *look) missedCopy() (said, bool) {
	if !l.witness().Listens {
		return said{}, false
	}
	from := l.c.Sent
	if from.IsZero() {
		from = l.first.Seen
	}
	g := l.gaps[l.w].deaf(from, l.first.Seen.Add(l.witness().WatchCopies), l.stream().QoS0)
	if g == nil {
		return said{}, false
	}
	l.found.text = g.Why
	return l.foundAs(InDoubt, sayGapOnce)
}
