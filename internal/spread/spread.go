// Package spread counts how many times were how long, in little memory: Spread to 1/16 of
// each, for plots; Times to the nanosecond or to 1/4096, for verdicts. Both tell percentiles
// by the same rule: see Rank.
package spread

import (
	"math/bits"
	"sync/atomic"
	"time"
)

// Spread is how many times were how long: places are those of a 64-bit number of
// microseconds, 16 for each doubling, so that a time is told to 1/16.
type Spread []uint32

const parts = 16

// Place is that of a time.
func Place(t time.Duration) int {
	us := uint64(max(t, 0) / time.Microsecond)
	if us < parts {
		return int(us)
	}
	n := bits.Len64(us) - 5 // behind the five bits that are told
	return n*parts + int(us>>n)
}

// Top is the longest time of a place.
func Top(place int) time.Duration {
	if place < parts {
		return time.Duration(place) * time.Microsecond
	}
	n := place/parts - 1
	return time.Duration((uint64(place%parts+parts)+1)<<n-1) * time.Microsecond
}

// Add counts a time.
func (s *Spread) Add(t time.Duration) {
	p := Place(t)
	for len(*s) <= p {
		*s = append(*s, 0)
	}
	(*s)[p]++
}

// Merge adds another spread, so many times.
func (s *Spread) Merge(o Spread, times uint32) {
	for len(*s) < len(o) {
		*s = append(*s, 0)
	}
	for p, n := range o {
		(*s)[p] += n * times
	}
}

// N is how many times were counted.
func (s Spread) N() (n int) {
	for _, x := range s {
		n += int(x)
	}
	return n
}

// At is the time that a percentage of all do not exceed, of the nearest rank (see Rank).
func (s Spread) At(percent int) time.Duration {
	n := s.N()
	if n == 0 {
		return 0
	}
	rank := Rank(percent, n)
	for p, x := range s {
		if rank -= int(x); rank <= 0 {
			return Top(p)
		}
	}
	return Top(len(s) - 1)
}

// Between is At, in milliseconds, and between the bounds of its place by how many of that are
// before it: two spreads that are nearly alike are nearly alike in it.
func (s Spread) Between(percent int) float64 {
	n := s.N()
	if n == 0 {
		return 0
	}
	rank := Rank(percent, n)
	for p, x := range s {
		if rank > int(x) {
			rank -= int(x)
			continue
		}
		from, to := float64(0), float64(Top(p))
		if p > 0 {
			from = float64(Top(p - 1))
		}
		return (from + (to-from)*(float64(rank)-0.5)/float64(x)) / 1e6
	}
	return 0
}

// Classes lists the places that have any: up to which time, and how many.
func (s Spread) Classes() (upTo []time.Duration, n []int) {
	for p, x := range s {
		if x > 0 {
			upTo, n = append(upTo, Top(p)), append(n, int(x))
		}
	}
	return upTo, n
}

// Most is how many places there are: up to about 200 days.
const Most = 40 * parts

// Live is a spread that several goroutines add to at once, and that others read meanwhile.
type Live struct {
	places [Most]atomic.Int64
	micros atomic.Int64 // of all, together
}

// Add counts a time, so often.
func (l *Live) Add(t time.Duration, times int64) {
	l.places[min(Place(t), Most-1)].Add(times)
	l.micros.Add(times * int64(max(t, 0)/time.Microsecond))
}

// Spread is what was counted so far.
func (l *Live) Spread() Spread {
	s := make(Spread, 0, Most)
	for i := range l.places {
		s = append(s, uint32(min(l.places[i].Load(), 1<<32-1)))
	}
	return s
}

// Sum is all times together.
func (l *Live) Sum() time.Duration { return time.Duration(l.micros.Load()) * time.Microsecond }
