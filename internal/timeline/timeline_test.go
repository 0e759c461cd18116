package timeline_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/timeline"
)

func of(t *testing.T, round int, events string) (*timeline.Timeline, *crowd.Crowd) {
	t.Helper()
	c, err := file.Parse("c.yaml", []byte(`
crowd: c
seed: 7
links: {sea: {mqtt: mqtt://h}}
kinds:
  buoy: {readings: {state: {every: 1s, topic: t, fields: {a: 1}}}}
  gauge: {readings: {level: {every: 1s, topic: t, fields: {b: 1}}}}
devices: [{kind: buoy, count: 100, name: "buoy-${n}"}, {kind: gauge, count: 10, name: "gauge-${n}"}]
plan: {for: 2h, events: [`+events+`]}
`), file.Sources{})
	require.NoError(t, err)
	var members []crowd.Candidate
	for _, m := range c.Members {
		members = append(members, crowd.Candidate{Name: m.Name, Kind: m.Cast.Kind.Name, Env: m.Env, Group: m.Cast})
	}
	line, err := timeline.New(&c.Plan, c.Seed, round, members)
	require.NoError(t, err)
	return line, c
}

const night = `{name: a, at: 10m, for: 5m to 20m, who: 20% of buoy, do: {offline: keep}},
  {name: b, every: 7m, at: 3m, for: 1m, who: 1 of buoy, do: restart},
  {name: c, chance: 5% per minute, for: 5s to 90s, do: {network: {delay: 1s}}},
  {name: d, after: a, delay: 30s, do: restart},
  {name: e, after: b begins, delay: 10s, who: 2 of gauge, for: 1m, do: {offline: idle}},
  {name: f, after: c, do: {set: {a: 2}}},
  {name: g, after: a, who: gauge-1, do: {send: level}}`

// However a round is cut into windows, what happens in it is the same, and in order.
func TestWindows(t *testing.T) {
	line, _ := of(t, 1, night)
	whole := line.Between(0, 2*time.Hour)
	assert.Greater(t, len(whole), 1000)
	assert.True(t, slices.IsSortedFunc(whole, func(a, b timeline.Happening) int { return int(a.From - b.From) }))
	rng := rand.New(rand.NewPCG(1, 2))
	for range 5 {
		other, _ := of(t, 1, night)
		var parts []timeline.Happening
		for from := time.Duration(0); from < 2*time.Hour; {
			to := min(from+time.Duration(1+rng.Int64N(int64(11*time.Minute))), 2*time.Hour)
			parts = append(parts, other.Between(from, to)...)
			from = to
		}
		require.Equal(t, whole, parts)
	}
}

// What each event does is as it is written.
func TestStories(t *testing.T) {
	line, c := of(t, 1, night)
	by := make([][]timeline.Happening, len(c.Plan.Events))
	for _, h := range line.Between(0, 2*time.Hour) {
		by[h.Event] = append(by[h.Event], h)
	}
	require.Len(t, by[0], 20)
	ended := map[int]time.Duration{}
	lengths := map[time.Duration]bool{}
	for _, h := range by[0] {
		assert.Equal(t, 10*time.Minute, h.From)
		assert.GreaterOrEqual(t, h.To-h.From, 5*time.Minute)
		assert.LessOrEqual(t, h.To-h.From, 20*time.Minute)
		lengths[h.To-h.From] = true
		ended[h.Device] = h.To
	}
	assert.Greater(t, len(lengths), 15, "each lasts as long as is drawn for it")
	require.Len(t, by[1], 17)
	drawn := map[int]bool{}
	for i, h := range by[1] {
		assert.Equal(t, 3*time.Minute+time.Duration(i)*7*time.Minute, h.From)
		drawn[h.Device] = true
	}
	assert.Greater(t, len(drawn), 10, "another device each time")
	assert.InDelta(t, 110*120*0.05, len(by[2]), 100)
	require.Len(t, by[3], 20)
	for _, h := range by[3] {
		assert.Equal(t, ended[h.Device]+30*time.Second, h.From, "each behind its own")
		assert.Equal(t, 5*time.Second, h.To-h.From)
	}
	require.Len(t, by[4], 2*17)
	for i, h := range by[4] {
		assert.Equal(t, by[1][i/2].From+10*time.Second, h.From)
		assert.GreaterOrEqual(t, h.Device, 100)
	}
	for _, h := range by[5] {
		assert.Equal(t, timeline.Never, h.To)
		assert.Less(t, h.Device, 100, "gauges have no such field")
	}
	require.Len(t, by[6], 1, "once, when the last of them is back")
	assert.Equal(t, slices.MaxFunc(by[0], func(a, b timeline.Happening) int { return int(a.To - b.To) }).To, by[6][0].From)
}

// Rounds are the same, but for events that are drawn anew; nothing else of a plan changes
// what is drawn for an event with a name.
func TestRounds(t *testing.T) {
	story := func(round int, events string) string {
		line, _ := of(t, round, events)
		return fmt.Sprint(line.Between(0, 2*time.Hour))
	}
	assert.Equal(t, story(1, night), story(9, night))
	const fresh = `{name: a, chance: 5% per minute, fresh: true, for: 5s, do: restart}, {name: b, at: 1m, who: 3 of buoy, fresh: true, do: restart}`
	assert.NotEqual(t, story(1, fresh), story(2, fresh))
	assert.Equal(t, story(2, fresh), story(2, fresh))
	one, _ := of(t, 1, `{name: c, chance: 5% per minute, do: restart}`)
	two, _ := of(t, 1, `{name: c, chance: 5% per minute, do: restart}, {name: x, chance: 5% per minute, do: restart}`)
	var alone []timeline.Happening
	for _, h := range two.Between(0, time.Hour) {
		if h.Event == 0 {
			alone = append(alone, h)
		}
	}
	assert.Equal(t, one.Between(0, time.Hour), alone)
}
