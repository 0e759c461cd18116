package tally

import (
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"runcrowd/internal/verdict"
)

// longest is the longest time that is told apart; what took longer counts as that, and
// as the worst that it was.
const longest = 100 * time.Hour

// delays gathers times in memory that does not grow, to four figures, in microseconds.
type delays struct {
	hist  *hdrhistogram.Histogram // nil: none came yet
	worst time.Duration
	// sure are the times that it surely was not less than, and not more than; nil: what was
	// added is sure itself.
	sure *[2]delays
}

// addBetween adds a time that is known between two bounds.
func (d *delays) addBetween(x verdict.Delay) {
	if d.sure == nil && (x.Least != x.Took || x.Most != x.Took) {
		d.sure = &[2]delays{d.copy(), d.copy()}
	}
	if d.add(x.Took); d.sure != nil {
		d.sure[0].add(x.Least)
		d.sure[1].add(x.Most)
	}
}

func (d *delays) copy() (c delays) {
	c.merge(&delays{hist: d.hist, worst: d.worst})
	return c
}

// bounds are what the percentiles surely are not less than, and not more than.
func (d *delays) bounds() [2]Delays {
	if d.sure == nil {
		p := d.percentiles()
		return [2]Delays{p, p}
	}
	return [2]Delays{d.sure[0].percentiles(), d.sure[1].percentiles()}
}

func newDelays() *delays { return &delays{} }

func (d *delays) add(t time.Duration) {
	if d.hist == nil {
		d.hist, d.worst = hdrhistogram.New(1, int64(longest/time.Microsecond), 4), t
	}
	d.worst = max(d.worst, t)
	d.hist.RecordValue(int64(min(max(t, 0), longest) / time.Microsecond))
}

func (d *delays) merge(o *delays) {
	if d.sure != nil || o.sure != nil {
		for _, x := range []*delays{d, o} {
			if x.sure == nil {
				x.sure = &[2]delays{x.copy(), x.copy()}
			}
		}
		d.sure[0].merge(&o.sure[0])
		d.sure[1].merge(&o.sure[1])
	}
	switch {
	case o.hist == nil:
	case d.hist == nil:
		d.hist, d.worst = hdrhistogram.Import(o.hist.Export()), o.worst
	default:
		d.worst = max(d.worst, o.worst)
		d.hist.Merge(o.hist)
	}
}

// percentiles are those of the nearest rank.
func (d *delays) percentiles() Delays {
	if d.hist == nil {
		return Delays{}
	}
	at := func(p float64) time.Duration {
		return min(time.Duration(d.hist.ValueAtQuantile(p))*time.Microsecond, d.worst)
	}
	return Delays{N: int(d.hist.TotalCount()), P50: at(50), P90: at(90), P99: at(99), Worst: d.worst}
}
