package spread_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"runcrowd/internal/spread"
)

// A time is told to a sixteenth, and a percentile is that of the nearest rank, however the
// times were put together.
func TestSpread(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		var list []time.Duration
		for _, us := range rapid.SliceOfN(rapid.Int64Range(0, int64(10*24*time.Hour/time.Microsecond)), 1, 50).Draw(t,
			"times") {
			list = append(list, time.Duration(us)*time.Microsecond)
		}
		var all, odd spread.Spread
		var live spread.Live
		sum := time.Duration(0)
		for i, d := range list {
			top := spread.Top(spread.Place(d))
			if top < d || top > d+d/16+time.Microsecond {
				t.Fatalf("%s is told as %s", d, top)
			}
			if spread.Place(top) != spread.Place(d) || spread.Place(top+time.Microsecond) != spread.Place(d)+1 {
				t.Fatalf("%s does not end its place", top)
			}
			if i%2 == 1 {
				odd.Add(d)
			} else {
				all.Add(d)
			}
			live.Add(d, 1)
			sum += d
		}
		all.Merge(odd, 1)
		slices.Sort(list)
		for _, share := range []int{50, 90, 99, 100} {
			want := spread.Top(spread.Place(ranked(list, share)))
			if got := all.At(share); got != want {
				t.Fatalf("%v of %v: %s, not %s", share, list, got, want)
			}
			if got := live.Spread().At(share); got != want {
				t.Fatalf("live, %v: %s, not %s", share, got, want)
			}
		}
		if all.N() != len(list) || live.Spread().N() != len(list) || live.Sum() != sum {
			t.Fatal("the number or the sum is another")
		}
	})
	var none spread.Spread
	assert.Zero(t, none.At(50))
	var live spread.Live
	live.Add(1000*24*time.Hour, 2)
	live.Add(-time.Second, 1)
	assert.Equal(t, 3, live.Spread().N(), "what is beyond counts as the longest or the shortest")
}

func BenchmarkLive(b *testing.B) {
	var l spread.Live
	b.RunParallel(func(p *testing.PB) {
		for d := time.Duration(0); p.Next(); d += 977 * time.Nanosecond {
			l.Add(d, 1)
		}
	})
}

// ranked is a percentile of a sorted list by its definition: the shortest of which so many of
// a hundred are not longer.
func ranked(list []time.Duration, percent int) time.Duration {
	for i, d := range list {
		if (i+1)*100 >= percent*len(list) {
			return d
		}
	}
	return 0
}

// Few times are told exactly, many to 1/4096, and between bounds that hold; however they were
// put together.
func TestTimes(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		list := make([]time.Duration, rapid.OneOf(rapid.IntRange(1, 12),
			rapid.IntRange(spread.Exact-2, 2*spread.Exact+2)).Draw(t, "n"))
		var parts [3]spread.Times
		for i := range list {
			list[i] = time.Duration(rng.Int64() >> rng.IntN(63))
			parts[rng.IntN(3)].Add(list[i])
		}
		all := parts[0].Clone()
		all.Merge(&parts[1])
		all.Merge(&parts[2])
		slices.Sort(list)
		if all.N() != len(list) || all.Worst() != list[len(list)-1] {
			t.Fatalf("%d times, the worst %s", all.N(), all.Worst())
		}
		for _, percent := range []int{1, 50, 90, 99, 100} {
			least, most := all.At(percent)
			want := ranked(list, percent)
			if least > want || most < want || most-least > want/4096 {
				t.Fatalf("the %dth percentile of %d is %s, told as %s to %s", percent, len(list), want, least, most)
			}
			if len(list) <= spread.Exact && least != most {
				t.Fatalf("%d times are not told exactly", len(list))
			}
		}
	})
	var none spread.Times
	least, most := none.At(99)
	assert.Zero(t, least+most)
	none.Add(-time.Second)
	_, most = none.At(99)
	assert.Zero(t, most+none.Worst())
}

// Of six times, the 90th percentile is the longest: five are less than nine tenths.
func TestTheNearestRankIsRoundedUp(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ percent, n, rank int }{{90, 6, 6}, {90, 10, 9}, {50, 1, 1}, {50, 2, 1}, {50, 3, 2},
		{99, 100, 99}, {99, 101, 100}, {100, 7, 7}, {50, 0, 1}, {99, 2_000_000_000, 1_980_000_000}} {
		assert.Equal(t, c.rank, spread.Rank(c.percent, c.n), "%+v", c)
	}
}
