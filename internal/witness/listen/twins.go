package listen

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"

	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// twins are messages of one time and the same values that were heard: as many as were sent, they are
// these; which are missing or came twice, nothing tells.
type twins struct {
	heard []heardTwin
	alike []match.Entry
	open  bool // one may have come before
}

type heardTwin struct {
	message
	filed  int
	values any
}

// twin keeps a message of which another is like it.
func (e *listener) twin(m *message, k match.Occasion, alike []match.Entry, filed int, values any) {
	if m.again { // it came before
		return
	}
	e.countMu.Lock()
	t := e.twins[k]
	if t == nil {
		t = &twins{}
		if e.twins == nil {
			e.twins = map[match.Occasion]*twins{}
		}
		e.twins[k] = t
	}
	x := heardTwin{*m, filed, values}
	x.body, x.beside, x.user, x.correlation = nil, nil, nil, nil
	t.heard, t.alike, t.open = append(t.heard, x), alike, t.open || m.perhaps
	missing := slices.DeleteFunc(slices.Clone(alike), func(s match.Entry) bool { return e.Has(s.Stream, s.Seq) })
	whole := len(t.heard) == len(missing) && !t.open
	if whole {
		delete(e.twins, k)
	}
	e.countMu.Unlock()
	for i := 0; whole && i < len(missing); i++ {
		e.sighting(&t.heard[i].message, e.whose(missing[i].Stream, missing[i].Seq), t.heard[i].filed, true, t.heard[i].values)
	}
}

// separate notes of which messages it is not known whether they came, once.
func (e *listener) separate(r hearing.Round) {
	e.countMu.Lock()
	all := e.twins
	e.twins = nil
	e.countMu.Unlock()
	for _, k := range slices.SortedFunc(maps.Keys(all), func(a, b match.Occasion) int {
		return cmp.Or(cmp.Compare(a.Device, b.Device), cmp.Compare(a.Stamp, b.Stamp), cmp.Compare(a.Digest, b.Digest))
	}) {
		t := all[k]
		sent := slices.DeleteFunc(t.alike, func(s match.Entry) bool { return r.Expect.Excused(s.Stream, s.Seq) })
		missing := slices.DeleteFunc(slices.Clone(sent), func(s match.Entry) bool { return e.Has(s.Stream, s.Seq) })
		switch {
		case len(t.heard) == len(missing) && !t.open: // the others were never sent
			for i, s := range missing {
				e.sighting(&t.heard[i].message, e.whose(s.Stream, s.Seq), t.heard[i].filed, true, t.heard[i].values)
			}
			continue
		case len(t.heard) < len(missing):
			sent = missing
		}
		for i, s := range sent {
			x := t.heard[min(i, len(t.heard)-1)]
			y := ledger.Sighting{Witness: e.Index, Seen: x.at, Stream: s.Stream, Seq: s.Seq, Unsure: true}
			y.Values, _ = json.Marshal(x.values)
			e.Note(&y)
		}
	}
}
