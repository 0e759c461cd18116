package tally

import (
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/spread"
	"runcrowd/internal/verdict"
)

// mostSteps is how many steps a series has at most; then two become one.
const mostSteps = 600

// firstStep is how long a step is at first.
const firstStep = 100 * time.Millisecond

// Series is a run over time, in steps of one length.
type Series struct {
	Begin time.Time
	Step  time.Duration
	Steps []Step
	// Names are those of the witnesses that a step counts the sightings of.
	Names []string
}

// Step is a stretch of a run.
type Step struct {
	Due, Sent, Acknowledged, Refused int
	Found                            []int // by witness: when it came there, as far as that is known
	Delays                           [4]spread.Spread
}

// Coarse is the series with longer steps: while there are more than so many, and fewer
// messages in one than wanted.
func (s *Series) Coarse(most, messages int) *Series {
	x := series{Series: *s}
	x.Steps = make([]Step, 0, len(s.Steps))
	n := 0
	for i := range s.Steps {
		y := Step{Found: append([]int(nil), s.Steps[i].Found...)}
		z := s.Steps[i]
		z.Found = make([]int, len(y.Found))
		y.merge(&z)
		x.Steps = append(x.Steps, y)
		n += y.Due
	}
	for len(x.Steps) > most && n < messages*len(x.Steps) {
		x.halve()
	}
	return &x.Series
}

// series gathers a Series.
type series struct {
	Series
	witnesses int
}

func newSeries(f *ledger.Facts) *series {
	s := &series{Series: Series{Begin: f.Start, Step: firstStep}, witnesses: f.Own()}
	for i := range f.Own() {
		s.Names = append(s.Names, f.Witnesses[i].Name)
	}
	return s
}

// at is the step of a time; nil for none.
func (s *series) at(t time.Time) *Step {
	if t.IsZero() {
		return nil
	}
	i := int(max(0, t.Sub(s.Begin)) / s.Step)
	for i >= mostSteps {
		s.halve()
		i = int(max(0, t.Sub(s.Begin)) / s.Step)
	}
	for len(s.Steps) <= i {
		s.Steps = append(s.Steps, Step{Found: make([]int, s.witnesses)})
	}
	return &s.Steps[i]
}

// halve makes one step of two.
func (s *series) halve() {
	s.Step *= 2
	n := (len(s.Steps) + 1) / 2
	for i := range n {
		a := s.Steps[2*i]
		if 2*i+1 < len(s.Steps) {
			a.merge(&s.Steps[2*i+1])
		}
		s.Steps[i] = a
	}
	s.Steps = s.Steps[:n]
}

func (a *Step) merge(b *Step) {
	a.Due, a.Sent, a.Acknowledged, a.Refused = a.Due+b.Due, a.Sent+b.Sent, a.Acknowledged+b.Acknowledged, a.Refused+
		b.Refused
	for i := range b.Found {
		a.Found[i] += b.Found[i]
	}
	for p := range b.Delays {
		a.Delays[p].Merge(b.Delays[p], 1)
	}
}

// add counts a message.
func (s *series) add(f *ledger.Facts, c *evidence.Case, r *verdict.Ruling) {
	if x := s.at(c.Due); x != nil {
		x.Due++
	}
	sent := s.at(c.Sent)
	if sent == nil {
		return
	}
	sent.Sent++
	switch c.Outcome {
	case outcome.Accepted:
		s.at(c.At).Acknowledged++
		sent = s.at(c.Sent) // steps may have been made longer
		sent.Delays[0].Add(c.At.Sub(c.Sent))
	case outcome.Refused:
		s.at(c.At).Refused++
	}
	sent = s.at(c.Sent)
	sent.Delays[3].Add(c.Sent.Sub(c.Due))
	seen := make([]bool, s.witnesses)
	for i := range c.Sightings {
		x := &c.Sightings[i]
		w := x.Witness - f.Witness(0, c.Stream)
		if w < 0 || w >= s.witnesses || seen[w] || x.Unsure || x.Asked && x.Stored.IsZero() {
			continue
		}
		seen[w] = true
		at := x.Seen
		if x.Stored.Before(at) && !x.Stored.Before(c.Sent) { // else it is no time of our clock
			at = x.Stored
		}
		if step := s.at(at); step != nil {
			step.Found[w]++
		}
	}
	for w, d := range r.Delays {
		if d.Took >= 0 {
			s.at(c.Sent).Delays[proofIndex(f.Witnesses[w].Proof)].Add(d.Took)
		}
	}
}
