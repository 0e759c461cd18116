package witness

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
)

// counter is what a witness needs that tells how many messages there are.
type counter struct {
	count *jq.Query // the number in a row; nil: each row is one

	mu     sync.Mutex
	before map[int]int64 // the messages that were there when the run began; nil: it was not asked yet
	now    map[int]int64 // in the answer that is read; by the first stream of a device, or -1
	// ours are how many went out, by round, and by the first stream of a device, or -1.
	ours map[int]map[int]int64
}

// compile prepares a counter; nil is none.
func (c *counter) compile(count string) error {
	if c == nil {
		return nil
	}
	c.ours = map[int]map[int]int64{}
	return pick(&c.count, count)
}

// add adds what one question was told.
func (c *counter) add(tells map[int]int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for k, n := range tells {
		c.now[k] += n
	}
}

// countRow takes a row of a count.
func (q *poller) countRow(row any, d *fleet.Device, on *cursor) {
	on.ours++
	on.fresh++
	k := -1
	switch {
	case q.spec.PerDevice:
		k = first(d)
	case q.device != nil:
		v, err := q.device.One(row)
		if err != nil || v == nil {
			on.err = errors.Join(on.err, fmt.Errorf("a row names no device where the file says (device: %s): %s", q.spec.Device,
				clip(text(row))))
			return
		}
		if n, is := v.(json.Number); is {
			v = n.String()
		}
		of := q.catalog.device(formula.String(v))
		if of == nil || !q.sees(of) {
			return // somebody else's
		}
		k = first(of)
	}
	n := int64(1)
	if q.counter.count != nil {
		v, _ := q.counter.count.One(row)
		number, is := v.(json.Number)
		if i, isInt := v.(int); isInt {
			number, is = json.Number(fmt.Sprint(i)), true
		}
		var err error
		if n, err = number.Int64(); !is || err != nil || n < 0 {
			if on.err == nil {
				on.err = fmt.Errorf("a row tells no number of messages where the file says (count: %s): %s", q.spec.Count,
					clip(text(row)))
			}
			return
		}
	}
	if on.tells[0] == nil {
		on.tells[0] = map[int]int64{}
	}
	on.tells[0][k] += n
}

// first is the first stream of a device.
func first(d *fleet.Device) int {
	if len(d.Streams) == 0 {
		return -1
	}
	return d.Streams[0].Index
}

// counted asks how many there are.
func (q *poller) counted(ctx Context, devices []*fleet.Device, n int) error {
	c := q.counter
	c.mu.Lock()
	c.now = map[int]int64{}
	c.mu.Unlock()
	_, err := q.askAll(ctx, devices, Round{N: n}, true)
	return err
}

// countOld asks how many are there before the run.
func (q *poller) countOld(ctx Context, devices []*fleet.Device) error {
	asking, cancel := context.WithTimeout(ctx, max(q.spec.Wait, 10*time.Second))
	defer cancel()
	c := q.counter
	q.since = q.asFrom(clock.Now()) // always the same
	if err := q.counted(asking, devices, 0); err != nil && !errors.Is(err, errUnknownDevice) {
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = fmt.Errorf("the witness %q did not tell how many messages are there before the run", q.spec.Name)
		}
		return err
	}
	c.before = c.now
	q.noteCounts(c.before, true)
	return nil
}

func (q *poller) noteCounts(m map[int]int64, before bool) {
	if len(m) == 0 {
		m = map[int]int64{-1: 0}
	}
	for _, k := range slices.Sorted(maps.Keys(m)) {
		q.page.Count(q.index, k, before, q.since, m[k])
	}
}

// CountKnower is a witness that asked what was there before the run, and can be told. It is
// told before it starts. The error is why it cannot be asked again.
type CountKnower interface {
	KnowCounts(from time.Time, before map[int]int64) error
}

// KnowCounts implements CountKnower.
func (q *poller) KnowCounts(from time.Time, before map[int]int64) error {
	q.since = from
	if q.counter != nil {
		q.counter.before = before
		return nil
	}
	if before[-1] > 0 {
		return fmt.Errorf("the witness %q cannot be asked again: %d rows of its devices were there when the run began, and "+
			"rows carry no mark that tells these from its own", q.spec.Name, before[-1])
	}
	return nil
}

// hearCount asks how many there are until they are as many as went out: of each device,
// where they are told so. Too many of one do not make up for too few of another.
func (q *poller) hearCount(ctx Context, r Round) (bool, string) {
	c := q.counter
	c.ours[r.N] = q.went(r)
	deadline, pause := time.Now().Add(q.spec.Wait), 100*time.Millisecond
	ask := func(within time.Duration) error {
		asking, cancel := context.WithDeadline(ctx, maxTime(deadline, time.Now().Add(within)))
		defer cancel()
		err := q.counted(asking, q.devices(), r.N)
		q.lackSome(c.lacking())
		return err
	}
	q.lackSome(c.lacking())
	defer q.lackSome(0)
	answer := max(q.spec.Wait, 5*time.Second) // the last question may begin when the time is over
	err := ask(answer)
	for ctx.Err() == nil {
		if err == nil && c.lacking() == 0 { // what is too much may still come
			sleep(ctx, q.spec.WatchCopies)
			if err = ask(answer); err == nil && c.lacking() == 0 {
				break
			}
		}
		if !time.Now().Before(deadline) {
			break
		}
		sleep(ctx, min(pause, time.Until(deadline)))
		pause = min(2*pause, 5*time.Second)
		err = ask(answer)
	}
	switch {
	case ctx.Err() != nil:
		return false, "the hearing was cut short"
	case err != nil:
		return false, err.Error()
	}
	q.noteCounts(c.now, false)
	return true, ""
}

// went is how many messages of a round went out: by the first stream of a device, or at -1
// where the platform tells of all together.
func (q *poller) went(r Round) map[int]int64 {
	ours := map[int]int64{}
	for _, s := range q.catalog.Fleet.Streams {
		if !q.sees(s.Device) {
			continue
		}
		k := -1
		if q.spec.PerDevice || q.device != nil {
			k = first(s.Device)
		}
		from, to := r.Expect.Range(s.Index)
		for seq := from; seq < to; seq++ {
			if !r.Expect.Excused(s.Index, seq) && !q.base.corrupted(s.Index, seq) {
				ours[k]++
			}
		}
	}
	return ours
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// lacking is how many are not there yet, device by device.
func (c *counter) lacking() (n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	sum := map[int]int64{}
	for _, round := range c.ours {
		for k, n := range round {
			sum[k] += n
		}
	}
	for k, ours := range sum {
		n += max(0, ours-(c.now[k]-c.before[k]))
	}
	return n
}

func (q *poller) lackSome(n int64) {
	q.base.mu.Lock()
	defer q.base.mu.Unlock()
	q.left = int(n)
}
