package witness

import (
	"encoding/json"
	"hash/fnv"
	"slices"
	"sort"
	"strconv"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/decimal"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

// Index knows the messages of a run by what they carry: by the time in a field, and by a
// digest of their values. It is for kinds whose messages have no mark. It takes some 30
// bytes for each message. Its methods may be called from several goroutines.
type Index struct {
	fleet *fleet.Fleet
	names [][]string // by stream: where the values stand that the digest is of, sorted
	times []string   // by stream: where the time stands that is the mark

	mu      sync.RWMutex
	streams []streamIndex
}

type streamIndex struct {
	stamps  []int64  // by sequence number less one, in Unix nanoseconds; 0: it carried none
	digests []uint64 // the same
	order   []uint32 // places in stamps, by time
}

func newIndex(f *fleet.Fleet) *Index {
	x := &Index{fleet: f, streams: make([]streamIndex, len(f.Streams)), names: make([][]string, len(f.Streams)),
		times: make([]string, len(f.Streams))}
	ruled := map[string]bool{} // by some witness: what is found differs from what was sent
	for _, w := range f.Crowd.Witnesses {
		for _, r := range w.Fields {
			ruled[r.Field] = true
		}
	}
	for i, s := range f.Streams {
		mark := s.Device.Cast.Kind.Mark
		x.times[i] = mark.Name
		if path := s.Place(mark.Name); path != "" {
			x.times[i] = path
		}
		for k := range s.Reading.Fields {
			n := &s.Reading.Fields[k]
			if !ruled[n.Name] && n.Tolerance == 0 && !(mark.Place == crowd.MarkTime && mark.Name == n.Name) {
				if path := s.Place(n.Name); path != "" { // else it stands in a text with others
					x.names[i] = append(x.names[i], path)
				}
			}
		}
		slices.Sort(x.names[i])
	}
	return x
}

// tells tells whether the messages of a device are known by what they carry alone.
func (x *Index) tells(d *fleet.Device) bool {
	return x != nil && d.Cast.Kind.Mark.Place >= crowd.MarkTime
}

// Add takes a message. Those of a stream come in their order.
func (x *Index) Add(stream int, seq uint64, carried []byte) {
	s := x.fleet.Streams[stream]
	if !x.tells(s.Device) || seq == 0 || seq > maxSeq {
		return
	}
	v, _ := strictjson.Decode(carried)
	values, _ := strictjson.Object(v)
	stamp := int64(0)
	if mark := s.Device.Cast.Kind.Mark; mark.Place == crowd.MarkTime {
		at, _ := strictjson.At(values, x.times[stream])
		if t, ok := timeOf(at); ok {
			stamp = t.UnixNano()
		}
	}
	d := digestOf(values, x.names[stream])
	x.mu.Lock()
	defer x.mu.Unlock()
	st := &x.streams[stream]
	for uint64(len(st.stamps)) < seq {
		st.stamps, st.digests = append(st.stamps, 0), append(st.digests, 0)
	}
	st.stamps[seq-1], st.digests[seq-1] = stamp, d
	st.order = append(st.order, uint32(seq-1))
	for i := len(st.order) - 1; i > 0 && st.stamps[st.order[i-1]] > stamp; i-- {
		st.order[i-1], st.order[i] = st.order[i], st.order[i-1]
	}
}

// digestOf is a digest of what stands in some places, that does not depend on how a store writes them:
// numbers have one notation, also in texts, and what is not there is null.
func digestOf(values map[string]any, names []string) uint64 {
	h := fnv.New64a()
	for _, name := range names {
		v, _ := strictjson.At(values, name)
		h.Write([]byte(plainValue(v)))
		h.Write([]byte{0})
	}
	return max(1, h.Sum64())
}

func plainValue(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case bool:
		if x {
			return "1"
		}
		return "0"
	case json.Number:
		return plainNumber(x.String())
	case string:
		switch x {
		case "true":
			return "1"
		case "false":
			return "0"
		}
		return plainNumber(x)
	case map[string]any:
		s := "{"
		for _, k := range slices.Sorted(keysOf(x)) {
			s += k + ":" + plainValue(x[k]) + ","
		}
		return s
	case []any:
		s := "["
		for _, y := range x {
			s += plainValue(y) + ","
		}
		return s
	}
	return text(v)
}

func keysOf(m map[string]any) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// floats is the number up to which 64-bit floating point numbers tell whole numbers apart.
var floats = decimal.Int(1 << 53)

func plainNumber(s string) string {
	n, ok := decimal.Parse(s)
	if !ok {
		return s
	}
	// Stores keep most numbers as 64-bit floating point numbers: they have one notation here.
	// Beyond 2^53 these would make one of several numbers.
	if n.Abs().Cmp(floats) < 0 {
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			n = decimal.Float(f)
		}
	}
	return n.String()
}

