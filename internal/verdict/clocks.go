package verdict

import (
	"cmp"
	"container/heap"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// Clock is what is known of the clock of a witness's platform against ours. Nobody
// stores a message before it was sent, or after it was seen: each time of storage says by
// how much that clock is ahead of ours, at least and at most.
type Clock struct {
	Offset ledger.Offset
	timed  int           // sightings that tell when they were stored
	unit   time.Duration // in which it tells times: 1 s, 1 ms or 0

	of     ledger.TimeOf // whose times they are, if the file says so
	looked int           // sightings of which it was looked whether the message carried their time
	echoes int           // of these, those that did
	field  string        // in which field; empty: it is when the message was due

	// What sightings say: the greatest of Least and, with another sign, of Most.
	least, most greatest
	rows        ledger.Offset // what nine of ten of them say
	// few is the most that they say, whichever of them is left out: of so few, one that is filed too
	// early could not be told from a clock that is behind. Nil: they are enough.
	few *time.Duration
	// Off are rows that are filed under a time that does not fit what the others say: their
	// times say nothing. Some of them are named.
	Off      int
	examples []string
}

// wrongMost is the share of rows, one in so many, that may be filed under a wrong time while the
// others still tell the clock.
const wrongMost = 10

// behind is the greatest one behind n that are greater, as far as that many are kept.
func (g greatest) behind(n int) time.Duration {
	list := slices.Sorted(slices.Values(g))
	return list[max(0, len(list)-1-n)]
}

// mostKept bounds how many of the greatest are kept.
const mostKept = 4096

// greatest are the greatest of many times, the least of them first (a heap).
type greatest []time.Duration

func (g greatest) Len() int           { return len(g) }
func (g greatest) Less(i, j int) bool { return g[i] < g[j] }
func (g greatest) Swap(i, j int)      { g[i], g[j] = g[j], g[i] }
func (g *greatest) Push(x any)        { *g = append(*g, x.(time.Duration)) }
func (g *greatest) Pop() any          { return nil } // none is taken out

// add takes a time.
func (g *greatest) add(t time.Duration) {
	switch {
	case len(*g) < mostKept:
		heap.Push(g, t)
	case t > (*g)[0]:
		(*g)[0] = t
		heap.Fix(g, 0)
	}
}

// off tells by how much a row is filed under a wrong time.
func (k *Clock) off(sent time.Time, x *evidence.Sighting) (by time.Duration, is bool) {
	if x.Stored.IsZero() || sent.IsZero() || !k.tells() || k.rows == (ledger.Offset{}) {
		return 0, false
	}
	least, most := x.Stored.Sub(x.Seen), x.Stored.Sub(sent)+k.unit
	switch {
	case least > k.rows.Most:
		return least - k.rows.Most, true
	case most < k.rows.Least:
		return most - k.rows.Least, true
	}
	return 0, false
}

// IsOff tells whether a row is filed under a wrong time.
func (k *Clock) IsOff(sent time.Time, x *evidence.Sighting) bool {
	_, is := k.off(sent, x)
	return is
}

// mostOff is how many rows under a wrong time are named.
const mostOff = 3

// name notes a row that is filed under a wrong time.
func (k *Clock) name(device, reading string, seq uint64, by time.Duration) {
	if k.Off++; len(k.examples) < mostOff {
		k.examples = append(k.examples, fmt.Sprintf("%s %s #%d %s", device, reading, seq, offText(by)))
	}
}

func offText(by time.Duration) string {
	if by < 0 {
		return Span(-by) + " too early"
	}
	return Span(by) + " too late"
}

// echoLook is how many sightings are looked through for the device's own time.
const echoLook = 1000

// addClocks takes what a case tells of the witnesses' clocks.
func addClocks(clocks []Clock, c *evidence.Case) {
	for i := range c.Sightings {
		x := &c.Sightings[i]
		if x.Stored.IsZero() || c.Sent.IsZero() || !c.Known || x.Witness < 0 || x.Witness >= len(clocks) {
			continue
		}
		k := &clocks[x.Witness]
		least, most := x.Stored.Sub(x.Seen), x.Stored.Sub(c.Sent)
		if k.timed == 0 {
			k.Offset, k.unit = ledger.Offset{Least: least, Most: most}, time.Second
		}
		k.Offset.Least, k.Offset.Most = max(k.Offset.Least, least), min(k.Offset.Most, most)
		k.least.add(least)
		k.most.add(-most)
		for k.unit > 0 && x.Stored.UnixNano()%int64(k.unit) != 0 {
			if k.unit /= 1000; k.unit < time.Millisecond {
				k.unit = 0
			}
		}
		if k.timed++; k.of == ledger.TimeOfAnybody && k.looked < echoLook {
			k.looked++
			if f, is := echo(c.Carried(), c.Due, x.Stored); is {
				k.echoes++
				k.field = cmp.Or(k.field, f)
			}
		}
	}
}

// join takes what another reading's rows say of the same clock.
func (k *Clock) join(o *Clock) {
	switch {
	case o.timed == 0:
		return
	case k.timed == 0:
		k.Offset, k.unit = o.Offset, o.unit
	default:
		k.Offset.Least, k.Offset.Most = max(k.Offset.Least, o.Offset.Least), min(k.Offset.Most, o.Offset.Most)
		k.unit = min(k.unit, o.unit)
	}
	k.timed, k.looked, k.echoes = k.timed+o.timed, k.looked+o.looked, k.echoes+o.echoes
	for _, t := range o.least {
		k.least.add(t)
	}
	for _, t := range o.most {
		k.most.add(t)
	}
}

// finishClocks narrows what messages tell by what the platforms say of their clocks.
func finishClocks(clocks []Clock, f *ledger.Facts) {
	for i := range clocks {
		k := &clocks[i]
		k.Offset.Most += k.unit // the time told is cut off
		all := k.Offset
		if n := k.timed / wrongMost; n > 0 { // a few rows under a wrong time are no other clock
			k.Offset = ledger.Offset{Least: k.least.behind(n), Most: -k.most.behind(n) + k.unit}
			k.rows = k.Offset
		} else if k.timed > 0 {
			most := -k.most.behind(1) + k.unit
			k.few = &most
		}
		told := f.Witnesses[i].Clock
		if told == nil || k.timed == 0 {
			continue
		}
		// What keeps the messages may have another clock than what answers us: not one row may
		// speak against that.
		if max(all.Least, told.Least) <= min(all.Most, told.Most) {
			k.Offset = ledger.Offset{Least: max(k.Offset.Least, told.Least), Most: min(k.Offset.Most, told.Most)}
			k.few = nil // the platform's own word stands beside them
		}
	}
}

// echo tells whether a message itself carried a time, as precisely as that is told: in a field,
// at any depth, or because it was due then.
func echo(carried []byte, due, at time.Time) (field string, is bool) {
	unit := precision(at)
	same := func(t time.Time) bool { return t.Truncate(unit).Equal(at) || t.Round(unit).Equal(at) }
	list, _ := strictjson.Members(carried)
	for _, m := range list {
		if at, is := timeIn(m.Value, same); is {
			return m.Name + at, true
		}
	}
	return "", !due.IsZero() && same(due)
}

// timeIn is where a value is a time that a question says yes to, or holds one: its path, each
// part behind a dot.
func timeIn(v any, same func(time.Time) bool) (path string, is bool) {
	switch x := v.(type) {
	case json.Number:
		t, is := quantity.ParseUnix(x.String())
		return "", is && same(t)
	case string:
		t, is := quantity.ParseInstant(x)
		if !is {
			t, is = quantity.ParseUnix(x)
		}
		return "", is && same(t)
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(x)) {
			if at, is := timeIn(x[name], same); is {
				return "." + name + at, true
			}
		}
	case []any:
		for n, y := range x {
			if at, is := timeIn(y, same); is {
				return fmt.Sprintf(".%d%s", n, at), true
			}
		}
	}
	return "", false
}

