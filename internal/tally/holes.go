package tally

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
)

// Hole is a row of messages of one reading of one device, one behind the other, with one
// verdict that is not proven.
type Hole struct {
	Device   string    `json:"device"`
	Reading  string    `json:"reading"`
	From     uint64    `json:"from"`
	To       uint64    `json:"to"`
	Verdict  string    `json:"verdict"`
	FirstDue time.Time `json:"first_due,omitzero"`
	LastDue  time.Time `json:"last_due,omitzero"`
	Why      string    `json:"why,omitempty"`
}

// Messages is how many messages it has.
func (h *Hole) Messages() int { return int(h.To - h.From + 1) }

// Never are devices that never connected, for one reason.
type Never struct {
	Devices  int      `json:"devices"`
	Why      string   `json:"why"`
	Examples []string `json:"examples"`
	// Crowded: others did connect, and the platform accepted none of these: a limit on
	// connections looks like this.
	Crowded bool `json:"others_connected,omitempty"`
}

// ThrownOff are devices that lost their connection soon after it was there, again and again, for
// no message's sake: another client that has their client id takes it from them.
type ThrownOff struct {
	Devices  int      `json:"devices"`
	Examples []string `json:"examples,omitempty"`
}

// What is soon, and how often is again and again.
const (
	soonLost   = 2 * time.Second
	againTimes = 3
)

// thrownOff tells whether a device fared so.
func thrownOff(d *ledger.DeviceLinks, breaks []ledger.Break) bool {
	times := 0
	for i := 1; i < len(d.Outages); i++ {
		o, before := &d.Outages[i], &d.Outages[i-1]
		byPlan := slices.ContainsFunc(breaks, func(b ledger.Break) bool {
			return !o.From.Before(b.From) && (b.To.IsZero() || !o.From.After(b.To.Add(time.Second)))
		})
		if !byPlan && o.Times == 0 && !before.To.IsZero() && o.From.Sub(before.To) < soonLost {
			times++
		}
	}
	return times >= againTimes
}

// Closing is a reading right after whose messages the platform closed connections.
type Closing struct {
	Reading string `json:"reading"`
	Times   int    `json:"times"`
	Devices int    `json:"devices"`
	// Device and Seq are of the message after which it did so most often.
	Device string `json:"device"`
	Seq    uint64 `json:"seq"`
	Most   int    `json:"most"`
}

// Behind are messages of one reading of one device that came out of order.
type Behind struct {
	Device  string      `json:"device"`
	Reading string      `json:"reading"`
	Ranges  [][2]uint64 `json:"ranges"`
}

// Overtime is a round that took longer than its plan.
type Overtime struct {
	Round int           `json:"round"`
	By    time.Duration `json:"-"`
	// Open is how many messages were under way when the time of the plan was over.
	Open int `json:"under_way"`
}

// What is kept of each, and from how many messages on a row is a hole.
const (
	mostHoles  = 100
	leastHole  = 3
	mostBehind = 20
)

// hole is the row of messages that is being counted.
type hole struct {
	is       bool
	verdict  verdict.Verdict
	from, to uint64
	first    time.Time
	last     time.Time
	said     string
}

// row goes on with the row of messages, or ends it.
func (t *Tally) row(c *evidence.Case, v verdict.Verdict) {
	h := &t.hole
	if h.is && (v != h.verdict || c.Seq != h.to+1) {
		t.rowOver()
	}
	switch v {
	case verdict.Proven, verdict.Altered, verdict.Misfiled, verdict.Repeated, verdict.Late, verdict.LetIn, verdict.Dropped:
		return
	}
	if !h.is {
		*h = hole{is: true, verdict: v, from: c.Seq, first: c.Due, said: c.Text()}
	}
	h.to, h.last = c.Seq, c.Due
}

// rowOver keeps the row that ended, if it is one of the longest.
func (t *Tally) rowOver() {
	h := t.hole
	t.hole.is = false
	if !h.is || h.to-h.from+1 < leastHole {
		return
	}
	s := &t.facts.Streams[t.stream]
	x := Hole{Device: s.Device, Reading: s.Reading, From: h.from, To: h.to, Verdict: h.verdict.String(),
		FirstDue: h.first, LastDue: h.last, Why: h.said}
	if why := t.outage(s.Device, h.first, h.last); why != "" {
		x.Why = why
	}
	t.res.HoleCount++
	t.res.Holes = append(t.res.Holes, x)
	if len(t.res.Holes) >= 2*mostHoles {
		t.res.Holes = longestHoles(t.res.Holes)
	}
}

func longestHoles(list []Hole) []Hole {
	slices.SortStableFunc(list, func(a, b Hole) int { return cmp.Compare(b.Messages(), a.Messages()) })
	return list[:min(len(list), mostHoles)]
}

