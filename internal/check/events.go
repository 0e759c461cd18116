package check

import (
	"slices"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/timeline"
)

// Happens is how often an event happens in the first round.
type Happens struct {
	Event   string `json:"event"`
	Do      string `json:"do"`
	Times   int    `json:"times"`   // moments at which it begins
	Befalls int    `json:"befalls"` // devices, each time counted
	Devices int    `json:"devices"` // different ones
	// Longest is the longest that it lasts for a device; 0: for good, or a moment.
	Longest time.Duration `json:"-"`
}

// mostStory bounds how long a time is looked at.
const mostStory = 400 * quantity.Day

// mostDrawn bounds how much of a long round is looked at, in draws of chance.
const mostDrawn = 3_000_000

// Story lists what happens in the first round, as far as span: all of it, or the first part
// of one that is long.
func Story(f *fleet.Fleet) (story []timeline.Happening, span time.Duration, err error) {
	plan := &f.Crowd.Plan
	span = min(plan.Lasts(time.Now()), mostStory)
	for _, e := range plan.Events {
		if e.When == crowd.ByChance {
			if draws := float64(span) / float64(e.Per) * float64(len(f.Devices)); draws > mostDrawn {
				span = max(e.Per, time.Duration(float64(span)*mostDrawn/draws))
			}
		} else if e.When == crowd.EveryTime {
			if draws := float64(span) / float64(e.Every) * float64(len(f.Devices)); draws > mostDrawn {
				span = max(e.Every, time.Duration(float64(span)*mostDrawn/draws))
			}
		}
	}
	line, err := timeline.New(plan, f.Crowd.Seed, 1, f.Candidates())
	if err != nil {
		return nil, span, err
	}
	return line.Between(0, span), span, nil
}

// events counts what happens, and finds what cannot be.
func (c *checker) events() {
	plan := &c.Crowd.Plan
	if len(plan.Events) == 0 {
		return
	}
	story, span, err := Story(c.Fleet)
	if err != nil {
		return // the file's own mistake, told when it was read
	}
	lasts := plan.Lasts(time.Now())
	c.load.Span, c.load.Story = span, make([]Happens, len(plan.Events))
	times, devices := make([]map[uint64]bool, len(plan.Events)), make([]map[int]bool, len(plan.Events))
	for i, e := range plan.Events {
		c.load.Story[i] = Happens{Event: e.Title(), Do: Actions(e)}
		times[i], devices[i] = map[uint64]bool{}, map[int]bool{}
	}
	held := map[int]bool{}
	tried := map[*crowd.Cast]map[int]bool{}
	for _, h := range story {
		if cast := c.Devices[h.Device].Cast; !tried[cast][h.Event] { // others of a group have the same texts
			if tried[cast] == nil {
				tried[cast] = map[int]bool{}
			}
			tried[cast][h.Event] = true
			c.workable(plan.Events[h.Event], c.Devices[h.Device])
		}
		x := &c.load.Story[h.Event]
		x.Befalls++
		times[h.Event][h.N], devices[h.Event][h.Device] = true, true
		if h.To != timeline.Never {
			x.Longest = max(x.Longest, h.To-h.From)
		}
		if h.To != timeline.Never && h.To > lasts && away(plan.Events[h.Event]) && !held[h.Event] {
			held[h.Event] = true
			c.add(plan.Events[h.Event].Pos, "the event %q begins at %s and would last longer than the round, for example for "+
				"%s: what the device keeps then is never sent", x.Event, quantity.FormatDuration(h.From.Round(time.Millisecond)),
				c.Devices[h.Device].Name)
		}
	}
	for i := range c.load.Story {
		x := &c.load.Story[i]
		x.Times, x.Devices = len(times[i]), len(devices[i])
		if plan.Events[i].When == crowd.ByChance { // to each at a time of its own
			x.Times = x.Befalls
		}
		if x.Befalls == 0 && span == lasts {
			c.add(plan.Events[i].Pos, "the event %q never happens in the %s of a round", x.Event, quantity.FormatDuration(lasts))
		}
	}
	c.overlaps(story)
}

// workable looks whether what an event does can be worked out for a device.
func (c *checker) workable(e *crowd.Event, d *fleet.Device) {
	for i := range e.Do[d.Cast] {
		x := &e.Do[d.Cast][i]
		if x.Value == nil || x.Field { // a field's value is made for each message
			continue
		}
		s, err := x.Value.Expand(&formula.Machine{}, d.Env)
		switch {
		case err != nil:
		case x.Kind == crowd.ActionInterval:
			_, err = crowd.ParseInterval(s)
		case x.Kind == crowd.ActionCorrupt && d.Cast.Link.Protocol == crowd.MQTT:
			err = crowd.CheckTopic(s)
		case x.Kind == crowd.ActionCorrupt:
			err = crowd.CheckPath(s)
		}
		if err != nil {
			c.add(x.Pos, "the event %q: %s cannot be done to %s: %s", e.Title(), x.Kind, d.Name, err)
		}
	}
}

// away tells whether an event keeps devices from being connected.
func away(e *crowd.Event) bool {
	return e.Does(crowd.ActionOffline, crowd.ActionRestart, crowd.ActionLeave)
}

// overlaps tells of devices that are to go offline while they are: they act as one outage.
func (c *checker) overlaps(story []timeline.Happening) {
	until, by := map[int]time.Duration{}, map[int]int{}
	told := map[[2]int]bool{}
	for _, h := range story {
		e := c.Crowd.Plan.Events[h.Event]
		if !away(e) {
			continue
		}
		if to, is := until[h.Device]; is && h.From < to {
			pair := [2]int{by[h.Device], h.Event}
			if !told[pair] {
				told[pair] = true
				c.add(e.Pos, "the event %q takes %s off at %s while %q has it off already: they act as one outage", e.Title(),
					c.Devices[h.Device].Name, quantity.FormatDuration(h.From.Round(time.Millisecond)),
					c.Crowd.Plan.Events[pair[0]].Title())
			}
		}
		if h.To > until[h.Device] {
			until[h.Device], by[h.Device] = h.To, h.Event
		}
	}
}

// Actions names what an event does.
func Actions(e *crowd.Event) string {
	var names []string
	for _, list := range e.Do {
		for i := range list {
			x := &list[i]
			name := x.Kind.String()
			if x.Name != "" {
				name += " " + x.Name
			}
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}
