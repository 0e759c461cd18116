package engine_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
)

func streams(t *testing.T, jitter string) []*fleet.Stream {
	t.Helper()
	text := fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: mqtt://127.0.0.1}}
kinds: {buoy: {readings: {state: {every: 5s, jitter: %s, topic: "t/${device}", fields: {a: 1}}}}}
devices: [{kind: buoy, count: 500}]
plan: {for: 1m}`, jitter)
	c, err := file.Parse("x", []byte(text), file.Sources{Getenv: func(string) (string, bool) { return "", false }})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return f.Streams
}

// The schedule is absolute: no message shifts the next, jitter stays within its
// bound, messages never overtake each other, and devices are spread evenly.
func TestSchedule(t *testing.T) {
	const from = int64(1_900_000_000e9)
	every := float64(5 * time.Second)
	for jitter, bound := range map[string]float64{"0%": 0, "10%": 0.1, "50%": 0.5} {
		first := make([]int, 10)
		for _, s := range streams(t, jitter) {
			before := int64(0)
			for tick := range uint64(100) {
				due, at := engine.Due(s, from, from, tick+1, tick)
				require.Equal(t, tick, at)
				base := float64(from) + (s.Phase+float64(tick))*every
				require.InDelta(t, base, float64(due), bound*every+2000)
				require.GreaterOrEqual(t, due, max(before, from))
				before = due
			}
			first[int(s.Phase*10)]++
		}
		for _, n := range first {
			assert.InDelta(t, 50, n, 30, "500 devices in ten parts of the interval")
		}
	}
}

// The same file, seed and clock: the same schedule, whatever was asked before.
func TestScheduleIsPure(t *testing.T) {
	a, b := streams(t, "20%"), streams(t, "20%")
	for i := range a {
		k := uint64(i%7 + 1)
		x, _ := engine.Due(a[i], 0, 0, k, k)
		y, _ := engine.Due(b[i], 0, 0, k, k)
		assert.Equal(t, x, y)
	}
	assert.NotEqual(t, a[0].Phase, a[1].Phase)
}
