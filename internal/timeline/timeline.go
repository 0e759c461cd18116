// Package timeline makes a plan's events into what happens to which device and when. It is
// pure: the seed and the plan decide, not goroutines, not other parts of a crowd, and
// not what was asked for before.
package timeline

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/signal"
)

// Happening is one event befalling one device.
type Happening struct {
	Event  int           // its place in the plan
	Device int           // its place among the members
	N      uint64        // which time it is that the event happens, from 0
	From   time.Duration // since the round began
	To     time.Duration // Never: for good, or for a moment
}

// Never is the end of what does not end by itself.
const Never = time.Duration(math.MaxInt64)

// Timeline is all that happens in one round.
type Timeline struct {
	plan    *crowd.Plan
	seed    uint64
	round   int
	members []crowd.Candidate
	pools   []*crowd.Pool // by event; nil: all
	keys    []string      // by event: what its draws depend on
}

// New makes the timeline of a round, counted from 1. Members are all devices of the crowd,
// whichever of them are played. Group of each is its *crowd.Cast. The error is a
// *crowd.Problem's text with the event it is of.
func New(plan *crowd.Plan, seed uint64, round int, members []crowd.Candidate) (*Timeline, error) {
	t := &Timeline{plan: plan, seed: seed, round: round, members: members}
	for i, e := range plan.Events {
		var pool *crowd.Pool
		if e.Who != nil {
			var err error
			if pool, err = e.Who.Pool(members); err != nil {
				return nil, &Error{i, err}
			}
		}
		key := e.Name
		if key == "" {
			key = "#" + strconv.Itoa(i+1)
		}
		if e.Fresh && round > 1 {
			key += "@" + strconv.Itoa(round)
		}
		t.pools, t.keys = append(t.pools, pool), append(t.keys, key)
	}
	return t, nil
}

// Error says for which event nobody can be selected.
type Error struct {
	Event int
	Err   error
}

func (e *Error) Error() string { return e.Err.Error() }

// Between lists what begins from a time on and before another, both since the round began:
// in the order of time, event and device.
func (t *Timeline) Between(from, to time.Duration) []Happening {
	var list []Happening
	for i := range t.plan.Events {
		list = append(list, t.of(i, max(0, from), to)...)
	}
	slices.SortFunc(list, func(a, b Happening) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Event, b.Event), cmp.Compare(a.Device, b.Device))
	})
	return list
}

// of lists what begins of one event.
func (t *Timeline) of(i int, from, to time.Duration) []Happening {
	e := t.plan.Events[i]
	var list []Happening
	switch e.When {
	case crowd.AtTime:
		if e.At >= from && e.At < to {
			list = t.befall(list, i, 0, e.At)
		}
	case crowd.EveryTime:
		n := uint64(0)
		if from > e.At {
			n = uint64((from - e.At + e.Every - 1) / e.Every)
		}
		for ; e.At+time.Duration(n)*e.Every < to; n++ {
			list = t.befall(list, i, n, e.At+time.Duration(n)*e.Every)
		}
	case crowd.ByChance:
		for _, d := range t.who(i, 0) {
			key := signal.Key(t.seed, "event", t.keys[i], t.members[d].Name)
			for n := uint64(from / e.Per); time.Duration(n)*e.Per < to; n++ {
				if signal.Uniform(key, n, 22) >= e.Chance {
					continue
				}
				at := time.Duration(n)*e.Per + time.Duration(signal.Uniform(key, n, 23)*float64(e.Per))
				if at >= from && at < to {
					list = append(list, t.happening(i, d, n, at))
				}
			}
		}
	case crowd.AfterEvent:
		list = t.after(i, from, to)
	}
	return list
}

// after lists what begins of an event that follows another.
func (t *Timeline) after(i int, from, to time.Duration) []Happening {
	e := t.plan.Events[i]
	back := e.Delay
	if e.Ended {
		back += t.longest(e.After)
	}
	var list []Happening
	times := map[uint64]time.Duration{} // of its n-th time, the last moment of it
	for _, h := range t.of(e.After, max(0, from-back), to-e.Delay) {
		at := h.From
		if e.Ended {
			at = h.To
		}
		if at == Never {
			continue
		}
		at += e.Delay
		if e.Who == nil {
			if at >= from && at < to && len(e.Do[t.cast(h.Device)]) > 0 {
				list = append(list, t.happening(i, h.Device, h.N, at))
			}
			continue
		}
		times[h.N] = max(times[h.N], at)
	}
	for n, at := range times {
		if at >= from && at < to {
			list = t.befall(list, i, n, at)
		}
	}
	return list
}

// longest is the longest that an event lasts.
func (t *Timeline) longest(i int) time.Duration {
	e := t.plan.Events[i]
	return max(e.For[0], e.For[1], e.Lasts(0, 0))
}

// befall adds the n-th time of an event, for all whom it befalls.
func (t *Timeline) befall(list []Happening, i int, n uint64, at time.Duration) []Happening {
	for _, d := range t.who(i, n) {
		list = append(list, t.happening(i, d, n, at))
	}
	return list
}

func (t *Timeline) happening(i, device int, n uint64, at time.Duration) Happening {
	h := Happening{Event: i, Device: device, N: n, From: at, To: Never}
	e := t.plan.Events[i]
	if lasts := e.Lasts(signal.Key(t.seed, "event lasts", t.keys[i], t.members[device].Name), n); lasts > 0 {
		h.To = at + lasts
	}
	return h
}

func (t *Timeline) cast(device int) *crowd.Cast {
	c, _ := t.members[device].Group.(*crowd.Cast)
	return c
}

// Who lists whom an event befalls the first time.
func (t *Timeline) Who(event int) []int { return t.who(event, 0) }

// who lists whom an event befalls for the n-th time: those for whom it has actions.
func (t *Timeline) who(i int, n uint64) []int {
	var drawn []int
	if pool := t.pools[i]; pool == nil {
		for d := range t.members {
			drawn = append(drawn, d)
		}
	} else {
		occasion := ""
		if e := t.plan.Events[i]; n > 0 || e.Fresh && t.round > 1 {
			occasion = fmt.Sprintf("%s %d", t.keys[i], n)
		}
		drawn = pool.Draw(t.seed, occasion)
	}
	e := t.plan.Events[i]
	list := make([]int, 0, len(drawn))
	for _, d := range drawn {
		if len(e.Do[t.cast(d)]) > 0 {
			list = append(list, d)
		}
	}
	return list
}
