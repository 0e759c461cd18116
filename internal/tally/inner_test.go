package tally

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
)

// What the platform has of a message, by its verdict.
func TestReached(t *testing.T) {
	sent := time.Unix(1, 0)
	for _, c := range []struct {
		v             verdict.Verdict
		meant         ledger.Meant
		sent          time.Time
		sure, perhaps bool
	}{
		{verdict.Proven, ledger.ToKeep, sent, true, true}, {verdict.Repeated, ledger.ToKeep, sent, true, true},
		{verdict.Late, ledger.ToKeep, sent, true, true}, {verdict.Unacknowledged, ledger.ToKeep, sent, true, true},
		{verdict.Refused, ledger.ToKeep, sent, false, false}, {verdict.Dropped, ledger.ToKeep, sent, false, false},
		{verdict.Lost, ledger.ToKeep, sent, false, true}, {verdict.Unknown, ledger.ToKeep, sent, false, true},
		{verdict.Altered, ledger.ToKeep, sent, false, true}, {verdict.Unanswered, ledger.ToKeep, sent, false, true},
		{verdict.Unsent, ledger.ToKeep, time.Time{}, false, false}, {verdict.Unknown, ledger.ToKeep, time.Time{}, false, true},
		{verdict.Proven, ledger.ToRefuse, sent, false, false}, {verdict.LetIn, ledger.ToRefuse, sent, false, true},
		{verdict.Proven, ledger.ToDiscard, sent, false, false}, {verdict.LetIn, ledger.ToDiscard, sent, false, true},
	} {
		sure, perhaps := reached(&evidence.Case{Meant: c.meant, Sent: c.sent}, c.v)
		assert.Equal(t, c.sure, sure, "%v %v", c.v, c.meant)
		assert.Equal(t, c.perhaps, perhaps, "%v %v", c.v, c.meant)
	}
}

// Of two witnesses the later counts; where one has no delay, there is none.
func TestLater(t *testing.T) {
	d := func(took time.Duration) verdict.Delay { return verdict.Delay{Took: took, Least: took, Most: took} }
	for _, c := range []struct {
		a, b  verdict.Delay
		first bool
		want  verdict.Delay
	}{{d(1), d(2), false, d(2)}, {d(2), d(1), false, d(2)}, {d(0), d(2), false, d(2)}, {d(2), d(0), false, d(2)}, {d(0), d(0), false, d(0)},
		{d(-1), d(2), true, d(2)}, {d(-1), d(2), false, verdict.Delay{Took: -1}}, {d(2), d(-1), false, verdict.Delay{Took: -1}}} {
		assert.Equal(t, c.want, later(c.a, c.b, c.first), "%+v", c)
	}
}

// Rows are those of the first witness that proves stored, else of the first that proves received.
func TestWhoseRows(t *testing.T) {
	for _, c := range []struct {
		proofs []string
		name   string
		want   int
	}{{[]string{"stored", "stored"}, "", 0}, {[]string{"received", "stored", "stored"}, "", 1}, {[]string{"received", "received"}, "", 0},
		{[]string{"stored", "received"}, "", 0}, {[]string{"acknowledged"}, "", -1}, {[]string{"stored", "received"}, "w1", 1}, {nil, "", -1}} {
		f := &ledger.Facts{}
		for i, p := range c.proofs {
			f.Witnesses = append(f.Witnesses, ledger.Witness{Name: []string{"w0", "w1", "w2"}[i], Proof: p})
		}
		assert.Equal(t, c.want, newRows(f, c.name).witness, "%+v", c)
	}
}

// A message is held to be behind those of so many before it, and no more.
func TestHowFarOrderLooks(t *testing.T) {
	for n, want := range map[int]int{orderLook - 1: 1, orderLook: 1, orderLook + 1: 1} {
		var o order
		var behind ledger.Spans
		o.begin()
		o.add(found{when: 10, seq: 1, counts: true}, &behind)
		for i := range n {
			o.add(found{when: int64(20 + i), seq: uint64(i + 2), counts: true, sent: int64(i)}, &behind)
		}
		assert.LessOrEqual(t, len(o.ahead)-o.from, orderLook)
		o.add(found{when: int64(19 + n - 1), seq: uint64(n + 2), counts: true, sent: int64(n)}, &behind)
		assert.EqualValues(t, want, behind.Len(), n)
	}
}

// Turns mix where the one ends after the next began, and they say different things.
func TestTurnsThatMix(t *testing.T) {
	for _, c := range []struct {
		to, from int64
		a, b     [2]bool // calls, arms
		mix      bool
	}{
		{11, 10, [2]bool{true, false}, [2]bool{false, true}, true}, {10, 10, [2]bool{true, false}, [2]bool{false, true}, false},
		{11, 10, [2]bool{true, false}, [2]bool{true, false}, false}, {11, 10, [2]bool{false, true}, [2]bool{false, true}, false},
		{11, 10, [2]bool{true, false}, [2]bool{true, true}, true}, {11, 10, [2]bool{true, true}, [2]bool{false, true}, true},
		{9, 10, [2]bool{true, false}, [2]bool{false, true}, false},
	} {
		a, b := turn{to: c.to, calls: c.a[0], arms: c.a[1]}, turn{from: c.from, calls: c.b[0], arms: c.b[1]}
		assert.Equal(t, c.mix, a.mixes(&b), "%+v", c)
	}
	// Where two mix, neither is sure; a third that stands apart is.
	h := &history{turns: []turn{{from: 0, to: 5, arms: true, sure: true, first: 1}, {from: 4, to: 4, calls: true, sure: true, first: 2},
		{from: 9, to: 9, arms: true, sure: true, first: 3}, {from: 12, to: 12, calls: true, sure: true, first: 4}}}
	calls := h.expected()
	assert.Len(t, calls, 2)
	assert.Equal(t, []bool{false, true}, []bool{calls[0].sure, calls[1].sure})
}
