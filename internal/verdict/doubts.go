package verdict

import (
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

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
	return c.Outcome == outcome.NotAsked && !c.Sent.IsZero() && (j.broken(c) || j.facts.Of(c.Stream).Lost)
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
	if j.losses.of(w, c).held(c.Seq) {
		return "a part of the ledger is damaged, which may have held what the witness saw of it"
	}
	switch x := j.newest[[2]int{c.Stream, c.Round}]; {
	case !j.facts.Witnesses[w].Latest:
	case x.last != x.seq && c.Seq == x.seq:
		return fmt.Sprintf("it shows the latest alone, and an older message (#%d) was taken last", x.last)
	case c.Seq < max(x.perhaps, j.strays[c.Stream]):
		return fmt.Sprintf("it shows the latest alone, and a newer message (#%d) went out, which may have taken its place",
			max(x.perhaps, j.strays[c.Stream]))
	}
	if mayBreak(c) {
		switch {
		case j.broken(c):
			return "the plan broke its connection just then, and nothing acknowledges QoS 0"
		case j.facts.Of(c.Stream).Lost:
			return "the ledger is damaged: whether the plan broke its connection just then is not known, and nothing " +
				"acknowledges QoS 0"
		}
	}
	if g := j.gaps[w].lost(c.Sent, patience(&j.facts.Witnesses[w], c)); g != nil {
		if g.Lag {
			return "the witness lagged just then: " + g.Why
		}
		return "the witness could not listen just then: " + g.Why
	}
	return ""
}
