package find

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/fleet"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// Unmarked is how the reason begins of a witness that could ask and found nothing that
// it can tell apart.
const Unmarked = "rows were found, but none carries a mark"

// messages is a witness that asks for messages one by one.
type messages struct {
	*ask.Asker
	device, reading, time, mark, values, body, rowID *jq.Query

	mu       sync.Mutex // guards what follows
	known    match.Rows
	held     map[int][]heldRow  // by stream: what no mark and no time tells whose it is
	was      map[int][]wasFound // what of it was found in earlier hearings
	unsures  map[unsureKey]bool
	narrow   [2]time.Time           // what was asked for before more was
	far      int                    // messages of ours in rows that are filed outside it
	near     int                    // and within it
	old      map[match.Occasion]int // rows that were there before the run
	olds     bool                   // they are being counted
	marked   bool                   // some row carried a mark, of whatever run
	unmarked int
	sample   string
	answers  []ask.Answer // what each question brought, when it was asked last
}

// Messages makes a witness that asks for messages one by one.
func Messages(a *ask.Asker) (hearing.Witness, error) {
	q, spec := &messages{Asker: a}, a.Spec
	return q, errors.Join(match.Compile(&q.body, spec.Body), match.Compile(&q.device, spec.Device),
		match.Compile(&q.reading, spec.Reading), match.Compile(&q.time, spec.Time), match.Compile(&q.mark, spec.Mark),
		match.Compile(&q.values, spec.Values), match.Compile(&q.rowID, spec.Row))
}

// Start implements hearing.Witness.
func (q *messages) Start(ctx hearing.Context) error {
	devices := q.Devices()
	if len(devices) == 0 {
		return nil
	}
	if err := q.Ready(ctx, devices[0]); err != nil {
		return err
	}
	if q.Catalog.Fresh {
		if err := q.unused(ctx, devices); err != nil {
			return err
		}
	}
	if q.Catalog.Index != nil && q.Since.IsZero() {
		return q.placeOld(ctx, devices)
	}
	return nil
}

// unused looks whether the platform has messages of this run already. Its identity was made of a name: where that
// was given to another run, each message would be found twice, or with the values of the other.
func (q *messages) unused(ctx hearing.Context, devices []*fleet.Device) error {
	looking, stop := context.WithTimeout(ctx, max(q.Spec.Timeout, time.Second))
	defer stop()
	var used atomic.Bool
	q.All(looking, devices[:1], hearing.Round{Begin: time.Unix(0, 0)}, true, func() ask.Taker { return &looker{q, &used} })
	if used.Load() { // what could not be read tells nothing
		return fmt.Errorf("the witness %q: the platform has messages of a run of this name already; give each run a name of its own, "+
			"with --run", q.Spec.Name)
	}
	return ctx.Err()
}

// looker looks for marks of the run, and takes nothing.
type looker struct {
	q    *messages
	used *atomic.Bool
}

func (l *looker) Turn(*ask.Cursor)      {}
func (l *looker) Begin(*ask.Cursor)     {}
func (l *looker) End(*ask.Cursor) error { return nil }
func (l *looker) Row(row any, on *ask.Cursor) {
	on.Ours++
	on.Fresh++ // or the pages would seem to bring nothing new
	for _, p := range l.q.split(row, on.Device, -1) {
		if m := l.q.Catalog.Mark(p.Mark); m.Ours && (m.Stream < 0 || !l.q.Catalog.Fleet.Streams[m.Stream].Device.Elsewhere) { // other parts may send already
			l.used.Store(true)
		}
	}
}

// Stop implements hearing.Witness.
func (q *messages) Stop() { q.Source.Stop() }

// taker takes the rows of one question.
type taker struct {
	*messages
	nth  map[match.Occasion]int  // rows on this page
	met  map[match.Occasion]bool // on the pages before it
	held []heldRow               // on this page
	last []uint64                // digests of the rows of the page before
}

// Turn implements ask.Taker.
func (t *taker) Turn(on *ask.Cursor) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.known.Turn(&on.Page)
	t.over()
}

