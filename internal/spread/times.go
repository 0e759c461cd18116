package spread

import (
	"math/bits"
	"slices"
	"time"
)

// Exact is how many times are kept to the nanosecond.
const Exact = 4096

// fine is how many classes there are for each doubling, where there are more.
const fine = 4096

// Times gathers times in bounded memory, and tells percentiles of them: to the nanosecond
// where there are at most Exact, to 1/4096 otherwise. Times below zero count as zero. The
// zero Times is empty. It takes at most 700 KiB.
type Times struct {
	exact   []time.Duration // nil where classes are in use
	classes []uint32
	n       int
	worst   time.Duration
}

// class is that of a time.
func class(t time.Duration) int {
	ns := uint64(max(t, 0))
	if ns < fine {
		return int(ns)
	}
	k := bits.Len64(ns) - 13 // behind the 13 bits that are told
	return k*fine + int(ns>>k)
}

// edges are the shortest and the longest time of a class.
func edges(class int) (least, most time.Duration) {
	if class < fine {
		return time.Duration(class), time.Duration(class)
	}
	k := class/fine - 1
	low := uint64(class%fine+fine) << k
	return time.Duration(low), time.Duration(low + 1<<k - 1)
}

// Add gathers a time.
func (x *Times) Add(t time.Duration) {
	t = max(t, 0)
	if x.n++; x.n == 1 || t > x.worst {
		x.worst = t
	}
	if x.classes == nil && len(x.exact) < Exact {
		x.exact = append(x.exact, t)
		return
	}
	x.classify()
	x.count(t, 1)
}

// classify goes over to classes.
func (x *Times) classify() {
	list := x.exact
	if x.exact = nil; x.classes == nil {
		x.classes = make([]uint32, 0, fine)
	}
	for _, t := range list {
		x.count(t, 1)
	}
}

func (x *Times) count(t time.Duration, n uint32) {
	c := class(t)
	if c >= len(x.classes) {
		x.classes = append(x.classes, make([]uint32, c+1-len(x.classes))...)
	}
	x.classes[c] += n
}

// Merge adds all times of another.
func (x *Times) Merge(o *Times) {
	if o.n == 0 {
		return
	}
	if x.n == 0 || o.worst > x.worst {
		x.worst = o.worst
	}
	x.n += o.n
	if x.classes == nil && o.classes == nil && len(x.exact)+len(o.exact) <= Exact {
		x.exact = append(x.exact, o.exact...)
		return
	}
	x.classify()
	for _, t := range o.exact {
		x.count(t, 1)
	}
	for c, n := range o.classes {
		if n > 0 {
			least, _ := edges(c)
			x.count(least, n)
		}
	}
}

// Clone is a copy.
func (x *Times) Clone() Times {
	c := *x
	c.exact, c.classes = slices.Clone(x.exact), slices.Clone(x.classes)
	return c
}

// N is how many times there are.
func (x *Times) N() int { return x.n }

// Worst is the longest of them, exactly; 0 without any.
func (x *Times) Worst() time.Duration { return x.worst }

// Rank is the place, from 1, of a percentile among n: the nearest rank, rounded up. At least
// so many of a hundred are not longer than what stands there.
func Rank(percent, n int) int {
	return max(1, int((int64(percent)*int64(n)+99)/100))
}

// Never is longer than all times.
const Never = time.Duration(1<<63 - 1)

// At is a percentile: that of the nearest rank, between two bounds that are the same where
// the times are few. Without any, both are 0. It takes O(n log n) for few, O(1) for many.
func (x *Times) At(percent int) (least, most time.Duration) { return x.Among(percent, 0, 0) }

// Among is the percentile where some more took no time, and some are not over: these took
// Never.
func (x *Times) Among(percent, none, never int) (least, most time.Duration) {
	rank := Rank(percent, x.n+none+never) - none
	switch {
	case x.n+none+never == 0 || rank <= 0:
		return 0, 0
	case rank > x.n:
		return Never, Never
	}
	if x.classes == nil {
		list := slices.Sorted(slices.Values(x.exact))
		return list[rank-1], list[rank-1]
	}
	for c, n := range x.classes {
		if rank -= int(n); rank <= 0 {
			least, most = edges(c)
			return least, min(most, x.worst)
		}
	}
	return x.worst, x.worst
}
