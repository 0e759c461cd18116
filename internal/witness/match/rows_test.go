package match

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
)

// found is a row of a message, by its number and identity.
func found(seq, row uint64, values string) *ledger.Sighting {
	return &ledger.Sighting{Seq: seq, Row: row, Values: []byte(values)}
}

// page begins a page of an answer.
func page(r *Rows) *Page {
	p := &Page{}
	r.Turn(p)
	return p
}

// A row is another copy, a known one, or one that changed: by its identity, or by where and
// when it was met.
func TestWhatARowIs(t *testing.T) {
	type met struct {
		page, answer bool // on a page of its own; of an answer of its own
		x            *ledger.Sighting
		is           Meeting
		moved        int // messages that several pages brought
	}
	for name, list := range map[string][]met{
		"one identity on two pages": {{is: AnotherCopy, x: found(1, 7, "a")},
			{page: true, x: found(1, 7, "a"), is: KnownRow}},
		"two identities": {{is: AnotherCopy, x: found(1, 7, "a")},
			{x: found(1, 8, "a"), is: AnotherCopy}},
		"one identity that changed": {{is: AnotherCopy, x: found(1, 7, "a")},
			{answer: true, x: found(1, 7, "b"), is: ChangedRow}, {answer: true, x: found(1, 7, "b"), is: KnownRow}},
		"no identity, twice on a page": {{is: AnotherCopy, x: found(1, 0, "a")},
			{x: found(1, 0, "a"), is: AnotherCopy}},
		"no identity, on two pages": {{is: AnotherCopy, x: found(1, 0, "a")},
			{page: true, x: found(1, 0, "a"), is: KnownRow, moved: 1}},
		"no identity, in two answers": {{is: AnotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "a"), is: KnownRow}},
		"no identity, changed in another answer": {{is: AnotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "b"), is: ChangedRow}},
		"no identity, twice in a later answer": {{is: AnotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "a"), is: KnownRow}, {x: found(1, 0, "a"), is: AnotherCopy}},
		"two messages": {{is: AnotherCopy, x: found(1, 0, "a")},
			{x: found(2, 0, "a"), is: AnotherCopy}},
		"one filed elsewhere": {{is: AnotherCopy, x: found(1, 0, "a")},
			{x: &ledger.Sighting{Seq: 1, FiledDevice: "b", Values: []byte("a")}, is: AnotherCopy}},
		"strays of two devices, on two pages": {{is: AnotherCopy, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "x"}},
			{page: true, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "y"}, is: AnotherCopy},
			{page: true, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "y", Reading: "r"}, is: AnotherCopy},
			{page: true, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "y"}, is: KnownRow}},
		"strays of two devices": {{is: AnotherCopy, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "x"}},
			{x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "y"}, is: AnotherCopy}},
	} {
		r := &Rows{}
		r.Ask()
		on := page(r)
		for i, m := range list {
			if m.answer {
				r.Ask()
			}
			if m.answer || m.page {
				on = page(r)
			}
			assert.Equal(t, m.is, r.Meet(m.x, on), "%s: %d", name, i)
			if i == len(list)-1 {
				assert.Len(t, r.Moved(), m.moved, name)
				assert.Empty(t, r.Moved(), "each is told once")
			}
		}
	}
}

// What an earlier hearing noted is known.
func TestKnownRows(t *testing.T) {
	r := &Rows{}
	r.Know(found(1, 7, "a"))
	r.Know(found(2, 0, "a"))
	r.Know(found(2, 0, "a"))
	again := found(1, 7, "b")
	again.Again = true
	r.Know(again)
	r.Ask()
	on := page(r)
	assert.Equal(t, KnownRow, r.Meet(found(1, 7, "b"), on), "the row as it was last")
	assert.Equal(t, []Meeting{KnownRow, KnownRow, AnotherCopy},
		[]Meeting{r.Meet(found(2, 0, "a"), on), r.Meet(found(2, 0, "a"), on), r.Meet(found(2, 0, "a"), on)})
}

// Of two rows of one message, the one changes that its identity tells.
func TestWhichOfSeveralRowsChanged(t *testing.T) {
	r := &Rows{}
	for _, x := range []*ledger.Sighting{found(1, 7, "a"), found(1, 8, "a"), found(1, 8, "b")} {
		x.Again = string(x.Values) == string(found(1, 8, "b").Values)
		r.Know(x)
	}
	r.Ask()
	on := page(r)
	assert.Equal(t, []Meeting{KnownRow, KnownRow}, []Meeting{r.Meet(found(1, 7, "a"), on), r.Meet(found(1, 8, "b"), on)})
	x := found(2, 0, "c") // one that is known as changed alone
	x.Again = true
	r.Know(x)
	assert.Equal(t, KnownRow, r.Meet(found(2, 0, "c"), on))
}

// A row is new in an answer once, however many pages bring it.
func TestWhatIsFreshInAnAnswer(t *testing.T) {
	r := &Rows{}
	for answer := range 2 {
		r.Ask()
		for n, fresh := range []int{1, 0, 0} {
			on := page(r)
			r.Meet(found(1, 7, "a"), on)
			assert.Equal(t, fresh, on.Fresh, "answer %d, page %d", answer, n)
		}
	}
}

// So many messages may move from page to page, and not one more.
func TestTooManyMoves(t *testing.T) {
	for more, lost := range map[uint64]bool{0: false, 1: true} {
		r := &Rows{}
		r.Ask()
		for range 2 {
			on := page(r)
			for seq := range MostMoved + more {
				r.Meet(found(seq+1, 0, "a"), on)
			}
		}
		assert.Equal(t, lost, r.LostTrack(), "%d more", more)
	}
}

// That a message moved between pages is noted once, also over two hearings.
func TestMovesThatAreKnown(t *testing.T) {
	r := &Rows{}
	r.Know(&ledger.Sighting{Seq: 1, Perhaps: true})
	r.Ask()
	for _, seq := range []uint64{1, 2, 3} {
		assert.Equal(t, AnotherCopy, r.Meet(found(seq, 0, "a"), page(r)), "on a page of its own: %d", seq)
	}
	for _, seq := range []uint64{2, 1} {
		assert.Equal(t, KnownRow, r.Meet(found(seq, 0, "a"), page(r)))
	}
	moved := r.Moved()
	require.Len(t, moved, 1)
	assert.Equal(t, uint64(2), moved[0].Seq)
	assert.False(t, r.LostTrack())
}

// A made-up number far beyond all others costs next to nothing.
func TestOddNumbersCostLittle(t *testing.T) {
	var before, after runtime.MemStats
	r := &Rows{}
	runtime.ReadMemStats(&before)
	for _, seq := range []uint64{60_000_000, 1, MaxSeq, MaxSeq + 1, 1<<64 - 1} {
		on := page(r)
		assert.Equal(t, AnotherCopy, r.Meet(found(seq, 1, "a"), on))
		assert.Equal(t, KnownRow, r.Meet(found(seq, 1, "a"), on))
	}
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))
}
