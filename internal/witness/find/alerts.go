package find

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// alerts is a witness that asks what the platform said by itself.
type alerts struct {
	*ask.Asker
	rowID, time *jq.Query

	mu   sync.Mutex
	rows map[uint64]bool // that were met, by identity
	old  bool            // they were there before the run: nothing of them is noted

	again bool // it is asked again: nothing was there before the run
}

// Alerts makes a witness that asks what the platform said by itself.
func Alerts(a *ask.Asker) (hearing.Witness, error) {
	q := &alerts{Asker: a, rows: map[uint64]bool{}}
	return q, errors.Join(match.Compile(&q.rowID, a.Spec.Row), match.Compile(&q.time, a.Spec.Time))
}

// Start implements hearing.Witness: what is there before the run is no alert of this one.
func (q *alerts) Start(ctx hearing.Context) error {
	devices := q.Devices()
	if len(devices) == 0 {
		return nil
	}
	if err := q.Ready(ctx, devices[0]); err != nil {
		return err
	}
	if q.again {
		return nil
	}
	q.old = true
	err := q.Old(ctx, devices, 0, q.taker)
	q.old = false
	switch {
	case err != nil && ctx.Err() == nil:
		return fmt.Errorf("the witness %q could not be asked what is there before the run: %w", q.Spec.Name, err)
	case err == nil:
		q.Page.Count(q.Index, -1, true, q.AsFrom(clock.Now()), int64(len(q.rows)))
	}
	return err
}

// Stop implements hearing.Witness.
func (q *alerts) Stop() { q.Source.Stop() }

// Hear asks twice: the second answer tells also what came while copies were watched for.
func (q *alerts) Hear(ctx hearing.Context, r hearing.Round) (bool, string) {
	room := q.Room(len(q.Devices()))
	if r.Expect.Calls() { // what the last message called for may take its time
		hearing.Sleep(ctx, q.Spec.Wait)
	}
	q.ask(ctx, r, room, false) // its error counts only at the end
	hearing.Sleep(ctx, q.Spec.WatchCopies)
	pages, err := q.ask(ctx, r, max(room, time.Second), true)
	q.Clock()
	if err != nil {
		return false, ask.WhyNot(ctx, err, room, pages)
	}
	why := q.Unnamed()
	return why == "", why
}

func (q *alerts) ask(ctx hearing.Context, r hearing.Round, room time.Duration, whole bool) (int, error) {
	asking, stop := context.WithTimeout(ctx, room)
	defer stop()
	pages, _, err := q.All(asking, q.Devices(), r, whole, q.taker)
	return pages, err
}

func (q *alerts) taker() ask.Taker { return q }

// Turn implements ask.Taker.
func (*alerts) Turn(*ask.Cursor) {}

// Begin implements ask.Taker.
func (*alerts) Begin(*ask.Cursor) {}

// End implements ask.Taker.
func (*alerts) End(*ask.Cursor) error { return nil }

// Row implements ask.Taker: it notes a row that it had not met yet.
func (q *alerts) Row(row any, on *ask.Cursor) {
	x := &ledger.Said{Seen: clock.Now(), Row: q.identity(row)}
	on.Ours++
	q.mu.Lock()
	known := q.rows[x.Row]
	q.rows[x.Row] = true
	q.mu.Unlock()
	if known {
		return
	}
	on.Fresh++
	if q.old {
		return
	}
	if v, err := q.time.One(row); err == nil {
		x.Stored, _ = match.TimeOf(v)
	}
	q.Said(row, "", x)
}

// identity is a digest of what tells a row from others.
func (q *alerts) identity(row any) uint64 {
	if id, err := q.rowID.One(row); err == nil && id != nil {
		return digest(id)
	}
	return digest(row)
}

// digest is of a value; it is not 0.
func digest(v any) uint64 {
	h := fnv.New64a()
	h.Write([]byte(match.Text(v)))
	return max(1, h.Sum64())
}

// KnowCounts implements hearing.CountKnower.
func (q *alerts) KnowCounts(_ time.Time, before map[int]int64) error {
	switch n, known := before[-1]; {
	case !known:
		return fmt.Errorf("the witness %q cannot be asked again: whether rows were there when the run began is not known", q.Spec.Name)
	case n > 0:
		return fmt.Errorf("the witness %q cannot be asked again: %d rows were there when the run began, and nothing tells these "+
			"from its own", q.Spec.Name, n)
	}
	q.again = true
	return nil
}

// KnowSaid implements hearing.AlertKnower.
func (q *alerts) KnowSaid(x *ledger.Said) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.rows[x.Row] = true
	q.Knows(q.Catalog.Device(x.Device))
}

var _ hearing.AlertKnower = (*alerts)(nil)
