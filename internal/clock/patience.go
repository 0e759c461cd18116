package clock

import (
	"context"
	"time"
)

// A process may be stopped, or starved, for longer than it is ready to wait for others: they
// may have answered long before it looks again. What it was late itself, it waits longer.

// mostStep is what one turn of waiting counts at most, however long it took.
const mostStep = 500 * time.Millisecond

// Patience is a time that is waited for others, in turns. Its zero value is over.
type Patience struct {
	left   time.Duration
	looked time.Time
}

// NewPatience begins to wait.
func NewPatience(most time.Duration) Patience { return Patience{left: most, looked: time.Now()} }

// Over tells whether the time is over. It is to be asked several times a second: between two
// looks at most half a second counts.
func (p *Patience) Over() bool {
	now := time.Now()
	p.left -= min(now.Sub(p.looked), mostStep)
	p.looked = now
	return p.left <= 0
}

// watchEvery is how often Watch looks, and stillLeast how much later than that it must come to
// call it standing still.
const (
	watchEvery = 100 * time.Millisecond
	stillLeast = 200 * time.Millisecond
)

// Watch tells of each time in which this process stood still, until ctx is done.
func Watch(ctx context.Context, tell func(from, to time.Time)) {
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	for last := Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		now := Now()
		if now.Sub(last) > watchEvery+stillLeast {
			tell(last, now)
		}
		last = now
	}
}

// slack is how late a timer may be on a machine that keeps up.
const slack = 50 * time.Millisecond

// Overdue is how much longer to wait where a time of waiting ended so much too late: as much,
// and at most as long as it was; zero: it was punctual.
func Overdue(late, most time.Duration) time.Duration {
	if late <= slack {
		return 0
	}
	return min(late, most)
}

// WithTimeout is context.WithTimeoutCause with the cause context.DeadlineExceeded, but its
// time does not pass while this process stands still.
func WithTimeout(ctx context.Context, most time.Duration) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	due := time.Now().Add(most)
	var t *time.Timer
	ready := make(chan struct{})
	t = time.AfterFunc(most, func() {
		<-ready
		if more := Overdue(time.Since(due), most); more > 0 {
			due = time.Now().Add(more)
			t.Reset(more)
			return
		}
		cancel(context.DeadlineExceeded)
	})
	close(ready)
	return ctx, func() { t.Stop(); cancel(context.Canceled) }
}
