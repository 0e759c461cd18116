package match

import (
	"cmp"
	"hash/fnv"
	"slices"

	"runcrowd/internal/ledger"
)

// MostMoved bounds how many messages are kept that were met on several pages.
const MostMoved = 100_000

// copyKey is what copies of a message have in common: copies in other places are others.
type copyKey struct {
	stream          int
	seq             uint64
	device, reading string // where it was filed, if not in its own place; of strays, what they say
}

func keyOf(x *ledger.Sighting) copyKey {
	k := copyKey{x.Stream, x.Seq, x.FiledDevice, x.FiledReading}
	if x.Stream < 0 {
		k.device, k.reading = x.Device+"\x00"+x.FiledDevice, x.Reading+"\x00"+x.FiledReading
	}
	return k
}

// plain tells whether it is a message of the run in its own place: nearly all are.
func (k *copyKey) plain() bool {
	return *k == copyKey{stream: max(k.stream, 0), seq: min(k.seq, MaxSeq)}
}

// Rows is what is known of the rows in which a querying witness found messages. It takes
// a few bytes for each message.
//
// Two rows are two copies where they stand on one page, or tell two identities. A row met
// on another page of the same answer may have moved there while the pages were read. A row
// met in a later answer is the one that is known; it may have changed.
type Rows struct {
	first []states // by stream and sequence number, of messages in their own place
	more  map[copyKey][]state
	// again are messages that another page of this answer brought.
	again  map[copyKey]bool
	noted  map[copyKey]bool // of these, those that the ledger has
	full   bool
	serial uint32 // of the page that was asked for last
	start  uint32 // of the page before this answer
}

// state is a copy that is known.
type state struct {
	row    uint32 // digest of the row's identity; 0: none is told
	values uint32 // digest of what it holds; 0: the copy is not there
	page   uint32 // on which it was met last
}

// states are those of a stream by sequence number, in pages: an odd number far away costs a
// page, not all that would lie before it.
type states struct{ pages []*[statesPage]state }

const statesPage = 512

func (x *states) at(seq uint64) state {
	if i := seq / statesPage; i < uint64(len(x.pages)) && x.pages[i] != nil {
		return x.pages[i][seq%statesPage]
	}
	return state{}
}

func (x *states) put(seq uint64, s state) {
	i := seq / statesPage
	for uint64(len(x.pages)) <= i {
		x.pages = append(x.pages, nil)
	}
	if x.pages[i] == nil {
		x.pages[i] = new([statesPage]state)
	}
	x.pages[i][seq%statesPage] = s
}

// Meeting is what a row turned out to be.
type Meeting uint8

const (
	KnownRow Meeting = iota
	AnotherCopy
	ChangedRow
)

// Page is a page of an answer, of which rows are met.
type Page struct {
	serial uint32
	count  map[copyKey]int
	// Ours are the rows with messages of the run; Fresh those of them that this answer had not
	// brought yet.
	Ours, Fresh int
}

// Turn begins a page.
func (r *Rows) Turn(p *Page) {
	r.serial++
	p.serial = r.serial
	p.Begin()
}

// Begin begins the page again: an attempt to read it failed.
func (p *Page) Begin() { p.count, p.Ours, p.Fresh = map[copyKey]int{}, 0, 0 }

// Ask begins to read an answer.
func (r *Rows) Ask() {
	r.start = r.serial
	clear(r.again)
	r.full = false
}

// copies are those known of a message.
func (r *Rows) copies(k copyKey) []state {
	if k.plain() {
		if k.stream < len(r.first) {
			if s := r.first[k.stream].at(k.seq); s.values != 0 {
				return append([]state{s}, r.more[k]...)
			}
		}
		return nil
	}
	return r.more[k]
}

// Copies is how many copies are known of a message, where it should be.
func (r *Rows) Copies(stream int, seq uint64) int {
	return len(r.copies(copyKey{stream: stream, seq: seq}))
}

// keep keeps a copy: the one with a place among them, or one more.
func (r *Rows) keep(k copyKey, i int, s state) {
	if k.plain() {
		if i == 0 {
			for len(r.first) <= k.stream {
				r.first = append(r.first, states{})
			}
			r.first[k.stream].put(k.seq, s)
			return
		}
		i--
	}
	if r.more == nil {
		r.more = map[copyKey][]state{}
	}
	if list := r.more[k]; i < len(list) {
		list[i] = s
	} else {
		r.more[k] = append(list, s)
	}
}

func digest(x *ledger.Sighting) state {
	h := fnv.New32a()
	h.Write(x.Values)
	return state{row: uint32(x.Row) ^ uint32(x.Row>>32), values: max(1, h.Sum32())}
}

// Meet takes a row that holds a message, on a page.
func (r *Rows) Meet(x *ledger.Sighting, on *Page) Meeting {
	k, s := keyOf(x), digest(x)
	s.page = on.serial
	known := r.copies(k)
	on.Ours++
	if x.Row != 0 {
		for i, c := range known {
			if c.row != s.row {
				continue
			}
			if c.page <= r.start {
				on.Fresh++
			}
			r.keep(k, i, s)
			if c.values != s.values {
				return ChangedRow
			}
			return KnownRow
		}
		on.Fresh++
		r.keep(k, len(known), s)
		return AnotherCopy
	}
	on.count[k]++
	if on.count[k] > len(known) {
		on.Fresh++
		r.keep(k, len(known), s)
		return AnotherCopy
	}
	i := slices.IndexFunc(known, func(c state) bool { return c.values == s.values })
	c := known[max(0, i)]
	if c.page <= r.start {
		on.Fresh++
	} else if c.page != on.serial && on.count[k] == 1 { // this answer brought it already, on another page
		r.move(k)
	}
	r.keep(k, max(0, i), s)
	if i < 0 {
		return ChangedRow
	}
	return KnownRow
}

// move notes that another page of this answer brought a message.
func (r *Rows) move(k copyKey) {
	if r.again == nil {
		r.again = map[copyKey]bool{}
	}
	if len(r.again) >= MostMoved {
		r.full = true
		return
	}
	r.again[k] = true
}

// Moved are the messages that several pages of the last answer brought, in order, and
// that the ledger does not have as such.
func (r *Rows) Moved() (list []ledger.Sighting) {
	for k := range r.again {
		if k.stream < 0 || r.noted[k] {
			continue
		}
		if r.noted == nil {
			r.noted = map[copyKey]bool{}
		}
		r.noted[k] = true
		list = append(list, ledger.Sighting{Stream: k.stream, Seq: k.seq, FiledDevice: k.device, FiledReading: k.reading})
	}
	slices.SortFunc(list, func(a, b ledger.Sighting) int {
		return cmp.Or(cmp.Compare(a.Stream, b.Stream), cmp.Compare(a.Seq, b.Seq))
	})
	return list
}

// LostTrack tells whether there were too many of them.
func (r *Rows) LostTrack() bool { return r.full }

// Know takes a sighting that the ledger has from an earlier hearing.
func (r *Rows) Know(x *ledger.Sighting) {
	k, s := keyOf(x), digest(x)
	known := r.copies(k)
	switch {
	case x.Perhaps:
		if r.noted == nil {
			r.noted = map[copyKey]bool{}
		}
		r.noted[k] = true
	case x.Again:
		i := slices.IndexFunc(known, func(c state) bool { return x.Row != 0 && c.row == s.row })
		r.keep(k, max(0, i), s)
	default:
		r.keep(k, len(known), s)
	}
}
