package verdict

import (
	"encoding/json"
	"fmt"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

// Clock is what is known of the clock of a witness's platform against ours. Nobody
// stores a message before it was sent, or after it was seen: each time of storage says by
// how much that clock is ahead of ours, at least and at most.
type Clock struct {
	Offset ledger.Offset
	timed  int           // sightings that tell when they were stored
	unit   time.Duration // in which it tells times: 1 s, 1 ms or 0

	echoes int    // of the first sightings, those whose time is a text that the device sent
	field  string // in which field
}

// echoLook is how many sightings are looked through for the device's own time.
const echoLook = 50

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
		for k.unit > 0 && x.Stored.UnixNano()%int64(k.unit) != 0 {
			if k.unit /= 1000; k.unit < time.Millisecond {
				k.unit = 0
			}
		}
		if k.timed++; k.timed <= echoLook {
			if f := echo(c.Carried(), x.Stored); f != "" {
				k.echoes++
				k.field = f
			}
		}
	}
}

// finishClocks narrows what messages tell by what the platforms say of their clocks.
func finishClocks(clocks []Clock, f *ledger.Facts) {
	for i := range clocks {
		k := &clocks[i]
		k.Offset.Most += k.unit // the time told is cut off
		told := f.Witnesses[i].Clock
		if told == nil || k.timed == 0 {
			continue
		}
		// What keeps the messages may have another clock than what answers us.
		both := ledger.Offset{Least: max(k.Offset.Least, told.Least), Most: min(k.Offset.Most, told.Most)}
		if both.Least <= both.Most {
			k.Offset = both
		}
	}
}

// echo is the field of what was sent that holds the same time, or "".
func echo(carried []byte, at time.Time) string {
	list, _ := strictjson.Members(carried)
	for _, m := range list {
		switch x := m.Value.(type) {
		case string:
			if t, err := time.Parse(time.RFC3339Nano, x); err == nil && t.Equal(at) {
				return m.Name
			}
		case json.Number:
			n, err := x.Int64()
			if err == nil && n > 1e9 && (n == at.Unix() || n == at.UnixMilli() || n == at.UnixMicro() || n == at.UnixNano()) {
				return m.Name
			}
		}
	}
	return ""
}

// Delay is how long a message took to where it was found: Took, as far as the clocks seem to
// agree; surely not less than Least, nor more than Most. Took is negative where nothing is
// known.
type Delay struct{ Took, Least, Most time.Duration }

var noDelay = Delay{Took: -1}

// delay tells how long a message took: nobody stored it after we saw it.
func (k *Clock) delay(sent time.Time, x *evidence.Sighting) Delay {
	seen := max(0, x.Seen.Sub(sent))
	switch {
	case x.Stored.IsZero():
		return Delay{seen, seen, seen}
	case !k.tells():
		return Delay{Took: seen, Most: seen}
	}
	within := func(d time.Duration) time.Duration { return min(max(0, d), seen) }
	took, o := x.Stored.Sub(sent), k.Offset
	least, most := within(took-o.Most), within(took+k.unit-o.Least)
	// The clocks are taken to be alike where they may be.
	return Delay{min(max(least, took-min(max(0, o.Least), o.Most)), most), least, most}
}

// tells tells whether the times are those of one clock of the platform.
func (k *Clock) tells() bool { return k.Offset.Least <= k.Offset.Most && !k.echoed() }

// echoed tells whether the times are what devices sent. Those in whole milliseconds, or
// seconds, may be the same by chance, but not where that was before the message was sent.
func (k *Clock) echoed() bool {
	look := min(k.timed, echoLook)
	return k.echoes == look && look >= 3 && (k.unit == 0 || k.Offset.Most < 0 || k.unit == time.Millisecond && look >= 40)
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

// Says tells what is to be told of the clock, in lines.
func (k *Clock) Says() (lines []string) {
	if k.timed == 0 {
		return nil
	}
	o := k.Offset
	switch {
	case k.echoed(): // told below
	case o.Least > o.Most:
		lines = append(lines, fmt.Sprintf("the times of storage that it tells do not fit one clock: some are %s after a message was seen here, others %s before one was sent; its clock was set meanwhile, or time: picks another time", Span(max(0, o.Least)), Span(max(0, -o.Most))))
	case o.Least > 0:
		lines = append(lines, fmt.Sprintf("its clock is ahead of ours by %s to %s: it tells times of storage later than we saw them", Span(o.Least), Span(o.Most)))
	case o.Most < 0:
		lines = append(lines, fmt.Sprintf("it tells times of storage before the message was sent, which cannot be: its clock is behind ours by %s to %s, or time: picks another time", Span(-o.Most), Span(-o.Least)))
	}
	if look := min(k.timed, echoLook); look >= 3 && k.echoes == look {
		lines = append(lines, fmt.Sprintf("the time that it tells is that of the field %s, which the device sent: it says nothing about when a message was stored", k.field))
	}
	return lines
}