// precision is the largest usual unit that a time is a whole number of.
func precision(t time.Time) time.Duration {
	for _, unit := range []time.Duration{time.Minute, time.Second, time.Millisecond, time.Microsecond} {
		if t.UnixNano()%int64(unit) == 0 {
			return unit
		}
	}
	return time.Nanosecond
}

// Delay is how long a message took to where it was found: Took, as far as the clocks seem to
// agree; surely not less than Least, nor more than Most. Took is negative where nothing is
// known.
type Delay struct{ Took, Least, Most time.Duration }

var noDelay = Delay{Took: -1}

// DelayOf is how long it took from a time of ours to another one, as far as this process did
// not stand still meanwhile: what was there long before may have been read later.
func (s *Survey) DelayOf(from, to time.Time) Delay {
	took := to.Sub(from)
	return Delay{took, took - s.still(from, to), took}
}

// still is for how long this process stood still between two times.
func (s *Survey) still(from, to time.Time) (sum time.Duration) {
	list := s.facts.Still
	i := sort.Search(len(list), func(i int) bool { return list[i].To.After(from) })
	for ; i < len(list) && list[i].From.Before(to); i++ {
		a, b := list[i].From, list[i].To
		if a.Before(from) {
			a = from
		}
		if b.After(to) {
			b = to
		}
		sum += b.Sub(a)
	}
	return sum
}

