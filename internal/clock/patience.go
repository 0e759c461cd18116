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
	watchEvery = 25 * time.Millisecond
	stillLeast = 250 * time.Millisecond
)

// Turns is how late this process got its turns: whatever it measures may be as much too long.
type Turns struct {
	Looks int
	// Late is how many of these were late by at least each of Lateness.
	Late [len(Lateness)]int
}

// Lateness are the times that Turns counts by.
var Lateness = [...]time.Duration{time.Millisecond, 5 * time.Millisecond, 20 * time.Millisecond, 100 * time.Millisecond}

// Share is the greatest share of turns, in per cent, that may have been late by more than a time.
func (x *Turns) Share(t time.Duration) float64 {
	if x.Looks == 0 {
		return 0
	}
	at := 0
	for i, l := range Lateness {
		if l <= t {
			at = i
		}
	}
	return 100 * float64(x.Late[at]) / float64(x.Looks)
}

// Watch looks how this process gets its turns, until ctx is done, and tells of each time in
// which it stood still.
func Watch(ctx context.Context, tell func(from, to time.Time)) (turns Turns) {
	for last := Now(); ; {
		timer := time.NewTimer(watchEvery)
		select {
		case <-ctx.Done():
			timer.Stop()
			return turns
		case <-timer.C:
		}
		now := Now()
		late := now.Sub(last) - watchEvery
		turns.Looks++
		for i, l := range Lateness {
			if late >= l {
				turns.Late[i]++
			}
		}
		if late > stillLeast {
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
