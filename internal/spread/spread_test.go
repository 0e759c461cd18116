package spread_test

import (
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
		for _, us := range rapid.SliceOfN(rapid.Int64Range(0, int64(10*24*time.Hour/time.Microsecond)), 1, 50).Draw(t, "times") {
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
		for _, share := range []float64{0.5, 0.9, 0.99, 1} {
			rank := max(1, int(share*float64(len(list))+0.999999))
			want := spread.Top(spread.Place(list[rank-1]))
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
	assert.Zero(t, none.At(0.5))
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
