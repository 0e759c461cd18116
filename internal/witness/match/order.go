package match

import (
	"cmp"
	"slices"
	"sort"
)

// Sent is a message that should come out, known by a digest of its values; Heard is one that did.
type (
	Sent struct {
		Seq    uint64
		Digest uint64
	}
	Heard struct {
		Digest uint64
		Again  bool // it may be one that came before, handed out once more
		// Upto is the last message that there was when it was heard: it is none of later ones.
		// 0: that is not known.
		Upto uint64
		// Of is the message that it was found to be in an earlier round. 0: that is open.
		Of uint64
	}
)

// Pair says that what was heard is a message; both are places in their lists. Not sure: it may be.
type Pair struct {
	Heard, Sent int
	Sure        bool
}

// Align finds out which message each is that was heard, by values and order alone. Both lists are
// in their order. What it is not sure of, it says: an equal value that came less often than it
// was sent may be any of those. What is of no message is in no pair.
//
// Messages whose values are alone in both lists are found first. Those of them that came in their
// order divide the lists into stretches. In each stretch, values that came as often as they were
// sent are these messages; values of no message are those that are missing there, changed, if they
// are as many. If the order of what was heard is not that in which it came, ordered is false: there is
// one stretch, and one value of no message is the one that is missing.
func Align(sent []Sent, heard []Heard, ordered bool) (pairs []Pair) {
	possible := func(h, i int) bool {
		return (heard[h].Upto == 0 || sent[i].Seq <= heard[h].Upto) && (heard[h].Of == 0 || heard[h].Of == sent[i].Seq)
	}
	sentAt, heardAt, againAt := map[uint64][]int{}, map[uint64][]int{}, map[uint64][]int{}
	for i, s := range sent {
		sentAt[s.Digest] = append(sentAt[s.Digest], i)
	}
	for i, h := range heard {
		if h.Again {
			againAt[h.Digest] = append(againAt[h.Digest], i)
		} else {
			heardAt[h.Digest] = append(heardAt[h.Digest], i)
		}
	}
	var anchors []Pair
	found, known := make([]bool, len(sent)), make([]bool, len(heard))
	was := map[int]bool{}
	for h, x := range heard {
		if i, is := slices.BinarySearchFunc(sent, x.Of, bySeq); is {
			pairs, found[i], known[h], was[i] = append(pairs, Pair{h, i, true}), true, true, true
		}
	}
	for i, s := range sent {
		if len(sentAt[s.Digest]) > 1 {
			continue
		}
		for _, h := range append(slices.Clone(heardAt[s.Digest]), againAt[s.Digest]...) {
			if possible(h, i) && !known[h] {
				pairs, found[i] = append(pairs, Pair{h, i, true}), true
			}
		}
		if list := heardAt[s.Digest]; len(list) == 1 && possible(list[0], i) {
			anchors = append(anchors, Pair{heardAt[s.Digest][0], i, true})
		}
	}
	if anchors = inOrder(anchors); !ordered {
		anchors = nil
	}
	anchors = append(anchors, Pair{Heard: len(heard), Sent: len(sent)})
	surplus := map[uint64]bool{} // those that came more often in one: copies of any of them
	uneven := map[uint64]bool{}  // values that came in some stretch more or less often than they were sent
	type stretch struct{ sent, heard []int }
	var stretches []stretch
	from := Pair{-1, -1, true}
	for _, to := range anchors {
		x := stretch{}
		for i := from.Sent + 1; i < to.Sent; i++ {
			x.sent = append(x.sent, i)
		}
		for h := from.Heard + 1; h < to.Heard; h++ {
			if !heard[h].Again && !known[h] {
				x.heard = append(x.heard, h)
			}
		}
		from, stretches = to, append(stretches, x)
	}
	for _, x := range stretches {
		s, h := map[uint64][]int{}, map[uint64][]int{}
		for _, i := range x.sent {
			if d := sent[i].Digest; len(sentAt[d]) > 1 && !found[i] {
				s[d] = append(s[d], i)
			}
		}
		for _, i := range x.heard {
			if d := heard[i].Digest; len(sentAt[d]) > 1 {
				h[d] = append(h[d], i)
			}
		}
		for d, list := range s {
			even := len(h[d]) == len(list)
			for k := 0; even && k < len(list); k++ {
				even = possible(h[d][k], list[k]) // else one came twice, and another never
			}
			if even {
				for k, i := range list {
					pairs, found[i] = append(pairs, Pair{h[d][k], i, true}), true
				}
			} else if len(h[d]) > 0 || len(againAt[d]) > 0 {
				uneven[d] = true
			}
		}
		for d := range h {
			if len(h[d]) > len(s[d]) {
				uneven[d], surplus[d] = true, true
			}
		}
	}
	for d := range uneven { // each of them may be any of these
		rows := append(slices.Clone(heardAt[d]), againAt[d]...)
		for k, i := range sentAt[d] {
			from := min(k, len(rows)-1)
			may := func(h int) bool { return !known[h] && possible(h, i) }
			n := slices.IndexFunc(rows[from:], may) + from
			if n < from {
				n = slices.IndexFunc(rows, may)
			}
			if n >= 0 && (!found[i] || surplus[d] && was[i]) {
				pairs, found[i] = append(pairs, Pair{rows[n], i, false}), true
			}
		}
	}
	for _, x := range stretches {
		var missing, strange []int
		open := false // which of some came is not known: any of the strange ones may be theirs
		for _, i := range x.sent {
			if !found[i] {
				missing = append(missing, i)
			}
			open = open || uneven[sent[i].Digest]
		}
		for _, h := range x.heard {
			if len(sentAt[heard[h].Digest]) == 0 {
				strange = append(strange, h)
			}
		}
		others := map[uint64]bool{} // one that came twice is not two
		for _, h := range strange {
			others[heard[h].Digest] = true
		}
		for k, i := range missing {
			if len(strange) > 0 {
				pairs = append(pairs, Pair{strange[min(k, len(strange)-1)], i, !open && len(others) == len(missing) &&
					len(strange) == len(missing) && possible(strange[k], i) && (ordered || len(missing) == 1)})
			}
		}
	}
	slices.SortFunc(pairs, func(a, b Pair) int { return cmp.Or(cmp.Compare(a.Heard, b.Heard), cmp.Compare(a.Sent, b.Sent)) })
	return pairs
}

