package tally

import (
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// longest is the longest time that is told apart; what took longer counts as that, and
// as the worst that it was.
const longest = 100 * time.Hour

// delays gathers times in memory that does not grow, to four figures.
type delays struct {
	hist  *hdrhistogram.Histogram
	worst time.Duration
}

func newDelays() *delays {
	// In microseconds.
	return &delays{hist: hdrhistogram.New(1, int64(longest/time.Microsecond), 4)}
}

func (d *delays) add(t time.Duration) {
	if d.hist.TotalCount() == 0 || t > d.worst {
		d.worst = t
	}
	d.hist.RecordValue(int64(min(max(t, 0), longest) / time.Microsecond))
}

func (d *delays) merge(o *delays) {
	if o.hist.TotalCount() > 0 && (d.hist.TotalCount() == 0 || o.worst > d.worst) {
		d.worst = o.worst
	}
	d.hist.Merge(o.hist)
}

// percentiles are those of the nearest rank.
func (d *delays) percentiles() Delays {
	n := int(d.hist.TotalCount())
	if n == 0 {
		return Delays{}
	}
	at := func(p float64) time.Duration {
		return min(time.Duration(d.hist.ValueAtQuantile(p))*time.Microsecond, d.worst)
	}
	return Delays{N: n, P50: at(50), P90: at(90), P99: at(99), Worst: d.worst}
}
