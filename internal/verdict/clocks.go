package verdict

import (
	"encoding/json"
	"fmt"
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

// clockOf is what is known of the clock of a witness's platform against ours. Nobody
// stores a message before it was sent, or after it was seen: times that say so show by
// how much the clocks differ at least.
type clockOf struct {
	ahead  time.Duration // the platform's clock, at least
	behind time.Duration // the platform's clock, at least
	least  time.Duration // the shortest time from sending to storing; its clock is ahead by no more
	timed  int           // sightings that tell when they were stored

	echoes int    // of these, sightings whose time is a text that the device sent
	field  string // in which field
}

// resolution is how far a time may be off that a platform tells in whole seconds.
const resolution = time.Second

// echoLook is how many sightings are looked through for the device's own time.
const echoLook = 50

// measureClocks holds the times that platforms tell against ours.
func (j *judge) measureClocks() {
	j.clocks = make([]clockOf, len(j.Witnesses))
	for r, list := range j.seen {
		if r.seq == 0 || r.seq > uint64(len(j.Messages[r.stream])) {
			continue
		}
		m := &j.Messages[r.stream][r.seq-1]
		for _, i := range list {
			x := &j.Sightings[i]
			if x.Stored.IsZero() || m.Sent.IsZero() {
				continue
			}
			c := &j.clocks[x.Witness]
			took := x.Stored.Sub(m.Sent)
			if c.timed == 0 || took < c.least {
				c.least = took
			}
			c.timed++
			c.ahead = max(c.ahead, x.Stored.Sub(x.Seen))
			c.behind = max(c.behind, -took-resolution)
			if c.timed <= echoLook {
				if f := echo(m.Carried, x.Stored); f != "" {
					c.echoes++
					c.field = f
				}
			}
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

// inTime tells whether a message was found in time, holds, late, or, where the clocks do
// not allow to say, open; and how long it took by the platform's clock.
func (c *clockOf) inTime(sent time.Time, x *ledger.Sighting, within time.Duration) (state, time.Duration) {
	took := when(x).Sub(sent)
	if seen := x.Seen.Sub(sent); x.Stored.IsZero() || seen <= within {
		if seen > within {
			return late, took
		}
		return holds, took
	}
	took = x.Stored.Sub(sent)
	switch {
	case c.behind > 0 && (took <= within || c.ahead > 0):
		return open, took
	case took <= within:
		return holds, took
	case c.ahead > 0 && took-c.least <= within:
		return open, took
	}
	return late, took
}

// says tells what is to be told of the clock, in lines.
func (c *clockOf) says() (lines []string) {
	if c.ahead > resolution {
		lines = append(lines, fmt.Sprintf("its clock is ahead of ours by %s or more: it tells times of storage later than we saw them", Span(c.ahead)))
	}
	if c.behind > 0 {
		lines = append(lines, fmt.Sprintf("it tells times of storage up to %s before the message was sent, which cannot be: its clock is behind ours, or time: picks another time", Span(c.behind+resolution)))
	}
	if look := min(c.timed, echoLook); look >= 3 && c.echoes == look {
		lines = append(lines, fmt.Sprintf("the time that it tells is that of the field %s, which the device sent: it says nothing about when a message was stored", c.field))
	}
	return lines
}
