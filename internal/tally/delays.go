package tally

import (
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// longest is the longest time that is told apart; what took longer counts as that, and
// as the worst that it was.
const longest = 100 * time.Hour

// delays gathers times in memory that does not grow, to four figures, in microseconds.
type delays struct {
	hist  *hdrhistogram.Histogram // nil: none came yet
	worst time.Duration
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
	switch {
	case o.hist == nil:
	case d.hist == nil:
		*d = *o
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
