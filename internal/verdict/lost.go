package verdict

import (
	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
)

// lostPart is what damaged places held of what a witness saw of a part of a stream, and which
// messages these can have been.
type lostPart struct {
	n, sum uint64
	unseen []uint64       // messages of which no sighting of the witness was read
	solved bool           // it is known which they were:
	of     map[uint64]int // so many sightings of each
	stream int
	first  uint64 // of the part
}

type lostKey struct {
	witness, stream int
	part            uint64
}

// losses are those of all witnesses.
type losses map[lostKey]*lostPart

func newLosses(f *ledger.Facts) losses {
	var l losses
	for w := range f.Witnesses {
		for _, x := range f.Witnesses[w].Lost {
			if l == nil {
				l = losses{}
			}
			k := lostKey{w, x.Stream, x.Part}
			p := l[k]
			if p == nil {
				p = &lostPart{stream: x.Stream, first: x.Part * ledger.SeenSpan}
				l[k] = p
			}
			p.n, p.sum = p.n+x.N, p.sum+x.Sum
		}
	}
	return l
}

// of is what is lost of the part that a message is in; nil: nothing.
func (l losses) of(w int, c *evidence.Case) *lostPart {
	if l == nil {
		return nil
	}
	return l[lostKey{w, c.Stream, c.Seq / ledger.SeenSpan}]
}

// add takes a case.
func (l losses) add(f *ledger.Facts, c *evidence.Case) {
	for w := range f.Witnesses {
		p := l.of(w, c)
		if p == nil {
			continue
		}
		seen := false
		for i := range c.Sightings {
			seen = seen || c.Sightings[i].Witness == w
		}
		if !seen {
			p.unseen = append(p.unseen, c.Seq)
		}
	}
}

// mostGuesses bounds how many sets of messages are held against one digest, and allGuesses against
// all of them. What is not found may have been any.
const (
	mostGuesses = 500_000
	allGuesses  = 20_000_000
)

// finish finds out which messages they were: those whose digests have that sum.
func (l losses) finish() {
	most := min(mostGuesses, allGuesses/max(len(l), 1))
	for _, p := range l {
		tries := most
		if p.solve(p.unseen, false, &tries) {
			continue
		}
		if p.n > 3 { // copies among them: too many to guess
			continue
		}
		var all []uint64
		for i := range uint64(ledger.SeenSpan) {
			all = append(all, p.first+i)
		}
		tries = most
		p.solve(all, true, &tries)
	}
}

// solve looks for so many of a list, several times the same or not, that have the sum.
func (p *lostPart) solve(list []uint64, again bool, tries *int) bool {
	var chosen []uint64
	var choose func(from int, left uint64, sum uint64) bool
	choose = func(from int, left, sum uint64) bool {
		if left == 0 {
			return sum == 0
		}
		for i := from; i < len(list); i++ {
			if !again && uint64(len(list)-i) < left {
				return false
			}
			if *tries--; *tries < 0 {
				return false
			}
			chosen = append(chosen, list[i])
			next := i + 1
			if again {
				next = i
			}
			if choose(next, left-1, sum-ledger.Digest(p.stream, list[i])) {
				return true
			}
			chosen = chosen[:len(chosen)-1]
		}
		return false
	}
	if !choose(0, p.n, p.sum) {
		return false
	}
	p.solved, p.of = true, map[uint64]int{}
	for _, seq := range chosen {
		p.of[seq]++
	}
	return true
}

// held tells whether a damaged place held, or may have held, a sighting of a message.
func (p *lostPart) held(seq uint64) bool { return p != nil && (!p.solved || p.of[seq] > 0) }
