package listen

import (
	"encoding/json"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// held is a message without a mark that was heard: which it is, only the others around it tell,
// when the round is over.
type held struct {
	message
	digest uint64
	filed  int
	upto   uint64 // the last message that there was when it was heard
	values []byte
}

// hold keeps a message of a device whose messages are told apart by their values and order.
func (e *listener) hold(m *message, values map[string]any, d *fleet.Device, filed int, reading string) {
	if m.retained { // it was there before
		return
	}
	index := e.Catalog.Index
	streams := match.StreamsOf(d, reading)
	if filed >= 0 && reading == "" {
		streams = []*fleet.Stream{e.Catalog.Fleet.Streams[filed]}
	}
	if len(streams) > 1 { // the one all of whose fields it has
		streams = index.Having(streams, values)
	}
	raw, err := json.Marshal(values)
	if len(streams) != 1 || err != nil {
		return // it is of none of the readings, or of any
	}
	s := streams[0].Index
	h := held{message: *m, digest: match.DigestOf(values, index.Names[s]), filed: filed, upto: index.Upto(s), values: raw}
	h.body, h.beside, h.user, h.correlation = nil, nil, nil, nil
	e.countMu.Lock()
	defer e.countMu.Unlock()
	if e.held == nil {
		e.held = map[int][]held{}
	}
	e.held[s] = append(e.held[s], h)
}

// waiting is how many of the messages that are still to be found are surely among those that are
// held: their values came as often. A value that was never sent may be somebody else's, and counts for
// nothing here.
func (e *listener) waiting(r hearing.Round) (n int) {
	e.countMu.Lock()
	defer e.countMu.Unlock()
	rows := 0
	for s, list := range e.held {
		from, to := r.Expect.Range(s)
		rows += len(list)
		n += min(len(list), int(to-from))
	}
	if n < e.Awaited() || rows == e.looked { // too few in any case, or no more than before
		return min(n, e.enough)
	}
	e.looked, n = rows, 0
	for s, list := range e.held {
		came := map[uint64]int{}
		for _, h := range list {
			came[h.digest]++
		}
		from, to := r.Expect.Range(s)
		for seq := from; seq < to; seq++ {
			if d := e.Catalog.Index.Digest(s, seq); came[d] > 0 && !r.Expect.Excused(s, seq) && !e.Has(s, seq) {
				came[d]--
				n++
			}
		}
	}
	e.enough = n
	return n
}

// place finds out which messages those are that are held.
func (e *listener) place(r hearing.Round) {
	e.countMu.Lock()
	all := e.held
	e.held, e.looked, e.enough = nil, 0, 0
	e.countMu.Unlock()
	for _, s := range e.Catalog.Fleet.Streams {
		list := all[s.Index]
		if len(list) == 0 || s.Device.Cast.Kind.Mark.Place != crowd.MarkNone {
			continue
		}
		from, to := r.Expect.Range(s.Index)
		var sent []match.Sent
		known := map[uint64]bool{}
		for seq := from; seq < to; seq++ {
			if d := e.Catalog.Index.Digest(s.Index, seq); d != 0 && !r.Expect.Excused(s.Index, seq) && !e.Has(s.Index, seq) {
				sent = append(sent, match.Sent{Seq: seq, Digest: d})
				known[d] = true
			}
		}
		var rows []held
		var heard []match.Heard
		for _, h := range list {
			if !known[h.digest] && e.earlier(s, &h, from) {
				continue
			}
			rows, heard = append(rows, h), append(heard, match.Heard{Digest: h.digest, Again: h.again || h.perhaps, Upto: h.upto})
		}
		placed := make([]bool, len(rows))
		for _, p := range match.Align(sent, heard, true) {
			placed[p.Heard] = true
			e.placed(s, &rows[p.Heard], sent[p.Sent].Seq, p.Sure)
		}
		for _, is := range placed {
			if !is {
				e.countMu.Lock()
				e.foreign++
				e.countMu.Unlock()
			}
		}
	}
}

// earlier notes a message of a round before that comes late.
func (e *listener) earlier(s *fleet.Stream, h *held, from uint64) bool {
	var list []match.Entry
	for _, x := range e.Catalog.Index.Valued(s.Index, h.digest) {
		if x.Seq < from && !e.Has(s.Index, x.Seq) {
			list = append(list, x)
		}
	}
	for _, x := range list {
		e.placed(s, h, x.Seq, len(list) == 1)
	}
	return len(list) > 0
}

// placed notes a message that was heard without a mark.
func (e *listener) placed(s *fleet.Stream, h *held, seq uint64, sure bool) {
	if !sure {
		e.Note(&ledger.Sighting{Witness: e.Index, Seen: h.at, Stream: s.Index, Seq: seq, Values: h.values, Unsure: true})
		return
	}
	values, _ := strictjson.Decode(h.values)
	e.sighting(&h.message, e.whose(s.Index, seq), h.filed, true, values)
}
