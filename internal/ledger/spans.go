package ledger

import "sort"

// Spans is a set of sequence numbers that come in runs: neighbours take no memory.
type Spans []span

type span struct{ from, to uint64 } // to is behind the last

// at is the place of the first span that ends behind a number.
func (s Spans) at(n uint64) int { return sort.Search(len(s), func(i int) bool { return s[i].to > n }) }

// Has tells whether a number is in the set. It takes logarithmic time.
func (s Spans) Has(n uint64) bool {
	i := s.at(n)
	return i < len(s) && s[i].from <= n
}

// Len is how many numbers are in the set.
func (s Spans) Len() (n int) {
	for _, x := range s {
		n += int(x.to - x.from)
	}
	return n
}

// Add adds a number. At the end, where most are added, it takes constant time.
func (s *Spans) Add(n uint64) {
	list := *s
	i := len(list)
	if i > 0 && list[i-1].to > n {
		if i = list.at(n); list[i].from <= n {
			return
		}
	}
	left, right := i > 0 && list[i-1].to == n, i < len(list) && list[i].from == n+1
	switch {
	case left && right:
		list[i-1].to = list[i].to
		list = append(list[:i], list[i+1:]...)
	case left:
		list[i-1].to++
	case right:
		list[i].from--
	default:
		list = append(list, span{})
		copy(list[i+1:], list[i:])
		list[i] = span{n, n + 1}
	}
	*s = list
}

// AddRange adds the numbers from the first to the last, which lie behind all that are there.
func (s *Spans) AddRange(first, last uint64) {
	if n := len(*s); n > 0 && (*s)[n-1].to >= first {
		(*s)[n-1].to = max((*s)[n-1].to, last+1)
		return
	}
	*s = append(*s, span{first, last + 1})
}

// Ranges are the first spans, each from its first to its last number.
func (s Spans) Ranges(most int) (list [][2]uint64) {
	for _, x := range s[:min(len(s), most)] {
		list = append(list, [2]uint64{x.from, x.to - 1})
	}
	return list
}
