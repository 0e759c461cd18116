package verdict

import (
	"maps"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Survey is what all messages together tell, and each is judged by: the clocks of the
// platforms, and in which gaps brokers dropped messages for a witness.
type Survey struct {
	// clocks are what the platforms' clocks are known by, by witness; and read what the rows of
	// each reading say, by its number and witness: whose time that is, is found for each.
	clocks  []Clock
	read    [][]Clock
	reading []int    // the number of a stream's reading
	names   []string // of readings, by number
	facts   *ledger.Facts
	gaps    []gaps // of the witnesses
	losses  losses
	// newest are, by stream and round, those that went out last; nil where no witness shows
	// the latest alone.
	newest map[[2]int]newest
	strays map[int]uint64 // the newest of a stream that is known from witnesses alone
}

// newest is the newest message of a stream in a round that the platform took, the one that it
// took last, and the newest that it may have kept all the same: without an answer, or against
// the plan.
type newest struct {
	seq, last, perhaps uint64
	at                 time.Time
}

// NewSurvey makes a survey of a run, of which no case is known.
func NewSurvey(f *ledger.Facts) *Survey {
	s := &Survey{clocks: make([]Clock, len(f.Witnesses)), facts: f, gaps: make([]gaps, len(f.Witnesses))}
	s.losses = newLosses(f)
	number := map[[2]string]int{}
	for i := range f.Streams {
		k := [2]string{f.Streams[i].Kind, f.Streams[i].Reading}
		n, is := number[k]
		if !is {
			n = len(number)
			number[k] = n
			s.names, s.read = append(s.names, k[1]), append(s.read, make([]Clock, len(f.Witnesses)))
			for w := range f.Witnesses {
				s.read[n][w].of = f.Witnesses[w].TimeOf
			}
		}
		s.reading = append(s.reading, n)
	}
	for i := range f.Witnesses {
		s.gaps[i] = newGaps(f.Witnesses[i].Gaps)
		s.clocks[i].of = f.Witnesses[i].TimeOf
		if f.Witnesses[i].Latest && s.newest == nil {
			s.newest, s.strays = map[[2]int]newest{}, map[int]uint64{}
		}
	}
	return s
}

// Needed tells whether the cases have to be looked at before they are judged. Timed: some
// witness tells when messages were stored.
func (s *Survey) Needed(timed bool) bool {
	timed = timed || s.newest != nil || s.losses != nil
	for i := range s.gaps {
		timed = timed || slices.ContainsFunc(s.gaps[i].list, func(g ledger.Gap) bool { return g.Kept || g.Lag })
	}
	return timed
}

// Add takes what a case tells.
func (s *Survey) Add(c *evidence.Case) {
	if c.Stream >= 0 && c.Stream < len(s.reading) {
		addClocks(s.read[s.reading[c.Stream]], c)
	}
	s.addNewest(c)
	s.losses.add(s.facts, c)
	if c.Stream < 0 || !c.Known || c.Sent.IsZero() || c.Outcome != outcome.Accepted && c.Outcome != outcome.NotAsked {
		return
	}
	for w := range s.gaps {
		g := &s.gaps[w]
		if len(g.list) == 0 || slices.Contains(s.facts.Streams[c.Stream].Unseen, w) ||
			slices.ContainsFunc(c.Sightings, func(x evidence.Sighting) bool { return x.Witness == w }) {
			continue
		}
		// It is missing: any gap in which it may have come out may have swallowed it.
		g.each(c.Sent, patience(&s.facts.Witnesses[w], c), func(i int) bool { g.dropped[i] = !g.list[i].Whole; return false })
	}
}

// addNewest takes what a case tells to a witness that shows the latest alone.
func (s *Survey) addNewest(c *evidence.Case) {
	if s.newest == nil || c.Stream < 0 {
		return
	}
	if !c.Known { // of which round it is, is lost
		if len(c.Sightings) > 0 {
			s.strays[c.Stream] = max(s.strays[c.Stream], c.Seq)
		}
		return
	}
	k := [2]int{c.Stream, c.Round}
	x := s.newest[k]
	defer func() { s.newest[k] = x }()
	taken := c.Outcome == outcome.Accepted || c.Outcome == outcome.NotAsked
	no := c.Outcome == outcome.Refused || c.Outcome == outcome.Dropped || taken && c.Meant == ledger.ToDiscard
	if len(c.Sightings) > 0 || c.Attempts > 0 && !no {
		x.perhaps = max(x.perhaps, c.Seq)
	}
	if c.Sent.IsZero() || no || !taken {
		return
	}
	x.seq = max(x.seq, c.Seq)
	at := c.At
	if at.IsZero() {
		at = c.Sent
	}
	if x.at.IsZero() || at.After(x.at) {
		x.last, x.at = c.Seq, at
	}
}

// Finish ends the survey.
func (s *Survey) Finish() {
	for _, of := range s.read {
		for w := range of {
			if k := &of[w]; !k.echoed() {
				s.clocks[w].join(k)
			}
		}
	}
	finishClocks(s.clocks, s.facts)
	s.losses.finish()
}

// Clock is what the times of a witness's rows of a stream are read by.
func (s *Survey) Clock(w, stream int) *Clock {
	if stream >= 0 && stream < len(s.reading) {
		if k := &s.read[s.reading[stream]][w]; k.echoed() {
			return k
		}
	}
	return &s.clocks[w]
}

// ClockSays tells what is to be told of the clock of a witness's platform, in lines.
func (s *Survey) ClockSays(w int) []string {
	lines := s.clocks[w].says()
	of := map[string][]string{} // readings, by what is said of them
	told := 0
	for n := range s.read {
		k := &s.read[n][w]
		if k.timed == 0 {
			continue
		}
		told++
		if says := k.echoSays(); says != "" && !slices.Contains(of[says], s.names[n]) {
			of[says] = append(of[says], s.names[n])
		}
	}
	for _, says := range slices.Sorted(maps.Keys(of)) {
		if len(of[says]) < told {
			says = "of " + strings.Join(of[says], ", ") + ": " + says
		}
		lines = append(lines, says)
	}
	return lines
}

// gapMargin: a message that was acknowledged this long before a gap of a witness, or
// longer if the witness waits longer, may have come out in it.
const gapMargin = time.Second

// patience is until when a message may come out of the platform; zero: for ever.
func patience(w *ledger.Witness, c *evidence.Case) time.Time {
	if c.At.IsZero() || c.Outcome == outcome.NoAnswer {
		return time.Time{}
	}
	// The platform may take as long to pass it on as the witness waits for it.
	return c.At.Add(max(gapMargin, w.Wait))
}

// gaps are the gaps of a witness by their beginnings.
type gaps struct {
	list []ledger.Gap
	// latest is, for each, when all gaps up to it are over; zero: never.
	latest []time.Time
	// dropped: a message is missing that may have come out in it.
	dropped []bool
}

func newGaps(list []ledger.Gap) gaps {
	g := gaps{list: slices.Clone(list), dropped: make([]bool, len(list))}
	slices.SortStableFunc(g.list, func(a, b ledger.Gap) int { return a.From.Compare(b.From) })
	for i := range g.list {
		at := g.list[i].To
		if i > 0 && (g.latest[i-1].IsZero() || !at.IsZero() && g.latest[i-1].After(at)) {
			at = g.latest[i-1]
		}
		g.latest = append(g.latest, at)
	}
	return g
}

// each hands the places of gaps that share a moment with a time to see, the last first,
// until that says yes; a zero end is for ever. It tells whether it did.
func (g *gaps) each(from, to time.Time, see func(i int) bool) bool {
	n := len(g.list)
	if !to.IsZero() {
		n, _ = slices.BinarySearchFunc(g.list, to, func(x ledger.Gap, at time.Time) int {
			if x.From.After(at) {
				return 1
			}
			return -1
		})
	}
	for i := n - 1; i >= 0; i-- {
		if last := g.latest[i]; !last.IsZero() && last.Before(from) {
			break
		}
		if x := &g.list[i]; (x.To.IsZero() || !x.To.Before(from)) && see(i) {
			return true
		}
	}
	return false
}

// over is a gap that shares a moment with a time; nil without one.
func (g *gaps) over(from, to time.Time) (found *ledger.Gap) {
	g.each(from, to, func(i int) bool { found = &g.list[i]; return true })
	return found
}

// lost is one in which a message may have been lost.
func (g *gaps) lost(from, to time.Time) (found *ledger.Gap) {
	g.each(from, to, func(i int) bool {
		if !g.list[i].Whole {
			found = &g.list[i]
		}
		return found != nil
	})
	return found
}

// deaf is one in which a copy may have been swallowed. While a broker keeps messages for a
// witness, or has them wait, it drops what is too much, and tells nobody; where it dropped
// none that is known, it dropped no copy. Of QoS 0 it keeps nothing.
func (g *gaps) deaf(from, to time.Time, qos0 bool) (found *ledger.Gap) {
	g.each(from, to, func(i int) bool {
		x := &g.list[i]
		if x.Kept && qos0 || !x.Kept && !x.Lag || g.dropped[i] {
			found = x
		}
		return found != nil
	})
	return found
}
