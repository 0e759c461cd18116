package find

import (
	"cmp"
	"hash/fnv"
	"maps"
	"slices"

	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// heldRow is a row that does not tell by itself which message it is: all rows together tell.
type heldRow struct {
	x      ledger.Sighting
	k      match.Occasion
	page   match.Page
	again  bool          // it may be one that stands on a page before
	digest uint64        // of all that stands in it
	alike  []match.Entry // messages of one time and the same values, of which it is one
}

// wasFound is a message that a row was found to be.
type wasFound struct{ seq, digest uint64 }

// loose tells whether there are such streams.
func (q *messages) loose() bool {
	return slices.ContainsFunc(q.Catalog.Fleet.Crowd.Kinds, func(k *crowd.Kind) bool { return k.Mark.Place == crowd.MarkNone })
}

// hold keeps a row of a stream.
func (t *taker) hold(x ledger.Sighting, stream int, k match.Occasion, on *ask.Cursor) {
	x.Stream = stream
	t.keep(t.row(x, k, on), on)
}

// keep keeps a row until the answer was read.
func (t *taker) keep(row heldRow, on *ask.Cursor) {
	n := len(t.held)
	on.Ours++
	if n >= len(t.last) || t.last[n] != row.digest { // else the page goes on as the one before
		on.Fresh++
	}
	t.held = append(t.held, row)
}

// row makes one that is held.
func (t *taker) row(x ledger.Sighting, k match.Occasion, on *ask.Cursor) heldRow {
	h := fnv.New64a()
	h.Write(x.Values)
	return heldRow{x: x, k: k, page: on.Page, again: x.Row == 0 && t.met[k], digest: h.Sum64() ^ x.Row ^ uint64(x.Stored.UnixNano())}
}

// awaited is how many messages are still to be found: those whose values came as often as they
// were sent count as found.
func (q *messages) awaited(r hearing.Round) int {
	n := q.Awaited()
	if n == 0 || q.Catalog.Index == nil {
		return n
	}
	type message struct {
		stream int
		seq    uint64
	}
	lacking := map[message]bool{}
	q.Lacks(r.Expect, func(stream int, seq uint64) { lacking[message{stream, seq}] = true })
	q.mu.Lock()
	defer q.mu.Unlock()
	for stream := range q.held {
		if stream == severalStreams {
			continue
		}
		came := map[uint64]int{}
		for _, row := range q.rows(stream) {
			came[row.k.Digest]++
		}
		for seq := uint64(1); seq <= q.Catalog.Index.Upto(stream); seq++ {
			if d := q.Catalog.Index.Digest(stream, seq); came[d] > 0 && !r.Expect.Excused(stream, seq) {
				if came[d]--; lacking[message{stream, seq}] {
					n--
				}
			}
		}
	}
	for _, rows := range q.twins() {
		came := len(rows)
		for _, e := range rows[0].alike {
			if came > 0 && lacking[message{e.Stream, e.Seq}] {
				came, n = came-1, n-1
			}
		}
	}
	return n
}

// twins are the rows of one time and the same values, each once. The caller holds mu.
func (q *messages) twins() map[match.Occasion][]heldRow {
	twins, met := map[match.Occasion][]heldRow{}, meetings{}
	for _, row := range q.held[severalStreams] {
		if !met.again(row) {
			twins[row.k] = append(twins[row.k], row)
		}
	}
	return twins
}

// meetings are the rows of an answer by what they hold and their identity, which need not tell more than
// copies of one message apart.
type meetings map[match.Occasion]map[uint64]bool

// again tells whether a row was met before: it moved while pages were read.
func (m meetings) again(row heldRow) bool {
	if row.x.Row == 0 {
		return false
	}
	if m[row.k] == nil {
		m[row.k] = map[uint64]bool{}
	}
	was := m[row.k][row.x.Row]
	m[row.k][row.x.Row] = true
	return was
}

// severalStreams holds the rows that may be of more than one.
const severalStreams = -1

// separate takes rows of one time and the same values: as many as messages were sent, they are these. Those
// that were known before stay what they are.
func (q *messages) separate(twins map[match.Occasion][]heldRow, e hearing.Expect) {
	for _, k := range slices.SortedFunc(maps.Keys(twins), func(a, b match.Occasion) int {
		return cmp.Or(cmp.Compare(a.Device, b.Device), cmp.Compare(a.Stamp, b.Stamp), cmp.Compare(a.Digest, b.Digest))
	}) {
		rows := twins[k]
		sent := slices.DeleteFunc(slices.Clone(rows[0].alike), func(m match.Entry) bool { return e.Excused(m.Stream, m.Seq) })
		moved := slices.ContainsFunc(rows, func(row heldRow) bool { return row.again })
		known, missing := 0, sent[:0:0]
		q.mu.Lock()
		for _, m := range sent {
			n := q.known.Copies(m.Stream, m.Seq)
			if known += n; n == 0 {
				missing = append(missing, m)
			}
		}
		q.mu.Unlock()
		free := len(rows) - known
		if free > len(missing) {
			missing = sent // one is a copy of any
		}
		for i := 0; free > 0 && i < len(missing); i++ {
			if row := rows[min(known+i, len(rows)-1)]; free == len(missing) && !moved {
				q.take(row.x, missing[i], &row.page)
			} else {
				q.unsure(row.x, missing[i])
			}
		}
	}
}

// rows are those of a stream that are held, each once, but for those that were there before the run.
// The caller holds mu.
func (q *messages) rows(stream int) (list []heldRow) {
	all := slices.Clone(q.held[stream])
	if n := len(all); n > 1 && all[n-1].x.Stored.Before(all[0].x.Stored) {
		slices.Reverse(all)
	}
	slices.SortStableFunc(all, func(a, b heldRow) int { return a.x.Stored.Compare(b.x.Stored) })
	met, old := meetings{}, map[match.Occasion]int{}
	for _, row := range all {
		if met.again(row) {
			continue
		}
		if old[row.k]++; old[row.k] > q.old[row.k] {
			list = append(list, row)
		}
	}
	return list
}

// place finds out which messages the rows are that are held, by values and order.
func (q *messages) place(e hearing.Expect) {
	q.mu.Lock()
	held, twins := map[int][]heldRow{}, q.twins()
	for stream := range q.held {
		if stream != severalStreams {
			held[stream] = q.rows(stream)
		}
	}
	q.held = nil
	q.mu.Unlock()
	q.separate(twins, e)
	for _, s := range q.Catalog.Fleet.Streams {
		rows := held[s.Index]
		if len(rows) == 0 {
			continue
		}
		var sent []match.Sent
		for seq := uint64(1); seq <= q.Catalog.Index.Upto(s.Index); seq++ {
			if d := q.Catalog.Index.Digest(s.Index, seq); d != 0 && !e.Excused(s.Index, seq) {
				sent = append(sent, match.Sent{Seq: seq, Digest: d})
			}
		}
		times := true // all different
		for i, row := range rows {
			times = times && !row.x.Stored.IsZero() && (i == 0 || row.x.Stored.After(rows[i-1].x.Stored))
		}
		backward, ordered := match.Order(sent, heardRows(rows), times)
		if backward {
			slices.Reverse(rows)
		}
		heard := heardRows(rows)
		q.pin(s.Index, heard)
		for _, p := range match.Align(sent, heard, ordered) {
			entry := match.Entry{Stream: s.Index, Seq: sent[p.Sent].Seq}
			if p.Sure {
				q.take(rows[p.Heard].x, entry, &rows[p.Heard].page)
			} else {
				q.unsure(rows[p.Heard].x, entry)
			}
		}
	}
}

func heardRows(rows []heldRow) (heard []match.Heard) {
	for _, row := range rows {
		heard = append(heard, match.Heard{Digest: row.k.Digest, Again: row.again})
	}
	return heard
}

// pin says of rows what they were found to be in earlier hearings: of equal ones, the first. A later
// message is none of them.
func (q *messages) pin(stream int, heard []match.Heard) {
	q.mu.Lock()
	defer q.mu.Unlock()
	was := q.was[stream]
	slices.SortFunc(was, func(a, b wasFound) int { return cmp.Compare(a.seq, b.seq) })
	left := map[uint64][]uint64{}
	for _, w := range was {
		left[w.digest] = append(left[w.digest], w.seq)
	}
	for i := range heard {
		if list := left[heard[i].Digest]; len(list) > 0 {
			heard[i].Of, left[heard[i].Digest] = list[0], list[1:]
		}
	}
}

// wasKnown remembers what a row was found to be. The caller holds mu.
func (q *messages) wasKnown(x *ledger.Sighting) {
	if x.Stream < 0 || x.Unsure || x.Again || x.Perhaps {
		return
	}
	if s := q.Catalog.Fleet.Streams[x.Stream]; s.Device.Cast.Kind.Mark.Place == crowd.MarkNone {
		v, _ := strictjson.Decode(x.Values)
		values, _ := strictjson.Object(v)
		if q.was == nil {
			q.was = map[int][]wasFound{}
		}
		q.was[x.Stream] = append(q.was[x.Stream], wasFound{x.Seq, match.DigestOf(values, q.Catalog.Index.Names[x.Stream])})
	}
}
