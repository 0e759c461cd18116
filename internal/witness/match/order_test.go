package match_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/witness/match"
)

// What is sent and heard is written as letters, one for each value; a small letter with an
// apostrophe was handed out again.
func TestAlign(t *testing.T) {
	for _, c := range []struct{ sent, heard, want string }{
		{"", "", ""}, {"abc", "", ""}, {"", "abc", ""},
		{"abc", "abc", "1=1 2=2 3=3"},
		{"abc", "ac", "1=1 2=3"},                  // b is lost
		{"abc", "cab", "1=3 2=1 3=2"},             // in another order
		{"abc", "abbc", "1=1 2=2 3=2 4=3"},        // b came twice
		{"abc", "axc", "1=1 2=2 3=3"},             // b was changed
		{"abcd", "axd", "1=1 2?2 2?3 3=4"},        // of b and c one is changed, and one lost: which?
		{"abc", "axyc", "1=1 2?2 4=3"},            // b, or somebody else's
		{"aaa", "aaa", "1=1 2=2 3=3"},             // the same value, as often
		{"aaa", "aa", "1?1 2?2 2?3"},              // one of them is lost: which?
		{"aaa", "aaaa", "1?1 2?2 3?3"},            // one came twice: which?
		{"abaca", "abaca", "1=1 2=2 3=3 4=4 5=5"}, // each between others
		{"abaca", "abca", "1=1 2=2 3=4 4=5"},      // the second a is lost: it is the one between b and c
		{"abab", "abab", "1=1 2=2 3=3 4=4"},       // no value is alone
		{"abca", "bcaa", "1=2 2=3 3?1 4?4"},       // the first a is late, or lost and the last one there twice
		{"aba", "aba'a", "1=1 2=2 4=3"},           // handed out again: that counts for nothing
		{"aab", "aa'b", "1?1 2?2 3=3"},            // but it may be the first time
		{"ab", "a'b", "1=1 2=2"},                  // the only one that it can be
		{"abb", "abxb", "1=1 2=2 4=3"},            // somebody else's
		{"aabb", "abab", "1=1 2=3 3=2 4=4"},       // no order is asked of what is alike
	} {
		sent, heard := lettersSent(c.sent), lettersHeard(c.heard)
		var got []string
		for _, p := range match.Align(sent, heard, true) {
			got = append(got, fmt.Sprintf("%d%s%d", p.Heard+1, map[bool]string{true: "=", false: "?"}[p.Sure], p.Sent+1))
		}
		slices.Sort(got)
		want := strings.Fields(c.want)
		slices.Sort(want)
		assert.Equal(t, want, slices.Clip(append([]string{}, got...)), "%s heard as %s", c.sent, c.heard)
	}
}

func lettersSent(s string) (list []match.Sent) {
	for i, r := range s {
		list = append(list, match.Sent{Seq: uint64(i + 1), Digest: uint64(r)})
	}
	return list
}

func lettersHeard(s string) (list []match.Heard) {
	for _, r := range s {
		if r == '\'' {
			list[len(list)-1].Again = true
			continue
		}
		list = append(list, match.Heard{Digest: uint64(r)})
	}
	return list
}

// What is heard is no message that was not there yet: of two alike, of which the first came twice
// and the second never, neither is proven.
func TestAlignLooksNotAhead(t *testing.T) {
	for _, c := range []struct {
		sent  string
		heard []match.Heard
		want  []match.Pair
	}{
		{"aa", []match.Heard{{Digest: 'a', Upto: 1}, {Digest: 'a', Upto: 1}}, []match.Pair{{Heard: 0, Sent: 0}}},
		{"aa", []match.Heard{{Digest: 'a', Upto: 1}, {Digest: 'a', Upto: 2}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 1, Sure: true}}},
		{"aa", []match.Heard{{Digest: 'a', Upto: 2}, {Digest: 'a', Upto: 2}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 1, Sure: true}}},
		{"ab", []match.Heard{{Digest: 'b', Upto: 1}}, nil}, // somebody else's
		// What it was found to be before it stays: a later one alike is lost, or the new one.
		{"aa", []match.Heard{{Digest: 'a', Of: 1}, {Digest: 'a', Of: 1}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 0, Sure: true}}},
		{"aa", []match.Heard{{Digest: 'a', Of: 1}, {Digest: 'a'}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 1, Sure: true}}},
		{"aa", []match.Heard{{Digest: 'a', Of: 1}, {Digest: 'a', Of: 2}, {Digest: 'a'}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true},
			{Heard: 1, Sent: 1, Sure: true}, {Heard: 2, Sent: 0}, {Heard: 2, Sent: 1}}}, // a copy of either
		{"a", []match.Heard{{Digest: 'a', Of: 9}}, nil}, // of one that nobody looks for
		{"aaa", []match.Heard{{Digest: 'a', Of: 1}, {Digest: 'a'}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 1}, {Heard: 1, Sent: 2}}},
		{"ab", []match.Heard{{Digest: 'a', Upto: 1}, {Digest: 'x', Upto: 1}}, []match.Pair{{Heard: 0, Sent: 0, Sure: true}, {Heard: 1, Sent: 1}}},
	} {
		assert.Equal(t, c.want, match.Align(lettersSent(c.sent), c.heard, true), c.sent)
	}
}