func bySeq(s Sent, seq uint64) int { return cmp.Compare(s.Seq, seq) }

// surely is how many values that are alone have to stand in one order, for all others to stand in it.
const surely = 8

// Order is in which order things were heard, by the values that are alone: backward, the last of
// them came first. Ordered is true if all of them stand in that order, and are enough to tell; times
// says that what was heard stands by its times, all different: then few are enough.
func Order(sent []Sent, heard []Heard, times bool) (backward, ordered bool) {
	sentAt, heardAt := map[uint64]int{}, map[uint64]int{}
	for _, s := range sent {
		sentAt[s.Digest]++
	}
	for _, h := range heard {
		heardAt[h.Digest]++
	}
	at := map[uint64]int{}
	for h, x := range heard {
		at[x.Digest] = h
	}
	var up, down []Pair
	for i, s := range sent {
		if sentAt[s.Digest] == 1 && heardAt[s.Digest] == 1 {
			up, down = append(up, Pair{Heard: at[s.Digest], Sent: i}), append(down, Pair{Heard: len(heard) - at[s.Digest], Sent: i})
		}
	}
	most := len(inOrder(up))
	if n := len(inOrder(down)); n > most {
		most, backward = n, true
	}
	return backward, most == len(up) && (times || most >= surely)
}

// inOrder are the most pairs that rise in both places; those given rise in that of the sent.
func inOrder(list []Pair) []Pair {
	var ends []int // by length less one: where the best chain of it ends
	before := make([]int, len(list))
	for i, p := range list {
		k := sort.Search(len(ends), func(k int) bool { return list[ends[k]].Heard >= p.Heard })
		if before[i] = -1; k > 0 {
			before[i] = ends[k-1]
		}
		if k == len(ends) {
			ends = append(ends, i)
		} else {
			ends[k] = i
		}
	}
	var chain []Pair
	if len(ends) > 0 {
		for i := ends[len(ends)-1]; i >= 0; i = before[i] {
			chain = append(chain, list[i])
		}
	}
	slices.Reverse(chain)
	return chain
}