// over takes a page that was read whole. The caller holds mu.
func (t *taker) over() {
	for k, n := range t.nth {
		if t.olds {
			t.old[k] += n
		}
		if t.met == nil {
			t.met = map[match.Occasion]bool{}
		}
		t.met[k] = true
	}
	t.last = t.last[:0]
	for _, row := range t.held {
		if t.messages.held == nil {
			t.messages.held = map[int][]heldRow{}
		}
		t.messages.held[row.x.Stream] = append(t.messages.held[row.x.Stream], row)
		t.last = append(t.last, row.digest)
		t.met[row.k] = true
	}
	t.nth, t.held = nil, nil
}

// Begin implements ask.Taker.
func (t *taker) Begin(*ask.Cursor) { t.nth, t.held = nil, nil }

// End implements ask.Taker.
func (t *taker) End(*ask.Cursor) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.over()
	return nil
}

// askAll asks about devices. Whole: all that is there has to be read.
func (q *messages) askAll(ctx hearing.Context, devices []*fleet.Device, r hearing.Round, whole bool) (int, error) {
	q.mu.Lock()
	q.known.Ask()
	q.held = nil
	q.mu.Unlock()
	pages, answers, err := q.All(ctx, devices, r, whole || q.loose(), q.taker)
	q.mu.Lock()
	q.answers = answers
	q.mu.Unlock()
	return pages, err
}

func (q *messages) taker() ask.Taker { return &taker{messages: q} }

// Row implements ask.Taker: it reads one row and notes what it holds.
func (q *taker) Row(row any, on *ask.Cursor) {
	d := on.Device
	var parts []match.Part
	if q.body == nil && q.Catalog.Index == nil { // most rows may be of others: those cost no more than this
		parts = q.split(row, nil, -1)
		if m := q.Catalog.Mark(parts[0].Mark); !m.Ours {
			if m.Marked || !q.corruptedIn(row, &parts[0]) {
				q.foreign(m, row)
				return
			}
		}
	}
	x := ledger.Sighting{Witness: q.Index, Seen: clock.Now(), Asked: true}
	if q.Spec.PerDevice {
		x.FiledDevice = d.Name
	}
	match.Fill(&x, row, q.Spec.Get == "" || q.Spec.FileForm != "", q.device, q.reading, q.time, q.values)
	if x.Values == nil {
		x.Values, _ = json.Marshal(row)
	}
	if q.rowID != nil {
		if v, err := q.rowID.One(row); err == nil && v != nil {
			x.Row = digest(v)
		}
	}
	filed := q.Catalog.Stream(x.FiledDevice, x.FiledReading)
	if filed < 0 && x.FiledReading == "" {
		if of := q.Catalog.Device(x.FiledDevice); of != nil && len(of.Streams) == 1 {
			filed = of.Streams[0].Index
		}
	}
	if !q.Spec.PerDevice {
		d = q.Catalog.Device(x.FiledDevice) // one question for all: the row tells whose it is
	}
	if parts == nil {
		parts = q.split(row, d, filed)
	}
	for _, p := range parts {
		if p.Values != nil {
			x.Values, _ = json.Marshal(p.Values)
		}
		if d != nil && q.Catalog.Index.Tells(d) {
			q.placed(x, &p, d, on)
			continue
		}
		m := q.Catalog.Mark(p.Mark)
		if !m.Marked && q.corruptedIn(row, &p) {
			m = q.Catalog.Mark(p.Mark)
		}
		if !m.Ours {
			q.foreign(m, row)
			continue
		}
		q.found(x, m, &on.Page)
	}
}

// corruptedIn looks for a mark of the run anywhere in a row where none can be read.
func (q *messages) corruptedIn(row any, p *match.Part) bool {
	b, err := json.Marshal(row)
	if err != nil {
		return false
	}
	m, found := q.Catalog.Raw(b)
	if !found && q.body != nil {
		if v, err := q.body.One(row); err == nil {
			if s, is := v.(string); is {
				if body, err := base64.StdEncoding.DecodeString(s); err == nil {
					m, found = q.Catalog.Raw(body)
				}
			}
		}
	}
	if found {
		p.Mark = m.Mark.String()
	}
	return found
}

