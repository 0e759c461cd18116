package clock_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/clock"
)

// What is waited for others is as long as was said where this process keeps up; what it was
// late itself comes on top, and at most as much again.
func TestOverdue(t *testing.T) {
	for _, c := range []struct{ late, most, more time.Duration }{
		{0, time.Second, 0},
		{50 * time.Millisecond, time.Second, 0},
		{200 * time.Millisecond, time.Second, 200 * time.Millisecond},
		{time.Hour, time.Second, time.Second},
	} {
		assert.Equal(t, c.more, clock.Overdue(c.late, c.most), "%s late", c.late)
	}
}

func TestPatience(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := clock.NewPatience(time.Second)
		time.Sleep(400 * time.Millisecond)
		assert.False(t, p.Over())
		time.Sleep(time.Hour) // it did not look for so long: that is half a second of waiting
		assert.False(t, p.Over())
		time.Sleep(100 * time.Millisecond)
		assert.True(t, p.Over())
		none := clock.NewPatience(0)
		assert.True(t, none.Over())
	})
}

func TestTurns(t *testing.T) {
	x := clock.Turns{Looks: 200, Late: [4]int{100, 20, 2, 0}}
	for late, share := range map[time.Duration]float64{0: 50, time.Millisecond: 50, 4 * time.Millisecond: 50,
		5 * time.Millisecond: 10, 50 * time.Millisecond: 1, time.Hour: 0} {
		assert.Equal(t, share, x.Share(late), late)
	}
	assert.Zero(t, (&clock.Turns{}).Share(0))
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		turns := clock.Watch(ctx, func(from, to time.Time) { assert.Fail(t, "it stood still", to.Sub(from)) })
		assert.InDelta(t, 40, turns.Looks, 1)
		assert.Zero(t, turns.Late)
	})
}

func TestWithTimeout(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		began := time.Now()
		ctx, cancel := clock.WithTimeout(t.Context(), time.Second)
		<-ctx.Done()
		assert.Equal(t, time.Second, time.Since(began), "punctual, where the process is")
		assert.Equal(t, context.DeadlineExceeded, context.Cause(ctx))
		cancel()
		ctx, cancel = clock.WithTimeout(t.Context(), time.Hour)
		cancel()
		assert.Equal(t, context.Canceled, context.Cause(ctx))
	})
}
