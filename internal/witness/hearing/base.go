package hearing

import (
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/match"
)

// Base is what every witness has.
type Base struct {
	Spec    *crowd.Witness
	Index   int
	Page    *ledger.Page
	Catalog *match.Catalog

	alerts []hearable // that it is there for

	mu      sync.Mutex
	seen    int        // messages that were found, or what was said
	found   [][]uint64 // a bit for each sequence number, by stream
	hearing Expect     // of the round that is being heard
	left    int        // messages of it that were not found yet
	out     int        // of these, those that must not be
}

// New makes what a witness of a file is built upon; page is where it writes.
func New(spec *crowd.Witness, index int, c *match.Catalog, page *ledger.Page) (*Base, error) {
	b := &Base{Spec: spec, Index: index, Page: page, Catalog: c}
	return b, b.hears()
}

// Sees tells whether the witness should see a device's messages.
func (b *Base) Sees(d *fleet.Device) bool { return b.Catalog.Fleet.Sees(b.Index, d) }

// Note writes a sighting and remembers that its message was found.
func (b *Base) Note(x *ledger.Sighting) {
	if b.Elsewhere(x.Stream) {
		return
	}
	b.InPlace(x)
	b.Page.Sighting(x)
	b.Remember(x.Stream, x.Seq)
}

// Elsewhere tells whether another part of the crowd looks after what is found of a stream: of those that it
// plays, and the first part of what is of none. What lies where only this part looks, nobody else finds.
func (b *Base) Elsewhere(stream int) bool {
	f := b.Catalog.Fleet
	if b.Spec.PerDevice || b.Spec.InGroups() {
		return false
	}
	return stream < 0 && f.Part.N > 1 || stream >= 0 && f.Streams[stream].Device.Elsewhere
}

// InPlace leaves out where a sighting was filed, where that is its own place.
func (b *Base) InPlace(x *ledger.Sighting) {
	if x.Stream < 0 {
		return
	}
	s := b.Catalog.Fleet.Streams[x.Stream]
	if x.FiledDevice == s.Device.Name {
		x.FiledDevice = ""
	}
	if x.FiledReading == s.Reading.Name {
		x.FiledReading = ""
	}
}

// Any tells whether anything was found at all.
func (b *Base) Any() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.found != nil
}

// Remember counts a message as found.
func (b *Base) Remember(stream int, seq uint64) {
	if stream < 0 || seq > match.MaxSeq {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.found == nil {
		b.found = make([][]uint64, len(b.Catalog.Fleet.Streams))
	}
	if b.has(stream, seq) {
		return
	}
	for uint64(len(b.found[stream])) <= seq/64 {
		b.found[stream] = append(b.found[stream], 0)
	}
	b.found[stream][seq/64] |= 1 << (seq % 64)
	b.seen++
	if b.hearing != nil && b.wants(stream, seq) {
		if b.left--; b.Corrupted(stream, seq) {
			b.out--
		}
	}
}

// Has tells whether a message was found.
func (b *Base) Has(stream int, seq uint64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.has(stream, seq)
}

func (b *Base) has(stream int, seq uint64) bool {
	return b.found != nil && seq/64 < uint64(len(b.found[stream])) && b.found[stream][seq/64]&(1<<(seq%64)) != 0
}

// wants tells whether a message should be found in the round that is being heard.
func (b *Base) wants(stream int, seq uint64) bool {
	from, to := b.Window(b.hearing, stream)
	return seq >= from && seq < to && b.Sees(b.Catalog.Fleet.Streams[stream].Device) && !b.hearing.Excused(stream, seq)
}

// Window is which messages of a stream should be found, from one to before another: of a witness
// that shows the latest alone, the last that went out.
func (b *Base) Window(e Expect, stream int) (from, to uint64) {
	from, to = e.Range(stream)
	if !b.Spec.Latest {
		return from, to
	}
	for ; to > from; to-- {
		if !e.Excused(stream, to-1) {
			return to - 1, to
		}
	}
	return from, from
}

// Begin begins to hear a round: what is missing is counted once, and then as it comes.
func (b *Base) Begin(r Round) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hearing, b.left = nil, 0
	b.out = 0
	b.lacks(r.Expect, func(stream int, seq uint64) {
		if b.left++; b.Corrupted(stream, seq) {
			b.out++
		}
	})
	b.hearing = r.Expect
}

// Over ends the hearing of a round: what is expected of the next one changes as it plays.
func (b *Base) Over() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hearing = nil
}

// Lacks calls f for every expected message that was not found yet. F must not call the witness.
func (b *Base) Lacks(e Expect, f func(stream int, seq uint64)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lacks(e, f)
}

func (b *Base) lacks(e Expect, f func(stream int, seq uint64)) {
	for _, s := range b.Catalog.Fleet.Streams {
		if !b.Sees(s.Device) {
			continue
		}
		from, to := b.Window(e, s.Index)
		for seq := from; seq < to; seq++ {
			if !b.has(s.Index, seq) && !e.Excused(s.Index, seq) {
				f(s.Index, seq)
			}
		}
	}
}

// Corrupted tells whether a message must not be found.
func (b *Base) Corrupted(stream int, seq uint64) bool {
	return b.Catalog.Corrupted != nil && b.Catalog.Corrupted(stream, seq)
}

// Lack sets how many are not found yet, where messages are not told apart.
func (b *Base) Lack(n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.left = int(n)
}

// Awaited implements Witness.
func (b *Base) Awaited() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.left
}

// StayOut implements Witness.
func (b *Base) StayOut() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.out
}

// Seen implements Witness.
func (b *Base) Seen() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.seen
}

// Sleep waits, or until the hearing is over.
func Sleep(ctx Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
