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
