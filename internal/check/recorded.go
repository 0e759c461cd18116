package check

import (
	"maps"
	"slices"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
)

// Played is a recording that a group plays again.
type Played struct {
	File     string        `json:"file"`
	Devices  int           `json:"devices"`
	Messages int64         `json:"messages"`
	From     time.Time     `json:"from"`
	To       time.Time     `json:"to"`
	Lasts    time.Duration `json:"-"` // at the pace at which it is played
	loops    bool
}

// besideBody is about how many bytes a message has beside its body.
const besideBody = 80

// recording adds what a recording sends.
func (c *checker) recording(r *crowd.Recording, load *LinkLoad) {
	lasts := r.Length()
	for _, p := range c.load.Recordings {
		if p.File == r.File && p.From.Equal(r.First) && p.To.Equal(r.Last) { // of another change of the group
			return
		}
	}
	c.load.Recordings = append(c.load.Recordings, Played{r.File, len(r.Devices), r.Lines, r.First, r.Last, lasts, r.Loop})
	if r.Largest > c.load.Largest {
		c.load.Largest, c.load.LargestOf = r.Largest, r.File
	}
	seconds := max(lasts, time.Second).Seconds()
	load.PerSecond += float64(r.Lines) / seconds
	load.BytesPerSecond += (float64(r.Bytes) + float64(r.Lines)*besideBody) / seconds
	if plan := c.Crowd.Plan.Lasts(time.Now()); lasts > plan && !r.Loop {
		c.add(r.Pos, "recording: %s lasts %s at this pace, and the plan %s: the rest is not played; write for: %s, or a "+
			"higher pace", r.File, quantity.FormatDuration(lasts.Round(time.Second)), quantity.FormatDuration(plan),
			quantity.FormatDuration(lasts.Truncate(time.Second)+time.Second))
	}
	for _, reading := range slices.Sorted(maps.Keys(r.QoS)) {
		if q := r.QoS[reading]; q[0] != q[1] {
			c.add(r.Pos, "recording: messages of the reading %q in %s came with QoS %d to %d, and all go out with %d", reading,
				r.File, q[0], q[1], q[1])
		}
	}
	if r.Others > 0 {
		c.add(r.Pos, "recording: %d lines of %s are of no device or reading of this group, and are skipped", r.Others, r.File)
	}
}
