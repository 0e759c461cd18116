package verdict

import (
	"slices"

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
	look        look
	testimonies []said
	breaks      map[string][]ledger.Break // by device
	excluded    [][]bool                  // by stream and witness: it has nothing to do with it; nil: with all
}

// NewJudge makes a judge of a run, of which there is a survey.
func NewJudge(s *Survey) *Judge {
	f := s.facts
	j := &Judge{Survey: s, compare: comparers(f), testimonies: make([]said, len(f.Witnesses)),
		excluded: make([][]bool, len(f.Streams))}
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
	// Answer is how the protocol's own answer stands: Found, NotFound, NotHeard where it
	// is not known, Unasked with QoS 0.
	Answer State
	// States are what each witness says.
	States []State
	// Delays are how long each witness's proof took.
	Delays []Delay
}

// Rule decides on a case. The ruling is valid until the next. Recovered says that the
// ledger does not tell when the message was due.
func (j *Judge) Rule(c *evidence.Case, recovered bool) *Ruling {
	r := &j.ruling
	*r = Ruling{States: r.States[:0], Delays: r.Delays[:0]}
	open := recovered || c.Outcome == outcome.Open && !j.facts.Settled(c.Stream, c.Seq)
	if c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard {
		j.keptOut(c, open)
		return r
	}
	h := heard{Case: c, open: open}
	for w := range j.facts.Witnesses {
		if !j.sees(w, c.Stream) || j.replaced(w, c) {
			j.testimonies[w] = said{delay: noDelay}
			r.States, r.Delays = append(r.States, Unasked), append(r.Delays, noDelay)
			continue
		}
		x := j.testify(w, c, recovered)
		j.testimonies[w] = x
		h.sees++
		h.says[x.state] = true
		h.found = h.found || x.state != NotFound && x.state != NotHeard
		if open && x.state == NotFound {
			x.state = NotHeard // perhaps it was never taken: nobody is to blame
		}
		r.States, r.Delays = append(r.States, x.state), append(r.Delays, x.delay)
	}
	r.Verdict, r.Answer = h.verdict(), h.answer(j.facts.Streams[c.Stream].QoS0)
	return r
}

// sees tells whether a witness has to do with the messages of a stream.
func (j *Judge) sees(w, stream int) bool {
	return j.excluded[stream] == nil || !j.excluded[stream][w]
}

// replaced tells whether a newer message took the place of one, where a witness shows the
// latest alone, and it did not see it before.
func (j *Judge) replaced(w int, c *evidence.Case) bool {
	return j.facts.Witnesses[w].Latest && c.Seq < j.newest[[2]int{c.Stream, c.Round}].seq &&
		!slices.ContainsFunc(c.Sightings, func(x evidence.Sighting) bool { return x.Witness == w })
}

// heard is all that is known of a message: the protocol's answer, and what the witnesses
// say.
type heard struct {
	*evidence.Case
	open  bool               // the protocol's answer is not known
	says  [NotFound + 1]bool // that some witness is in this state
	sees  int                // witnesses that should see it
	found bool               // by any of them
}

// verdict is where the verdict of a message is decided: the first that applies.
func (h *heard) verdict() Verdict {
	taken := h.open || h.Outcome == outcome.Accepted || h.Outcome == outcome.NotAsked
	switch {
	case h.Outcome == outcome.Dropped && !h.found:
		return Dropped
	case !taken:
		return h.untaken()
	case h.says[NotFound] && !h.open:
		return Lost
	case h.says[FoundAltered]:
		return Altered
	case h.says[FoundMisfiled]:
		return Misfiled
	case h.says[FoundRepeated]:
		return Repeated
	case h.says[FoundLate]:
		return Late
	case h.says[NotHeard] || h.says[InDoubt] || h.open:
		return Unknown
	case h.sees == 0 && h.Outcome == outcome.NotAsked:
		return Unknown // QoS 0 and nobody who looks: nothing can prove it
	}
	return Proven
}

// untaken is the verdict of a message of which the platform did not say that it took it.
func (h *heard) untaken() Verdict {
	switch {
	case h.found:
		return Unacknowledged
	case h.Outcome == outcome.Refused:
		return Refused
	case h.Outcome == outcome.Unsent || h.Attempts == 0:
		return Unsent
	case h.says[NotHeard]:
		return Unknown
	}
	return Unanswered
}

// answer is how the protocol's own answer stands.
func (h *heard) answer(qos0 bool) State {
	switch {
	case h.Outcome == outcome.NotAsked || qos0:
		return Unasked
	case h.Outcome == outcome.Accepted:
		return Found
	case h.open:
		return NotHeard
	}
	return NotFound
}

// keptOut decides on a message that the platform has to refuse, or to discard.
func (j *Judge) keptOut(c *evidence.Case, open bool) {
	r := &j.ruling
	r.Answer = Unasked
	k := kept{Case: c, open: open}
	for w := range j.facts.Witnesses {
		x := said{state: Unasked, delay: noDelay, words: sayKeptOut}
		if j.sees(w, c.Stream) {
			k.sees++
			if slices.ContainsFunc(c.Sightings, func(s evidence.Sighting) bool { return s.Witness == w }) {
				x.state, x.words, k.found = FoundLetIn, sayLetIn, true
			} else if why := j.excused(w, c); why != "" && c.Attempts > 0 {
				x.words, x.text, k.unheard = sayNotKnownOut, why, true
			} else if why == "" && !j.facts.Witnesses[w].Listens {
				k.looked = true
			}
		}
		j.testimonies[w] = x
		r.States, r.Delays = append(r.States, x.state), append(r.Delays, noDelay)
	}
	if r.Verdict = k.verdict(); c.Outcome == outcome.Accepted && c.Meant == ledger.ToRefuse {
		r.Answer = NotFound // it had to say no
	}
}

// kept is all that is known of a message that must not get in.
type kept struct {
	*evidence.Case
	open    bool // the protocol's answer is not known
	sees    int  // witnesses that would see it
	found   bool // by one of them
	unheard bool // one of them could not be heard to the end
	looked  bool // one of them asked the platform, read its answer to the end, and has it not
}

// verdict is where the verdict of a message that must not get in is decided: the first that
// applies. Proven is only what was shown to be kept out: something said no to it, or somebody
// looked and could have seen it.
func (k *kept) verdict() Verdict {
	switch {
	case k.Outcome == outcome.Accepted && k.Meant == ledger.ToRefuse, k.found:
		return LetIn
	case k.Outcome == outcome.Dropped:
		return Dropped
	case k.open:
		return Unknown
	case k.Outcome == outcome.Unsent || k.Outcome != outcome.Refused && k.Attempts == 0:
		return Unsent
	case k.unheard && !(k.Outcome == outcome.Refused && k.looked):
		return Unknown // two that say no need no third
	case k.Outcome == outcome.Refused:
		return Proven
	case k.Outcome == outcome.NoAnswer || k.Outcome == outcome.Open:
		return Unanswered
	case k.Meant == ledger.ToRefuse: // QoS 0: nothing said no
		return Unknown
	case k.sees == 0: // nobody looks whether it was kept
		return Unknown
	}
	return Proven
}
