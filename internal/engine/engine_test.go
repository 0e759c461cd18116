package engine_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
)

func streams(t *testing.T, jitter string, more ...string) []*fleet.Stream {
	t.Helper()
	text := fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: mqtt://127.0.0.1}}
kinds: {buoy: {readings: {state: {every: 5s, jitter: %s, topic: "t/${device}", fields: {a: 1}%s}}}}
devices: [{kind: buoy, count: 500}]
plan: {for: 1m}`, jitter, strings.Join(more, ""))
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
	for jitter, bound := range map[string]float64{"0%": 0, "10%": 0.1, "50%": 0.5, "500ms": 0.1, "2500ms": 0.5} {
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

// Who speaks at a tick: all, one after the other, or so many drawn for each tick; each
// speaks as often as the others.
func TestTurns(t *testing.T) {
	const from, ticks = int64(1_900_000_000e9), 500
	for turns, perTick := range map[string]int{"together": 500, "in order": 1, "7 at random": 7, "10% at random": 50} {
		speakers := make([]int, ticks)
		for _, s := range streams(t, "0%", ", turns: "+turns) {
			spoke, next := 0, uint64(0)
			for seq := uint64(1); ; seq++ {
				due, at := engine.Due(s, from, from, seq, next)
				require.GreaterOrEqual(t, at, next, "no tick comes twice")
				require.Equal(t, from+int64(at)*int64(5*time.Second), due, "all on the beats of the round")
				if at >= ticks {
					break
				}
				speakers[at]++
				spoke++
				next = at + 1
			}
			assert.InDelta(t, float64(ticks*perTick)/500, spoke, 40, "%s: %s", turns, s.Device.Name)
		}
		for tick, n := range speakers {
			require.Equal(t, perTick, n, "%s: tick %d", turns, tick)
		}
	}
}

// A device that joins late keeps the beat of the round, or begins its own.
func TestLateJoin(t *testing.T) {
	const begin = int64(1_900_000_000e9)
	join := begin + int64(12*time.Second)
	for _, s := range streams(t, "0%", ", turns: together")[:5] {
		due, at := engine.Due(s, begin, join, 1, 0)
		assert.Equal(t, uint64(3), at)
		assert.Equal(t, begin+int64(15*time.Second), due)
	}
	for _, s := range streams(t, "0%")[:5] {
		due, at := engine.Due(s, begin, join, 1, 0)
		assert.Zero(t, at)
		assert.GreaterOrEqual(t, due, join)
		assert.Less(t, due, join+int64(5*time.Second))
	}
}