// foreign notes a row without a mark of this run.
func (q *messages) foreign(m match.Whose, row any) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.marked = q.marked || m.Marked; m.Marked {
		return
	}
	if q.unmarked++; q.sample == "" {
		q.sample = match.Clip(match.Text(row))
	}
}

// split finds the mark of a row; a row that keeps a whole body may hold several
// messages. Where a body carries none, the row may have it beside: a store that keeps a header.
func (q *messages) split(row any, d *fleet.Device, filed int) []match.Part {
	var parts []match.Part
	if q.body != nil {
		if v, err := q.body.One(row); err == nil {
			if s, is := v.(string); is {
				parts = q.bodyParts(s, d, filed)
			}
		}
	}
	if len(parts) > 1 || len(parts) == 1 && parts[0].Mark != nil {
		return parts
	}
	p := match.Part{Mark: q.markOf(row)}
	if len(parts) == 1 {
		p.Values = parts[0].Values
	}
	return []match.Part{p}
}

// markOf is the mark of a row, outside a body; nil: there is none.
func (q *messages) markOf(row any) any {
	if q.mark != nil {
		v, err := q.mark.One(row)
		if err != nil {
			return nil
		}
		return v
	}
	v, has := q.Catalog.MarkIn(row)
	if !has && q.values != nil { // it rides among them
		if values, err := q.values.One(row); err == nil {
			v, _ = q.Catalog.MarkIn(values)
		}
	}
	return v
}

// bodyParts takes a body apart that a row keeps in base64 (RFC 4648, section 4)
// or, where it is none, as a text. D is the device whose row it is, or nil.
func (q *messages) bodyParts(s string, d *fleet.Device, filed int) []match.Part {
	body, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		body = []byte(s)
	}
	if filed >= 0 || d == nil {
		return q.Catalog.Parts(body, filed)
	}
	for _, st := range d.Streams {
		for _, p := range q.Catalog.Parts(body, st.Index) {
			if p.Mark != nil {
				return q.Catalog.Parts(body, st.Index)
			}
		}
	}
	return nil
}

// found notes a message found in a row, unless the ledger has it from this row already.
func (q *messages) found(x ledger.Sighting, m match.Whose, on *match.Page) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.marked = true
	if q.Further > 0 && !x.Stored.IsZero() {
		if x.Stored.Before(q.narrow[0]) || x.Stored.After(q.narrow[1]) {
			q.far++
		} else {
			q.near++
		}
	}
	x.Stream, x.Seq, x.Device, x.Reading = m.Stream, m.Seq, m.Device, m.Reading
	q.InPlace(&x)
	switch q.known.Meet(&x, on) {
	case match.AnotherCopy:
		q.wasKnown(&x)
		q.Note(&x)
	case match.ChangedRow:
		x.Again = true
		q.Note(&x)
	}
}

// Know implements Knower.
func (q *messages) Know(x *ledger.Sighting) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.known.Know(x)
	q.wasKnown(x)
	q.Remember(x.Stream, x.Seq)
	of := q.Catalog.Device(x.FiledDevice) // about which it was asked
	if of == nil && x.Stream >= 0 {
		of = q.Catalog.Fleet.Streams[x.Stream].Device
	}
	if of != nil {
		q.Knows(of)
	}
}