// message is a message of the run.
type entry struct {
	stream int
	seq    uint64
	digest uint64
}

// at lists the messages of streams that carried a time, as a platform keeps it that moves and
// cuts times.
func (x *Index) at(streams []*fleet.Stream, t time.Time, shift, cut time.Duration) (list []entry) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	from, to := t.UnixNano(), t.UnixNano()
	if cut > 0 {
		from -= from % int64(cut)
		to = from + int64(cut) - 1
	}
	from, to = from-int64(shift), to-int64(shift)
	for _, s := range streams {
		st := &x.streams[s.Index]
		for i := sort.Search(len(st.order), func(i int) bool { return st.stamps[st.order[i]] >= from }); i < len(st.order) &&
			st.stamps[st.order[i]] <= to; i++ {
			k := st.order[i]
			list = append(list, entry{s.Index, uint64(k) + 1, st.digests[k]})
		}
	}
	return list
}

// stamp is the time by which a message is known: what the witness picked as its mark, or what
// stands where the first of some streams has it.
func (x *Index) stamp(streams []*fleet.Stream, p *part, values map[string]any, picked bool) any {
	v := p.mark
	for i := 0; !picked && v == nil && i < len(streams); i++ {
		v, _ = strictjson.At(values, x.times[streams[i].Index])
	}
	return v
}

// valued lists the messages of a stream with a digest.
func (x *Index) valued(stream int, digest uint64) (list []entry) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for i, d := range x.streams[stream].digests {
		if d == digest {
			list = append(list, entry{stream, uint64(i) + 1, d})
		}
	}
	return list
}

// occasion is what rows have in common that no mark tells apart.
type occasion struct {
	device int
	stamp  int64
	digest uint64
}

type unsureKey struct {
	stream int
	seq    uint64
}

// streamsOf are those of a device that a row may be of, by the reading that it names.
func streamsOf(d *fleet.Device, reading string) []*fleet.Stream {
	for _, s := range d.Streams {
		if s.Reading.Name == reading {
			return []*fleet.Stream{s}
		}
	}
	return d.Streams
}

// pick chooses among the messages that a row may be: the one with its values, and of several
// of these the nth. Sure is false where the values tell none apart.
func pickEntry(list []entry, digests func(stream int) uint64, nth int) (m entry, sure bool) {
	if len(list) == 1 {
		return list[0], true
	}
	var same []entry
	for _, e := range list {
		if e.digest == digests(e.stream) {
			same = append(same, e)
		}
	}
	if len(same) == 0 {
		return list[0], false
	}
	return same[min(nth, len(same)-1)], true
}

// placed finds out which message a row is that has no mark, and notes it.
func (q *poller) placed(x ledger.Sighting, p *part, d *fleet.Device, on *cursor) {
	v, err := strictjson.Decode(x.Values)
	values, is := strictjson.Object(v)
	if err != nil || !is {
		q.foreign(whose{}, v)
		return
	}
	index, how := q.catalog.Index, d.Cast.Kind.Mark
	streams := streamsOf(d, x.FiledReading)
	k := occasion{device: d.Index}
	var list []entry
	if how.Place == crowd.MarkTime {
		t, ok := timeOf(index.stamp(streams, p, values, q.mark != nil))
		if !ok {
			q.foreign(whose{}, v)
			return
		}
		k.stamp = t.UnixNano()
		list = index.at(streams, t, q.spec.Shift, q.spec.Cut)
	} else if len(streams) > 1 { // the one all of whose fields it has
		streams = slices.DeleteFunc(slices.Clone(streams), func(s *fleet.Stream) bool {
			return slices.ContainsFunc(index.names[s.Index], func(name string) bool {
				_, has := strictjson.At(values,
					name)
				return !has
			})
		})
	}
	digests := func(stream int) uint64 { return digestOf(values, index.names[stream]) }
	if how.Place == crowd.MarkNone {
		if len(streams) != 1 {
			return // it is of none of the readings, or of any
		}
		k.digest = digests(streams[0].Index)
		list = index.valued(streams[0].Index, k.digest)
	}
	q.mu.Lock()
	if q.olds {
		q.old[k]++
		q.mu.Unlock()
		return
	}
	if on.nth == nil {
		on.nth = map[occasion]int{}
	}
	nth := on.nth[k]
	on.nth[k]++
	old := q.old[k]
	q.mu.Unlock()
	same := k
	if len(list) > 0 {
		same.digest = digests(list[0].stream)
	}
	switch {
	case len(list) > 1 && on.met[same]: // on another page: the next message, or a row that moved
		on.take(k, same.digest)
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
		q.loose.add(e.stream, e.seq, nil)
		q.take(x, e, on)
		return
	}
	e, sure := pickEntry(list, digests, on.take(k, same.digest))
	if !sure {
		for _, e := range list {
			q.unsure(x, e)
		}
		return
	}
	q.take(x, e, on)
}