// delay tells how long a message took: nobody stored it after we saw it.
func (k *Clock) delay(sent time.Time, x *evidence.Sighting) Delay {
	seen := max(0, x.Seen.Sub(sent))
	switch {
	case x.Stored.IsZero():
		return Delay{seen, seen, seen}
	case !k.tells():
		return Delay{Took: seen, Most: seen}
	}
	if _, is := k.off(sent, x); is {
		return Delay{Took: seen, Most: seen}
	}
	within := func(d time.Duration) time.Duration { return min(max(0, d), seen) }
	took, o := x.Stored.Sub(sent), k.Offset
	if k.few != nil {
		o.Most = *k.few
	}
	least, most := within(took-o.Most), within(took+k.unit-o.Least)
	// The clocks are taken to be alike where they may be.
	return Delay{min(max(least, took-min(max(0, o.Least), o.Most)), most), least, most}
}

// Own tells whether the times are the platform's own: when it stored the messages.
func (k *Clock) Own() bool { return !k.echoed() }

// tells tells whether the times are those of one clock of the platform.
func (k *Clock) tells() bool { return k.Offset.Least <= k.Offset.Most && k.Own() }

// echoed tells whether the times are what devices sent, or may be: the file says so, or most
// of the messages carried them.
func (k *Clock) echoed() bool {
	return k.of == ledger.TimeOfDevice || k.of == ledger.TimeOfAnybody && 2*k.echoes > k.looked
}

// inTime tells whether that was in time, Found, FoundLate, or, where the clocks do not allow to
// say, InDoubt.
func (d Delay) inTime(within time.Duration) State {
	switch {
	case d.Most <= within:
		return Found
	case d.Least > within:
		return FoundLate
	}
	return InDoubt
}

// says tells what is to be told of the clock, in lines.
func (k *Clock) says() (lines []string) {
	if k.timed == 0 {
		return nil
	}
	o := k.Offset
	switch {
	case o.Least > o.Most:
		lines = append(lines, fmt.Sprintf("the times of storage that it tells do not fit one clock: some are %s after a "+
			"message was seen here, others %s before one was sent; its clock was set meanwhile, or time: picks another "+
			"time", Span(max(0, o.Least)), Span(max(0, -o.Most))))
	case o.Least > 0:
		lines = append(lines, fmt.Sprintf("its clock is ahead of ours by %s to %s: it tells times of storage later than we "+
			"saw them", Span(o.Least), Span(o.Most)))
	case o.Most < 0:
		lines = append(lines, fmt.Sprintf("it tells times of storage before the message was sent, which cannot be: its "+
			"clock is behind ours by %s to %s, or time: picks another time", Span(-o.Most), Span(-o.Least)))
	}
	if k.Off > 0 {
		rows := "1 row is"
		if k.Off > 1 {
			rows = fmt.Sprintf("%d rows are", k.Off)
		}
		lines = append(lines, fmt.Sprintf("%s filed under a wrong time, and when it was stored is not known: %s", rows,
			strings.Join(k.examples, ", ")))
	}
	return lines
}

// echoSays tells that the times are the device's own, where the file does not say so; or "".
func (k *Clock) echoSays() string {
	if !k.echoed() || k.of != ledger.TimeOfAnybody {
		return ""
	}
	field := "the time at which the message was due"
	if k.field != "" {
		field = "that of the field " + k.field + ", which the device sent"
	}
	return fmt.Sprintf("the time that it tells is %s: it says nothing about when a message was stored. If it is the "+
		"platform's own, say so: time: {at: …, of: platform}", field)
}
