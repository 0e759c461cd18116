package engine

import (
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
)

// planClock is the clock that a round goes by. Its times are Unix nanoseconds.
type planClock struct {
	begin int64   // of the round, as the plan has it
	real  int64   // when that was
	speed float64 // 1: as any clock
	max   bool    // as fast as messages are acknowledged
	pause *pause
}

// pause is how long the clock stood still so far, and since when it does: 0 for not at all.
type pause struct{ shift, since atomic.Int64 }

// still is for how long the clock has stood still at a time.
func (c *planClock) still(real int64) int64 {
	n := c.pause.shift.Load()
	if since := c.pause.since.Load(); since != 0 && real > since {
		n += real - since
	}
	return n
}

func clockOf(p *crowd.Plan, begin time.Time) planClock {
	c := planClock{begin: begin.UnixNano(), real: begin.UnixNano(), speed: p.Speed.Times(), max: p.Speed.Max,
		pause: new(pause)}
	if p.Begin.Past > 0 || !p.Begin.At.IsZero() || c.max || c.speed != 1 {
		c.real = clock.Nano()
	}
	if p.Begin.Past > 0 {
		c.real = c.begin // what lies in the past is due at once
	}
	return c
}

// when is when a time of the plan comes; 0 is at once.
func (c *planClock) when(plan int64) int64 {
	switch {
	case c.max:
		return 0
	case c.speed == 1:
		return c.real + (plan - c.begin) + c.pause.shift.Load()
	}
	return c.real + c.pause.shift.Load() + int64(float64(plan-c.begin)/c.speed)
}

// shows is what the plan's clock shows at a time.
func (c *planClock) shows(real int64) int64 {
	real -= c.still(real)
	if c.speed == 1 {
		return c.begin + (real - c.real)
	}
	return c.begin + int64(float64(real-c.real)*c.speed)
}
