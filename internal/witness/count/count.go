// Package count is the witness that is told how many messages a platform has, where it tells
// nothing of each of them.
package count

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
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// witness asks how many there are, of each device where that is told.
type witness struct {
	*ask.Asker
	device *jq.Query
	count  *jq.Query // the number in a row; nil: each row is one

	mu     sync.Mutex
	before map[int]int64 // the messages that were there when the run began; nil: it was not asked yet
	now    map[int]int64 // in the answer that is read; by the first stream of a device, or -1
	// ours are how many went out, by round, and by the first stream of a device, or -1.
	ours map[int]map[int]int64
}

// oneDay is how far off a platform's clock may be: what is counted in all is there before, too.
const oneDay = 24 * time.Hour

// New makes a witness that counts.
func New(a *ask.Asker) (hearing.Witness, error) {
	c := &witness{Asker: a, ours: map[int]map[int]int64{}}
	return c, errors.Join(match.Compile(&c.device, a.Spec.Device), match.Compile(&c.count, a.Spec.Count))
}

// Start implements hearing.Witness: it asks how many are there before the run.
func (c *witness) Start(ctx hearing.Context) error {
	devices := c.Devices()
	if len(devices) == 0 {
		return nil
	}
	if err := c.Ready(ctx, devices[0]); err != nil {
		return err
	}
	if c.count != nil {
		c.Further = oneDay
	}
	if c.before != nil {
		return nil
	}
	c.Since = c.AsFrom(clock.Now()) // always the same
	c.now = map[int]int64{}
	if err := c.Old(ctx, devices, 0, c.taker); err != nil {
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = fmt.Errorf("the witness %q did not tell how many messages are there before the run", c.Spec.Name)
		}
		return err
	}
	c.before = c.now
	c.note(c.before, true)
	return nil
}

// Stop implements hearing.Witness.
func (c *witness) Stop() { c.Source.Stop() }

// note notes counts.
func (c *witness) note(m map[int]int64, before bool) {
	if len(m) == 0 {
		m = map[int]int64{-1: 0}
	}
	for _, k := range slices.Sorted(maps.Keys(m)) {
		c.Page.Count(c.Index, k, before, c.Since, m[k])
	}
}

// KnowCounts implements hearing.CountKnower.
func (c *witness) KnowCounts(from time.Time, before map[int]int64) error {
	c.Since, c.before = from, before
	return nil
}

// taker counts the rows of one question.
type taker struct {
	*witness
	page map[int]int64 // of this page
	all  map[int]int64 // and of those before
	err  error         // of a row that cannot be counted
}

func (c *witness) taker() ask.Taker { return &taker{witness: c, all: map[int]int64{}} }

// Turn implements ask.Taker.
func (t *taker) Turn(*ask.Cursor) {
	for k, n := range t.page {
		t.all[k] += n
	}
	t.page = nil
}

// Begin implements ask.Taker.
func (t *taker) Begin(*ask.Cursor) { t.page = map[int]int64{} }

// End implements ask.Taker: what a question was told counts where all of it could be counted.
func (t *taker) End(on *ask.Cursor) error {
	t.Turn(on)
	if t.err != nil {
		return t.err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, n := range t.all {
		t.now[k] += n
	}
	return nil
}

// Row implements ask.Taker.
func (t *taker) Row(row any, on *ask.Cursor) {
	on.Ours++
	on.Fresh++
	k := -1
	switch {
	case t.Spec.PerDevice:
		k = first(on.Device)
	case t.device != nil:
		v, err := t.device.One(row)
		if err != nil || v == nil {
			t.wrong(fmt.Errorf("a row names no device where the file says (device: %s): %s", t.Spec.Device,
				match.Clip(match.Text(row))))
			return
		}
		if n, is := v.(json.Number); is {
			v = n.String()
		}
		of := t.Catalog.Device(formula.String(v))
		if of == nil || !t.Sees(of) {
			return // somebody else's
		}
		k = first(of)
	}
	n := int64(1)
	if t.count != nil {
		v, _ := t.count.One(row)
		number, is := v.(json.Number)
		if i, isInt := v.(int); isInt {
			number, is = json.Number(fmt.Sprint(i)), true
		}
		var err error
		if n, err = number.Int64(); !is || err != nil || n < 0 {
			t.wrong(fmt.Errorf("a row tells no number of messages where the file says (count: %s): %s", t.Spec.Count,
				match.Clip(match.Text(row))))
			return
		}
	}
	t.page[k] += n
}

// wrong keeps the first error of a row.
func (t *taker) wrong(err error) {
	if t.err == nil {
		t.err = err
	}
}

// first is the first stream of a device.
func first(d *fleet.Device) int {
	if len(d.Streams) == 0 {
		return -1
	}
	return d.Streams[0].Index
}

// Hear asks how many there are until they are as many as went out: of each device, where they are
// told so. Too many of one do not make up for too few of another.
func (c *witness) Hear(ctx hearing.Context, r hearing.Round) (bool, string) {
	c.ours[r.N] = c.went(r)
	deadline, pause := time.Now().Add(c.Spec.Wait), 100*time.Millisecond
	look := func(within time.Duration) error {
		asking, cancel := context.WithDeadline(ctx, later(deadline, time.Now().Add(within)))
		defer cancel()
		c.mu.Lock()
		c.now = map[int]int64{}
		c.mu.Unlock()
		_, _, err := c.All(asking, c.Devices(), r, true, c.taker)
		c.Lack(c.lacking())
		return err
	}
	c.Lack(c.lacking())
	defer c.Lack(0)
	answer := max(c.Spec.Wait, 5*time.Second) // the last question may begin when the time is over
	err := look(answer)
	for ctx.Err() == nil {
		if err == nil && c.lacking() == 0 { // what is too much may still come
			hearing.Sleep(ctx, c.Spec.WatchCopies)
			if err = look(answer); err == nil && c.lacking() == 0 {
				break
			}
		}
		if !time.Now().Before(deadline) {
			break
		}
		hearing.Sleep(ctx, min(pause, time.Until(deadline)))
		pause = min(2*pause, 5*time.Second)
		err = look(answer)
	}
	switch {
	case ctx.Err() != nil:
		return false, "the hearing was cut short"
	case err != nil:
		return false, err.Error()
	}
	c.note(c.now, false)
	return true, ""
}

// went is how many messages of a round went out: by the first stream of a device, or at -1
// where the platform tells of all together.
func (c *witness) went(r hearing.Round) map[int]int64 {
	ours := map[int]int64{}
	for _, s := range c.Catalog.Fleet.Streams {
		if !c.Sees(s.Device) {
			continue
		}
		k := -1
		if c.Spec.PerDevice || c.device != nil {
			k = first(s.Device)
		}
		from, to := r.Expect.Range(s.Index)
		for seq := from; seq < to; seq++ {
			if !r.Expect.Excused(s.Index, seq) && !c.Corrupted(s.Index, seq) {
				ours[k]++
			}
		}
	}
	return ours
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// lacking is how many are not there yet, device by device.
func (c *witness) lacking() (n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	sum := map[int]int64{}
	for _, round := range c.ours {
		for k, n := range round {
			sum[k] += n
		}
	}
	for k, ours := range sum {
		n += max(0, ours-max(0, c.now[k]-c.before[k]))
	}
	return n
}
