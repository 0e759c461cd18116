package find

import (
	"fmt"
	"sync"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

type unsureKey struct {
	stream int
	seq    uint64
}

// placed finds out which message a row is that has no mark, and notes it.
func (q *taker) placed(x ledger.Sighting, p *match.Part, d *fleet.Device, on *ask.Cursor) {
	v, err := strictjson.Decode(x.Values)
	values, is := strictjson.Object(v)
	if err != nil || !is {
		q.foreign(match.Whose{}, v)
		return
	}
	index, how := q.Catalog.Index, d.Cast.Kind.Mark
	streams := match.StreamsOf(d, x.FiledReading)
	k := match.Occasion{Device: d.Index}
	var list []match.Entry
	if how.Place == crowd.MarkTime {
		t, ok := match.TimeOf(index.Stamp(streams, p, values, q.mark != nil))
		if !ok {
			q.foreign(match.Whose{}, v)
			return
		}
		k.Stamp = t.UnixNano()
		list = index.At(streams, t, q.Spec.Shift, q.Spec.Cut)
	} else if len(streams) > 1 { // the one all of whose fields it has
		streams = index.Having(streams, values)
	}
	digests := func(stream int) uint64 { return match.DigestOf(values, index.Names[stream]) }
	if how.Place == crowd.MarkNone {
		if len(streams) != 1 {
			return // it is of none of the readings, or of any
		}
		k.Digest = digests(streams[0].Index)
		list = index.Valued(streams[0].Index, k.Digest)
	}
	q.mu.Lock()
	if q.olds {
		q.old[k]++
		q.mu.Unlock()
		return
	}
	if q.nth == nil {
		q.nth = map[match.Occasion]int{}
	}
	nth := q.nth[k]
	q.nth[k]++
	old := q.old[k]
	q.mu.Unlock()
	same := k
	if len(list) > 0 {
		same.Digest = digests(list[0].Stream)
	}
	switch {
	case len(list) > 1 && q.met[same]: // on another page: the next message, or a row that moved
		q.count(k, same.Digest)
		for _, e := range list {
			q.unsure(x, e)
		}
		return
	case nth < old && how.Place == crowd.MarkTime: // it was there before the run, or took its place
		for _, e := range list {
			q.unsure(x, e)
		}
		return
	case nth < old:
		return
	case len(list) == 0 && how.Place == crowd.MarkNone:
		q.loose.add(streams[0].Index, 0, x.Values)
		return
	case len(list) == 0: // another run's, or one whose time was changed
		return
	}
	nth -= old
	if how.Place == crowd.MarkNone {
		e := list[min(nth, len(list)-1)]
		q.loose.add(e.Stream, e.Seq, nil)
		q.take(x, e, on)
		return
	}
	e, sure := match.Pick(list, digests, q.count(k, same.Digest))
	if !sure {
		for _, e := range list {
			q.unsure(x, e)
		}
		return
	}
	q.take(x, e, on)
}

// count counts the rows of one time that have the same values, on a page.
func (s *taker) count(k match.Occasion, digest uint64) int {
	k.Digest = digest
	n := s.nth[k]
	s.nth[k]++
	return n
}

// take notes a row that is a message.
func (q *messages) take(x ledger.Sighting, e match.Entry, on *ask.Cursor) {
	s := q.Catalog.Fleet.Streams[e.Stream]
	q.found(x, match.Whose{Mark: ledger.Mark{Run: q.Catalog.Run, Device: s.Device.Name, Reading: s.Reading.Name,
		Seq: e.Seq}, Stream: e.Stream, Ours: true, Marked: true}, on)
}

// unsure notes that a row may be a message, once.
func (q *messages) unsure(x ledger.Sighting, e match.Entry) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.unsures == nil {
		q.unsures = map[unsureKey]bool{}
	}
	k := unsureKey{e.Stream, e.Seq}
	if q.unsures[k] {
		return
	}
	q.unsures[k] = true
	x.Stream, x.Seq, x.Unsure = e.Stream, e.Seq, true
	q.Note(&x)
}

// placeOld asks what is there before the run: it may look like messages of it.
func (q *messages) placeOld(ctx hearing.Context, devices []*fleet.Device) error {
	q.Since = q.AsFrom(clock.Now())
	if b := q.Catalog.Fleet.Crowd.Plan.Begin; !b.At.IsZero() && b.At.Before(q.Since) {
		q.Since = q.AsFrom(b.At)
	} else if b.Past > 0 {
		q.Since = q.Since.Add(-b.Past)
	}
	q.old, q.olds = map[match.Occasion]int{}, true
	q.known.Ask()
	err := q.Old(ctx, devices, 0, q.taker)
	q.olds = false
	switch {
	case err != nil && ctx.Err() == nil:
		return fmt.Errorf("the witness %q could not be asked what is there before the run: %w", q.Spec.Name, err)
	case err == nil:
		n := 0
		for _, k := range q.old {
			n += k
		}
		q.Page.Count(q.Index, -1, true, q.Since, int64(n))
	}
	return err
}

// loose are the rows of streams whose messages are told apart by their values and order.
type loose struct {
	mu   sync.Mutex
	rows map[int][]looseRow
}

type looseRow struct {
	seq    uint64 // 0: its values are those of no message
	values []byte
}

func (l *loose) begin() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rows = nil
}

func (l *loose) add(stream int, seq uint64, values []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.rows == nil {
		l.rows = map[int][]looseRow{}
	}
	l.rows[stream] = append(l.rows[stream], looseRow{seq, values})
}

// align finds out which messages rows are whose values are those of none: between two rows
// that are known, as many rows as messages are these, in their order. Where they are fewer,
// any of them may be missing. The caller holds mu.
func (q *messages) align(e hearing.Expect) {
	q.loose.mu.Lock()
	defer q.loose.mu.Unlock()
	for stream, rows := range q.loose.rows {
		from, to := e.Range(stream)
		if from == to {
			continue
		}
		var held []looseRow
		last := from - 1
		gap := func(next uint64) {
			var missing []uint64
			for seq := last + 1; seq < next; seq++ {
				if !q.Has(stream, seq) && !e.Excused(stream, seq) {
					missing = append(missing, seq)
				}
			}
			for i, seq := range missing {
				if len(held) == 0 {
					break
				}
				x := ledger.Sighting{Witness: q.Index, Seen: clock.Now(), Asked: true, Stream: stream, Seq: seq,
					Values: held[min(i, len(held)-1)].values, Unsure: len(held) != len(missing)}
				if k := (unsureKey{stream, seq}); !q.unsures[k] {
					if q.unsures == nil {
						q.unsures = map[unsureKey]bool{}
					}
					q.unsures[k] = true
					q.Note(&x)
				}
			}
			held, last = nil, max(last, next)
		}
		for _, r := range rows {
			switch {
			case r.seq == 0:
				held = append(held, r)
			case r.seq > last && r.seq < to:
				gap(r.seq)
			}
		}
		gap(to)
	}
}