// take counts the rows of one time that have the same values, on a page.
func (s *cursor) take(k occasion, digest uint64) int {
	k.digest = digest
	n := s.nth[k]
	s.nth[k]++
	return n
}

// take notes a row that is a message.
func (q *poller) take(x ledger.Sighting, e entry, on *cursor) {
	s := q.catalog.Fleet.Streams[e.stream]
	q.found(x, whose{Mark: ledger.Mark{Run: q.catalog.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: e.seq},
		stream: e.stream, ours: true, marked: true}, on)
}

// unsure notes that a row may be a message, once.
func (q *poller) unsure(x ledger.Sighting, e entry) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.unsures == nil {
		q.unsures = map[unsureKey]bool{}
	}
	k := unsureKey{e.stream, e.seq}
	if q.unsures[k] {
		return
	}
	q.unsures[k] = true
	x.Stream, x.Seq, x.Unsure = e.stream, e.seq, true
	q.note(&x)
}

// placeOld asks what is there before the run: it may look like messages of it.
func (q *poller) placeOld(ctx Context, devices []*fleet.Device) error {
	q.since = q.asFrom(clock.Now())
	if b := q.catalog.Fleet.Crowd.Plan.Begin; !b.At.IsZero() && b.At.Before(q.since) {
		q.since = q.asFrom(b.At)
	} else if b.Past > 0 {
		q.since = q.since.Add(-b.Past)
	}
	q.old, q.olds = map[occasion]int{}, true
	err := q.askOld(ctx, devices)
	q.olds = false
	if err == nil {
		n := 0
		for _, k := range q.old {
			n += k
		}
		q.page.Count(q.index, -1, true, q.since, int64(n))
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
func (q *poller) align(e Expect) {
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
				if !q.base.hasFound(stream, seq) && !e.Excused(stream, seq) {
					missing = append(missing, seq)
				}
			}
			for i, seq := range missing {
				if len(held) == 0 {
					break
				}
				x := ledger.Sighting{Witness: q.index, Seen: clock.Now(), Asked: true, Stream: stream, Seq: seq,
					Values: held[min(i, len(held)-1)].values, Unsure: len(held) != len(missing)}
				if k := (unsureKey{stream, seq}); !q.unsures[k] {
					if q.unsures == nil {
						q.unsures = map[unsureKey]bool{}
					}
					q.unsures[k] = true
					q.note(&x)
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

// hasFound tells whether a message was found.
func (b *base) hasFound(stream int, seq uint64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.has(stream, seq)
}

// unmarkedOurs notes a message that was heard and has no mark, where what it carries tells
// which it is. It is false where that is not how it is known.
func (e *listener) unmarkedOurs(m *message, p *part, filed int) bool {
	values, is := strictjson.Object(p.values)
	var d *fleet.Device
	x := ledger.Sighting{}
	fill(&x, p.values, false, e.device, e.reading, nil, nil)
	if filed >= 0 {
		d = e.catalog.Fleet.Streams[filed].Device
	} else if x.FiledDevice != "" {
		d = e.catalog.device(x.FiledDevice)
	}
	if !is || d == nil || d.Cast.Kind.Mark.Place != crowd.MarkTime {
		return d != nil && e.catalog.Index.tells(d)
	}
	streams := streamsOf(d, x.FiledReading)
	if filed >= 0 && x.FiledReading == "" {
		streams = []*fleet.Stream{e.catalog.Fleet.Streams[filed]}
	}
	t, ok := timeOf(e.catalog.Index.stamp(streams, p, values, e.mark != nil))
	if !ok {
		return true
	}
	list := e.catalog.Index.at(streams, t, e.spec.Shift, e.spec.Cut)
	if len(list) == 0 {
		return true
	}
	digest := digestOf(values, e.catalog.Index.names[list[0].stream])
	e.countMu.Lock()
	if e.nth == nil {
		e.nth = map[occasion]int{}
	}
	k := occasion{d.Index, t.UnixNano(), digest}
	nth := e.nth[k]
	if !m.again { // also the first, which is alone until the next is sent
		e.nth[k]++
	}
	e.countMu.Unlock()
	found, sure := pickEntry(list, func(stream int) uint64 { return digestOf(values, e.catalog.Index.names[stream]) }, nth)
	if !sure {
		for _, c := range list {
			y := ledger.Sighting{Witness: e.index, Seen: m.at, Stream: c.stream, Seq: c.seq, Unsure: true}
			y.Values, _ = json.Marshal(values)
			e.note(&y)
		}
		return true
	}
	s := e.catalog.Fleet.Streams[found.stream]
	e.sighting(m, whose{Mark: ledger.Mark{Run: e.catalog.Run, Device: s.Device.Name, Reading: s.Reading.Name,
		Seq: found.seq}, stream: found.stream, ours: true}, filed, filed >= 0, p.values)
	return true
}