// In which order an answer stands, the values tell that are alone; where it stands in none, or too
// few tell, alike ones count as often as they came, and no stretch tells which is missing.
func TestOrder(t *testing.T) {
	for _, c := range []struct {
		sent, heard       string
		times             bool
		backward, ordered bool
	}{
		{"abcdefgh", "abcdefgh", false, false, true},
		{"abcdefgh", "hgfedcba", false, true, true},
		{"abcdefg", "abcdefg", false, false, false}, // too few to tell
		{"abcdefg", "abcdefg", true, false, true},
		{"abcdefghi", "abdcefghi", false, false, false},
		{"abcdefghi", "abdcefghi", true, false, false},
		{"aabcdefgha", "aabcdefgh", false, false, false}, // seven are alone
		{"aabcdefghia", "aabcdefghi", false, false, true},
		{"abcdefghi", "abcdefghib", false, false, true}, // b came twice: eight are alone
		{"", "x", false, false, false},
	} {
		backward, ordered := match.Order(lettersSent(c.sent), lettersHeard(c.heard), c.times)
		assert.Equal(t, [2]bool{c.backward, c.ordered}, [2]bool{backward, ordered}, "%s heard as %s", c.sent, c.heard)
	}
	for _, c := range []struct{ sent, heard, want string }{
		{"abac", "bac", "1=2 3=4 2?1 2?3"}, // in order, the first a would be lost
		{"abac", "abxc", "1?1 2=2 4=4 1?3"},
		{"abc", "axc", "1=1 2=2 3=3"},
		{"abcd", "axyd", "1=1 2?2 3?3 4=4"}, // which of them is which is not known
	} {
		var got []string
		for _, p := range match.Align(lettersSent(c.sent), lettersHeard(c.heard), false) {
			got = append(got, fmt.Sprintf("%d%s%d", p.Heard+1, map[bool]string{true: "=", false: "?"}[p.Sure], p.Sent+1))
		}
		assert.ElementsMatch(t, strings.Fields(c.want), got, "%s heard as %s", c.sent, c.heard)
	}
}

// A platform that loses, doubles, changes or hands out again: what arrived is never taken for
// missing; where nothing came twice, what is missing is missing in truth, and nothing sure is
// wrong.
func TestAlignIsHonest(t *testing.T) {
	for seed := range uint64(20_000) {
		rng := rand.New(rand.NewPCG(seed, 7))
		values, n := 1+rng.IntN(12), rng.IntN(14)
		does := func(what int) bool { return seed>>what&1 == 1 && rng.IntN(4) == 0 } // what a platform does at all
		var sent []match.Sent
		var heard []match.Heard
		var of []int                                                  // whose each is
		came, changed, twice := map[int]bool{}, map[int]bool{}, false // what a platform did
		for i := range n {
			d := uint64(1 + rng.IntN(values))
			sent = append(sent, match.Sent{Seq: uint64(i + 1), Digest: d})
			if does(0) {
				continue
			}
			if came[i] = true; does(1) {
				d, changed[i] = uint64(100+i), true
			}
			heard, of = append(heard, match.Heard{Digest: d}), append(of, i)
			if does(2) {
				twice = true
				heard, of = append(heard, match.Heard{Digest: d}), append(of, i)
			}
			if does(3) {
				heard, of = append(heard, match.Heard{Digest: d, Again: true}), append(of, i)
			}
		}
		found := map[int]bool{}
		for _, p := range match.Align(sent, heard, true) {
			found[p.Sent] = true
			same := heard[p.Heard].Digest == sent[p.Sent].Digest
			if p.Sure && !same && !twice { // changed: it is that one's, whatever it was changed to
				require.Equal(t, p.Sent, of[p.Heard], "seed %d: %v %v", seed, sent, heard)
			}
			if p.Sure && same && values > n { // no two are alike but by chance
				alike := slices.ContainsFunc(sent, func(x match.Sent) bool { return x.Digest == sent[p.Sent].Digest && x != sent[p.Sent] })
				require.True(t, alike || p.Sent == of[p.Heard], "seed %d: %v %v", seed, sent, heard)
			}
		}
		switch missing := n - len(found); {
		case len(changed) > 0:
		case len(came) == n && !twice:
			require.Zero(t, missing, "seed %d: %v %v", seed, sent, heard)
		default:
			require.LessOrEqual(t, missing, n-len(came), "seed %d: %v %v", seed, sent, heard)
		}
	}
}

// Where rows stand in no order, a message that is said to have come did come, and one that came is never
// taken for missing: what is lost among alike ones is not known.
func TestUnorderedRowsAreHonest(t *testing.T) {
	for seed := range uint64(20_000) {
		rng := rand.New(rand.NewPCG(seed, 11))
		values, n := 1+rng.IntN(20), rng.IntN(20)
		var sent []match.Sent
		var heard []match.Heard
		came := map[int]bool{}
		for i := range n {
			d := uint64(1 + rng.IntN(values))
			if rng.IntN(3) == 0 {
				d = uint64(1000 + i) // alone
			}
			sent = append(sent, match.Sent{Seq: uint64(i + 1), Digest: d})
			if came[i] = rng.IntN(5) > 0; came[i] {
				heard = append(heard, match.Heard{Digest: d})
			}
		}
		rng.Shuffle(len(heard), func(i, j int) { heard[i], heard[j] = heard[j], heard[i] })
		_, ordered := match.Order(sent, heard, false)
		found := map[int]bool{}
		for _, p := range match.Align(sent, heard, ordered) {
			found[p.Sent] = true
			require.True(t, !p.Sure || came[p.Sent], "seed %d: %v %v: %v", seed, sent, heard, p)
		}
		for i := range n {
			require.True(t, found[i] || !came[i], "seed %d: %v %v: %d", seed, sent, heard, i+1)
		}
	}
}