// Hear asks about all devices, then again about those with something missing,
// and once more about all when the time for repeats is over.
func (q *messages) Hear(ctx hearing.Context, r hearing.Round) (bool, string) {
	q.Begin(r)
	defer q.Over()
	all := q.Devices()
	room := q.Room(len(all))
	deadline := time.Now().Add(room)
	looking, stop := context.WithDeadline(ctx, deadline)
	defer stop()
	pause := 100 * time.Millisecond
	_, read := q.askAll(looking, all, r, false) // its error counts only in the last pass
	for time.Now().Before(deadline) && looking.Err() == nil && q.awaited(r) > 0 {
		hearing.Sleep(looking, min(pause, time.Until(deadline)))
		if pause = min(2*pause, 5*time.Second); !time.Now().Before(deadline) {
			break // all are asked once more below
		}
		if _, err := q.askAll(looking, q.wanted(r, all), r, false); looking.Err() == nil {
			read = err // not one that the end of the time cut off
		}
	}
	if ctx.Err() == nil {
		hearing.Sleep(ctx, q.Spec.WatchCopies)
	}
	q.lookFurther(ctx, r, all, room, read == nil)
	last, cancel := context.WithDeadline(ctx, time.Now().Add(max(room, time.Second)))
	defer cancel()
	pages, err := q.askAll(last, all, r, true)
	if err == nil {
		q.place(r.Expect)
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.Clock()
	if err != nil {
		return false, ask.WhyNot(ctx, err, room, pages)
	}
	for _, x := range q.known.Moved() {
		x.Witness, x.Seen, x.Asked, x.Perhaps = q.Index, clock.Now(), true, true
		q.Note(&x)
	}
	switch {
	case q.known.LostTrack():
		return false, fmt.Sprintf("more than %d rows were met on several pages of one answer, and rows tell no identity; "+
			"say what it is with row", match.MostMoved)
	case q.capped(r.Expect, pages) != "":
		return false, q.capped(r.Expect, pages)
	case q.unmarked > 0 && !q.marked && !q.Any() && q.Catalog.Index == nil:
		return false, fmt.Sprintf(Unmarked+" where the file says (mark: %s); a row is %s", orDefault(q.Spec.Mark), q.sample)
	}
	return true, ""
}

// oneDay is how far off a platform's clock is looked for.
const oneDay = 24 * time.Hour

// lookFurther asks for a longer time, where messages are missing: the platform may file them by
// a clock that is another, and that it does not tell. Rows without marks could be others'.
func (q *messages) lookFurther(ctx hearing.Context, r hearing.Round, all []*fleet.Device, room time.Duration,
	whole bool) {
	missing := q.Awaited()
	if missing == 0 || ctx.Err() != nil || !q.Since.IsZero() || q.Further > 0 {
		return
	}
	looking, stop := context.WithTimeout(ctx, max(room, time.Second))
	defer stop()
	q.mu.Lock()
	q.narrow = [2]time.Time{q.AsFrom(r.Begin), clock.Now().Add(ask.Margin + max(0, q.Ahead.Most))}
	q.mu.Unlock()
	q.Further = oneDay
	q.askAll(looking, q.wanted(r, all), r, false) // what it does not find decides nothing
	if q.Awaited() >= missing {
		q.Further = 0
		return
	}
	// More may have been found because it was stored meanwhile, or read to its end now: only
	// times that the rows tell show that it is filed elsewhere.
	q.mu.Lock()
	near := q.near > 0 && q.far == 0
	q.mu.Unlock()
	if near || !whole {
		return
	}
	q.Page.Link(&ledger.LinkEvent{At: clock.Now(), What: ledger.Remarked, Why: fmt.Sprintf("the witness %q: the "+
		"platform files messages under times that are more than a minute off: its clock differs from ours, or it "+
		"keeps the time of another zone", q.Spec.Name)})
}

func orDefault(s string) string {
	if s == "" {
		return "the field of the row that has the mark's name"
	}
	return s
}

// wanted are those of which something is missing.
func (q *messages) wanted(r hearing.Round, all []*fleet.Device) []*fleet.Device {
	if !q.Spec.PerDevice {
		return all
	}
	wanted := map[int]bool{}
	q.Lacks(r.Expect, func(stream int, _ uint64) { wanted[q.Catalog.Fleet.Streams[stream].Device.Index] = true })
	var some []*fleet.Device
	for _, d := range all {
		if wanted[d.Index] {
			some = append(some, d)
		}
	}
	return some
}

// KnowCounts implements hearing.CountKnower.
func (q *messages) KnowCounts(from time.Time, before map[int]int64) error {
	q.Since = from
	if before[-1] > 0 {
		return fmt.Errorf("the witness %q cannot be asked again: %d rows of its devices were there when the run began, and "+
			"rows carry no mark that tells these from its own", q.Spec.Name, before[-1])
	}
	return nil
}