// outage tells why a device was not connected in a time; empty: it was.
func (t *Tally) outage(device string, from, to time.Time) string {
	if t.links == nil {
		t.links = map[string]*ledger.DeviceLinks{}
		for stream, d := range t.facts.Links.Devices {
			if stream >= 0 && stream < len(t.facts.Streams) {
				t.links[t.facts.Streams[stream].Device] = d
			}
		}
	}
	d := t.links[device]
	if d == nil || from.IsZero() {
		return ""
	}
	for _, o := range d.Outages {
		if o.From.After(to) || !o.To.IsZero() && o.To.Before(from) {
			continue
		}
		why := "connection lost: " + o.Why
		if d.Ups == 0 {
			why = "never connected: " + o.Why
		}
		if o.Fails > 0 {
			again := ""
			if o.Again != o.Why {
				again = ": " + o.Again
			}
			times := "at first"
			if o.Fails > 1 {
				times = fmt.Sprintf("%d times", o.Fails)
			}
			why += "; it did not come back " + times + again
		}
		return why
	}
	return ""
}

// behindOver keeps where the messages of a stream are that came out of order.
func (t *Tally) behindOver() {
	n := t.behind.Len()
	t.res.OutOfOrder += n
	if n > 0 && len(t.res.OutOfOrderAt) < mostBehind {
		s := &t.facts.Streams[t.stream]
		t.res.OutOfOrderAt = append(t.res.OutOfOrderAt, Behind{s.Device, s.Reading, t.behind.Ranges(mostBehind)})
	}
	t.behind = t.behind[:0]
}

// connections sums up what happened to the devices' connections.
func (t *Tally) connections() {
	f, r := t.facts, &t.res
	type cause struct {
		why   string
		early bool
	}
	never := map[cause]*Never{}
	connected := 0
	for _, stream := range sortedKeys(f.Links.Devices) {
		d := f.Links.Devices[stream]
		if d.Ups > 0 || stream >= len(f.Streams) {
			connected++
			continue
		}
		if d.Fails == 0 {
			continue
		}
		k := cause{d.Why, d.Early}
		if never[k] == nil {
			never[k] = &Never{Why: d.Why}
		}
		n := never[k]
		n.Devices++
		if len(n.Examples) < 3 {
			n.Examples = append(n.Examples, f.Streams[stream].Device)
		}
	}
	for k, n := range never {
		n.Crowded = k.early && connected > 0 && n.Devices > 1
		r.Never = append(r.Never, *n)
	}
	slices.SortFunc(r.Never, func(a, b Never) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices),
			strings.Compare(a.Why, b.Why))
	})
	for _, i := range sortedKeys(f.Links.Devices) {
		if i < len(f.Streams) && thrownOff(f.Links.Devices[i], f.Actions.Breaks[i]) {
			if r.ThrownOff.Devices++; len(r.ThrownOff.Examples) < 3 {
				r.ThrownOff.Examples = append(r.ThrownOff.Examples, f.Streams[i].Device)
			}
		}
	}
	closings := map[string]*Closing{}
	devices := map[[2]string]bool{}
	for e, times := range f.Links.Closings {
		if e.Stream < 0 || e.Stream >= len(f.Streams) {
			continue
		}
		s := &f.Streams[e.Stream]
		c := closings[s.Reading]
		if c == nil {
			c = &Closing{Reading: s.Reading}
			closings[s.Reading] = c
		}
		c.Times += times
		if k := [2]string{s.Reading, s.Device}; !devices[k] {
			devices[k] = true
			c.Devices++
		}
		if times > c.Most || times == c.Most && (s.Device < c.Device || s.Device == c.Device && e.Seq < c.Seq) {
			c.Device, c.Seq, c.Most = s.Device, e.Seq, times
		}
	}
	for _, c := range closings {
		r.Closings = append(r.Closings, *c)
	}
	slices.SortFunc(r.Closings, func(a, b Closing) int {
		return cmp.Or(cmp.Compare(b.Times, a.Times), strings.Compare(a.Reading, b.Reading))
	})
	for _, x := range f.Rounds {
		if by := x.Over.Sub(x.End); !x.Over.IsZero() && !x.End.IsZero() && by > time.Second && x.Open > 0 {
			r.Overtime = append(r.Overtime, Overtime{x.N, by, x.Open})
		}
	}
	r.Left, r.Retained, r.Still, r.Turns = f.Left, f.Retained, f.Still, f.Turns
	r.Actions = f.Actions.Done(f.Rounds, f.LastWrite)
}

func sortedKeys[V any](m map[int]V) []int {
	keys := make([]int, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
