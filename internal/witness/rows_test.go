package witness

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/ledger"
)

// found is a row of a message, by its number and identity.
func found(seq, row uint64, values string) *ledger.Sighting {
	return &ledger.Sighting{Seq: seq, Row: row, Values: []byte(values)}
}

// page begins a page of an answer.
func page(r *rows) *cursor {
	r.serial++
	return &cursor{serial: r.serial, count: map[copyKey]int{}}
}

// A row is another copy, a known one, or one that changed: by its identity, or by where and
// when it was met.
func TestWhatARowIs(t *testing.T) {
	type met struct {
		page, answer bool // on a page of its own; of an answer of its own
		x            *ledger.Sighting
		is           meeting
		moved        int // messages that several pages brought
	}
	for name, list := range map[string][]met{
		"one identity on two pages": {{is: anotherCopy, x: found(1, 7, "a")},
			{page: true, x: found(1, 7, "a"), is: knownRow}},
		"two identities": {{is: anotherCopy, x: found(1, 7, "a")},
			{x: found(1, 8, "a"), is: anotherCopy}},
		"one identity that changed": {{is: anotherCopy, x: found(1, 7, "a")},
			{answer: true, x: found(1, 7, "b"), is: changedRow}, {answer: true, x: found(1, 7, "b"), is: knownRow}},
		"no identity, twice on a page": {{is: anotherCopy, x: found(1, 0, "a")},
			{x: found(1, 0, "a"), is: anotherCopy}},
		"no identity, on two pages": {{is: anotherCopy, x: found(1, 0, "a")},
			{page: true, x: found(1, 0, "a"), is: knownRow, moved: 1}},
		"no identity, in two answers": {{is: anotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "a"), is: knownRow}},
		"no identity, changed in another answer": {{is: anotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "b"), is: changedRow}},
		"no identity, twice in a later answer": {{is: anotherCopy, x: found(1, 0, "a")},
			{answer: true, x: found(1, 0, "a"), is: knownRow}, {x: found(1, 0, "a"), is: anotherCopy}},
		"two messages": {{is: anotherCopy, x: found(1, 0, "a")},
			{x: found(2, 0, "a"), is: anotherCopy}},
		"one filed elsewhere": {{is: anotherCopy, x: found(1, 0, "a")},
			{x: &ledger.Sighting{Seq: 1, FiledDevice: "b", Values: []byte("a")}, is: anotherCopy}},
		"strays of two devices": {{is: anotherCopy, x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "x"}},
			{x: &ledger.Sighting{Stream: -1, Seq: 1, Device: "y"}, is: anotherCopy}},
	} {
		r := &rows{}
		r.ask()
		on := page(r)
		for i, m := range list {
			if m.answer {
				r.ask()
			}
			if m.answer || m.page {
				on = page(r)
			}
			assert.Equal(t, m.is, r.meet(m.x, on), "%s: %d", name, i)
			if i == len(list)-1 {
				assert.Len(t, r.moved(), m.moved, name)
				assert.Empty(t, r.moved(), "each is told once")
			}
		}
	}
}

// What an earlier hearing noted is known.
func TestKnownRows(t *testing.T) {
	r := &rows{}
	r.know(found(1, 7, "a"))
	r.know(found(2, 0, "a"))
	r.know(found(2, 0, "a"))
	again := found(1, 7, "b")
	again.Again = true
	r.know(again)
	r.ask()
	on := page(r)
	assert.Equal(t, knownRow, r.meet(found(1, 7, "b"), on), "the row as it was last")
	assert.Equal(t, []meeting{knownRow, knownRow, anotherCopy},
		[]meeting{r.meet(found(2, 0, "a"), on), r.meet(found(2, 0, "a"), on), r.meet(found(2, 0, "a"), on)})
}

// A made-up number far beyond all others costs next to nothing.
func TestOddNumbersCostLittle(t *testing.T) {
	var before, after runtime.MemStats
	r := &rows{}
	runtime.ReadMemStats(&before)
	for _, seq := range []uint64{60_000_000, 1, maxSeq, maxSeq + 1, 1<<64 - 1} {
		on := page(r)
		assert.Equal(t, anotherCopy, r.meet(found(seq, 1, "a"), on))
		assert.Equal(t, knownRow, r.meet(found(seq, 1, "a"), on))
	}
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))
}
