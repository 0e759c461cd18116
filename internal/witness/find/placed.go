package find

import (
	"fmt"

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
	}
	if q.nth == nil {
		q.nth = map[match.Occasion]int{}
	}
	nth := q.nth[k]
	q.nth[k]++
	if q.olds {
		return
	}
	if how.Place == crowd.MarkNone {
		q.hold(x, streams[0].Index, k, on)
		return
	}
	q.mu.Lock()
	old := q.old[k]
	q.mu.Unlock()
	alike := match.Alike(list, digests)
	switch {
	// Where the list is empty it is another run's, or one whose time was changed.
	case nth < old || len(alike) == 0: // it was there before the run, or took its place; or it is none exactly
		for _, e := range list {
			q.unsure(x, e)
		}
	case len(alike) == 1:
		q.take(x, alike[0], &on.Page)
	default:
		k.Digest, x.Stream = alike[0].Digest, severalStreams
		row := q.row(x, k, on)
		row.alike = alike
		q.keep(row, on)
	}
}

// take notes a row that is a message.
func (q *messages) take(x ledger.Sighting, e match.Entry, on *match.Page) {
	s := q.Catalog.Fleet.Streams[e.Stream]
	q.found(x, match.Whose{Mark: ledger.Mark{Run: q.Catalog.Run, Device: s.Device.Name, Reading: s.Reading.Name,
		Seq: e.Seq}, Stream: e.Stream, Ours: true, Marked: true}, on)
}

// unsure notes that a row may be a message, once.
func (q *messages) unsure(x ledger.Sighting, e match.Entry) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.marked = true // it may be one of ours
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
	} else {
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
