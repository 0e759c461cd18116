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

func (d *delays) merge(o *delays) {
	if d.sure != nil || o.sure != nil {
		for _, x := range []*delays{d, o} {
			if x.sure == nil {
				x.sure = &[2]spread.Times{x.Clone(), x.Clone()}
			}
		}
		d.sure[0].Merge(&o.sure[0])
		d.sure[1].Merge(&o.sure[1])
	}
	d.Merge(&o.Times)
}

// bounds are what the percentiles surely are not less than, and not more than.
func (d *delays) bounds() [2]Delays {
	least, most := &d.Times, &d.Times
	if d.sure != nil {
		least, most = &d.sure[0], &d.sure[1]
	}
	low, _ := percentiles(least)
	_, high := percentiles(most)
	return [2]Delays{low, high}
}

// percentiles are those of the nearest rank; of many times, they are told a little longer
// rather than shorter.
func (d *delays) percentiles() Delays {
	_, most := percentiles(&d.Times)
	return most
}

// of is one of them, by its name in requirements.
func (d *Delays) of(m proof.Measure) time.Duration {
	return map[proof.Measure]time.Duration{proof.P50: d.P50, proof.P90: d.P90, proof.P99: d.P99, proof.Worst: d.Worst}[m]
}

// percentiles are those of times, at least and at most.
func percentiles(x *spread.Times) (least, most Delays) {
	if x.N() == 0 {
		return least, most
	}
	least = Delays{N: x.N(), Worst: x.Worst()}
	most = least
	for _, p := range []struct {
		percent     int
		least, most *time.Duration
	}{{50, &least.P50, &most.P50}, {90, &least.P90, &most.P90}, {99, &least.P99, &most.P99}} {
		*p.least, *p.most = x.At(p.percent)
	}
	return least, most
}
