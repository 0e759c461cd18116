package tally

import (
	"time"

	"runcrowd/internal/proof"
	"runcrowd/internal/spread"
	"runcrowd/internal/verdict"
)

// delays gathers times in memory that does not grow.
type delays struct {
	spread.Times
	// sure are the times that it surely was not less than, and not more than; nil: what was
	// added is sure itself.
	sure *[2]spread.Times
	// Messages without a time: lost are those of which none will come any more, and open
	// those of which it is not known.
	open, lost int
}

// addBetween adds a time that is known between two bounds.
func (d *delays) addBetween(x verdict.Delay) {
	if d.sure == nil && (x.Least != x.Took || x.Most != x.Took) {
		d.sure = &[2]spread.Times{d.Clone(), d.Clone()}
	}
	if d.Add(x.Took); d.sure != nil {
		d.sure[0].Add(x.Least)
		d.sure[1].Add(x.Most)
	}
}

func newDelays() *delays { return &delays{} }

// bounds are what the percentiles surely are not less than, and not more than.
func (d *delays) bounds() [2]Delays {
	least, most := &d.Times, &d.Times
	if d.sure != nil {
		least, most = &d.sure[0], &d.sure[1]
	}
	low, _ := percentiles(least, d.open, d.lost)
	_, high := percentiles(most, 0, d.open+d.lost)
	return [2]Delays{low, high}
}

// percentiles are those of the nearest rank; of many times, they are told a little longer
// rather than shorter.
func (d *delays) percentiles() Delays {
	_, most := percentiles(&d.Times, 0, 0)
	return most
}

// of is one of them, by its name in requirements.
func (d *Delays) of(m proof.Measure) time.Duration {
	return map[proof.Measure]time.Duration{proof.P50: d.P50, proof.P90: d.P90, proof.P99: d.P99, proof.Worst: d.Worst}[m]
}

// percentiles are those of times, at least and at most, where some more took no time, and
// some took for ever.
func percentiles(x *spread.Times, none, never int) (least, most Delays) {
	if x.N() == 0 {
		return least, most
	}
	least = Delays{N: x.N(), Worst: x.Worst()}
	if never > 0 {
		least.Worst = spread.Never
	}
	most = least
	for _, p := range []struct {
		percent     int
		least, most *time.Duration
	}{{50, &least.P50, &most.P50}, {90, &least.P90, &most.P90}, {99, &least.P99, &most.P99}} {
		*p.least, *p.most = x.Among(p.percent, none, never)
	}
	return least, most
}

// later is the delay of the later of two witnesses: none where one has none.
func later(a, b verdict.Delay, first bool) verdict.Delay {
	switch {
	case first:
		return b
	case a.Took < 0 || b.Took < 0:
		return verdict.Delay{Took: -1}
	}
	return verdict.Delay{Took: max(a.Took, b.Took), Least: max(a.Least, b.Least), Most: max(a.Most, b.Most)}
}

// took gathers how long a proof of a message took, by what is known of it.
func (d *delays) took(state verdict.State, x verdict.Delay) {
	switch {
	case state == verdict.Unasked:
	case state == verdict.NotFound:
		d.lost++
	case state == verdict.NotHeard || x.Took < 0:
		d.open++
	default:
		d.addBetween(x)
	}
}
