package check

import (
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
)

// CalledFor is how often an alert is called for.
type CalledFor struct {
	Alert   string `json:"alert"`
	Times   int    `json:"times"`
	Devices int    `json:"devices"`
	All     bool   `json:"all"` // all of the round was looked at
}

// mostCalling bounds how many messages are looked at.
const mostCalling = 500_000

// alerts counts what a round calls for, and finds what is never called for.
func (c *checker) alerts() {
	list := c.Crowd.Alerts
	if len(list) == 0 {
		return
	}
	var streams []*fleet.Stream
	for _, s := range c.Streams {
		if len(s.Calls) > 0 {
			streams = append(streams, s)
		}
	}
	counts := make([]CalledFor, len(list))
	raised := make([]map[int]bool, len(list))
	devices := make([]map[int]bool, len(list))
	both := make([]bool, len(list))
	for i, n := range list {
		counts[i] = CalledFor{Alert: n.Name, All: true}
		raised[i], devices[i] = map[int]bool{}, map[int]bool{}
	}
	seen := 0
	engine.Rehearse(c.Fleet, streams, time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC), func(r *engine.Rehearsed) bool {
		seen += len(r.Written.Carried)
		d := r.Stream.Device.Index
		for _, calls := range r.Written.Calls {
			for n := range list {
				switch calls >> (2 * n) & 3 {
				case 3:
					both[n] = true
				case 2:
					delete(raised[n], d)
				case 1:
					if !raised[n][d] {
						raised[n][d], devices[n][d] = true, true
						counts[n].Times++
					}
				}
			}
		}
		return seen < mostCalling
	})
	for i, n := range list {
		counts[i].Devices, counts[i].All = len(devices[i]), seen < mostCalling
		switch {
		case both[i]:
			c.add(n.Pos, "the alert %q: some values make \"when\" and \"until\" true at once: whether it is called for is not "+
				"known then; let a gap be between both", n.Name)
		case counts[i].Times == 0 && counts[i].All:
			c.add(n.Pos, "the alert %q is never called for in a round of this plan: only that it does not come is tested; let "+
				"an event cross the limit, such as {at: 10s, for: 10s, who: 1 of %s, do: {set: {FIELD: VALUE}}}", n.Name,
				kindOf(c.Crowd))
		}
	}
	c.load.Alerts = counts
}

func kindOf(c *crowd.Crowd) string { return c.Kinds[0].Name }
