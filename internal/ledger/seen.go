package ledger

import (
	"cmp"
	"maps"
	"slices"
)

// SeenSpan is how many messages of a stream one Lost is about: those with the sequence numbers
// from Part times SeenSpan on.
const SeenSpan = 64

// Lost is what a damaged place held of what a witness saw: so many sightings of messages of a
// part of a stream, and the sum of their digests.
type Lost struct {
	Stream int
	Part   uint64
	N      uint64
	Sum    uint64

	session int
}

// Digest tells messages of a stream apart, so that the sum of several hardly has another's: the
// finaliser of SplitMix64 (Steele, Lea, Flood 2014).
func Digest(stream int, seq uint64) uint64 {
	x := seq + 0x9e3779b97f4a7c15*uint64(stream+1)
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// part is a part of a stream.
type part struct {
	stream int
	n      uint64
}

// tallied are sightings of a page: how many of each part, and their sum. In another order they
// are the same.
type tallied struct {
	parts  map[part]Lost
	others uint64 // records that are no sighting of a message of the run
}

func (t *tallied) add(stream int, seq uint64) {
	if t.parts == nil {
		t.parts = map[part]Lost{}
	}
	k := part{stream, seq / SeenSpan}
	x := t.parts[k]
	t.parts[k] = Lost{Stream: stream, Part: k.n, N: x.N + 1, Sum: x.Sum + Digest(stream, seq)}
}

// list is the parts in order.
func (t *tallied) list() []Lost { return slices.SortedFunc(maps.Values(t.parts), inOrder) }

func inOrder(a, b Lost) int {
	return cmp.Or(cmp.Compare(a.Stream, b.Stream), cmp.Compare(a.Part, b.Part))
}

// lacks is what was told, and not read; false: what was read is not a part of it.
func (t *tallied) lacks(told map[part]Lost, others uint64) (list []Lost, is bool) {
	if others != t.others {
		return nil, false // something else is lost, too
	}
	for k, x := range t.parts {
		if y, known := told[k]; !known || y.N < x.N || y.N == x.N && y.Sum != x.Sum {
			return nil, false
		}
	}
	for k, y := range told {
		if x := t.parts[k]; y.N > x.N {
			list = append(list, Lost{Stream: k.stream, Part: k.n, N: y.N - x.N, Sum: y.Sum - x.Sum})
		}
	}
	slices.SortFunc(list, inOrder)
	return list, true
}

// mostTold is how many parts stand in one record.
const mostTold = 2000

// tell writes what a page of a witness holds, into the writer's own page.
func (w *Writer) tell(index int, t *tallied) {
	for list := range slices.Chunk(t.list(), mostTold) {
		w.own.mu.Lock()
		w.own.x.index, w.own.x.told = index, list
		w.own.write(recSeen)
	}
}
