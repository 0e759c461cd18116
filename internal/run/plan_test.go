//go:build unix

package run_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/proof"
	"runcrowd/internal/report"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/verdict"
)

// withPlan is the small harbour with another plan, and readings every second.
func (w way) withPlan(plan, require string) string {
	text := strings.NewReplacer("every: 100ms", "every: 1s", "count: 4}", `count: 4, name: "buoy-${n}"}`, "WAIT",
		"20s").Replace(w.harbour())
	text = strings.Replace(text, "plan: {for: 2500ms, settle: SETTLE}", "plan: {settle: 20s, "+plan+"}", 1)
	if require != "" {
		text = text[:strings.Index(text, "require: ")] + "require: " + require + "\n"
	}
	return text
}

// stamps are the first and the last time stamp that messages carried, and how many came of
// each device.
func stamps(t *testing.T, p *played) (first, last time.Time, each map[string]int) {
	book, err := run.ReadLedger(p.folder)
	require.NoError(t, err)
	each = map[string]int{}
	for i, list := range book.Messages {
		for _, m := range list {
			var body struct{ At time.Time }
			require.NoError(t, json.Unmarshal(m.Carried, &body))
			if first.IsZero() || body.At.Before(first) {
				first = body.At
			}
			if body.At.After(last) {
				last = body.At
			}
			each[book.Streams[i].Device]++
		}
	}
	return first, last, each
}

// The plan's clock: pressed, as fast as it goes, in the past and set to a time; and all the
// ways in which a round ends.
func TestThePlansClock(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 1, 15, 5, 59, 30, 0, time.UTC)
	for _, w := range []way{ways[1], ways[2], ways[5]} {
		for name, c := range map[string]struct {
			plan        string
			due         int // messages; about
			span        time.Duration
			first       time.Time // of the time stamps; zero: about now
			past        time.Duration
			least, most time.Duration
		}{
			"speed 60": {plan: "for: 1m, speed: 60", due: 240, span: time.Minute, least: time.Second,
				most: 50 * time.Second},
			"speed 60, event": {plan: `for: 1m, speed: 60, events: [{at: 20s, for: 20s, who: buoy-1, do: {offline: keep}}]`,
				due: 240, span: time.Minute, least: time.Second, most: 50 * time.Second},
			"max": {plan: "for: 5m, speed: max", due: 1200, span: 5 * time.Minute, most: 4 * time.Minute},
			"max, an event": {plan: "for: 5m, speed: max, events: [{at: 1m, for: 30s, who: buoy-1, do: restart}]", due: 1170,
				span: 5 * time.Minute, most: 4 * time.Minute},
			"the past": {plan: "for: 62s, begin: -1m", due: 248, span: 62 * time.Second, past: time.Minute,
				least: time.Second, most: 55 * time.Second},
			"set": {plan: `for: 3s, begin: "2026-01-15T05:59:30Z"`, due: 12, span: 3 * time.Second, first: at,
				least: 2 * time.Second, most: time.Minute},
			"until": {plan: `until: "06:00", begin: "2026-01-15T05:59:30Z", speed: max`, due: 120,
				span: 30 * time.Second, first: at, most: time.Minute},
			"messages": {plan: `messages: 25, speed: 30, begin: "2026-01-15T05:59:30Z"`, due: 100,
				span: 25 * time.Second, first: at, most: time.Minute},
			"messages, max": {plan: `messages: 250, speed: max, for: ever, begin: "2026-01-15T05:59:30Z"`, due: 1000,
				span: 250 * time.Second, first: at, most: 4 * time.Minute},
		} {
			t.Run(w.name+"/"+name, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				p := play(t, w.withPlan(c.plan, "{proven: 100%}"))
				assert.True(t, p.holds(), p.says())
				assert.InDelta(t, c.due, p.result.Total.Due(), 8)
				assert.Less(t, p.took, c.most)
				assert.Greater(t, p.took, c.least)
				first, last, each := stamps(t, p)
				want, within := c.first, time.Second
				if want.IsZero() {
					want, within = epoch.Add(-c.past), p.took
				}
				assert.WithinDuration(t, want, first, within)
				assert.InDelta(t, c.span.Seconds(), last.Sub(first).Seconds(), 3)
				assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven])
				if strings.HasPrefix(c.plan, "messages") {
					for device, n := range each {
						assert.Equal(t, c.due/4, n, device)
					}
				}
			})
		}
	}
}

// Two runs with the same clock carry the same values, to the last digit.
func TestTheSameAgain(t *testing.T) {
	t.Parallel()
	text := ways[1].withPlan(`for: 20s, speed: 20, begin: "2026-01-15T02:00:00Z", events: [{chance: 50% per 5s, for: 3s, do: {erratic: {level: 3}}}]`, "")
	var carried [2][]string
	for i := range carried {
		p := play(t, text)
		require.True(t, p.holds(), p.says())
		book, err := run.ReadLedger(p.folder)
		require.NoError(t, err)
		for _, list := range book.Messages {
			for _, m := range list {
				carried[i] = append(carried[i], string(m.Carried))
			}
		}
	}
	assert.Equal(t, carried[0], carried[1])
	assert.Greater(t, len(carried[0]), 60)
}

// Rounds without end are given up after some in a row that fail; requirements name rounds.
func TestRoundsOnTheirOwn(t *testing.T) {
	t.Parallel()
	playRounds := func(plan, require_, flaw string) *played {
		return play(t, strings.ReplaceAll(ways[1].withPlan(plan, require_), "wait: 20s", "wait: 3s"), flaw)
	}
	t.Run("given up", func(t *testing.T) {
		t.Parallel()
		p := playRounds("for: 2s, rounds: {every: 2s, give_up: 2}", "{proven: 100%}", "lose=50%")
		assert.Len(t, p.result.Parts, 2)
		assert.False(t, p.holds())
	})
	t.Run("not given up while one is good", func(t *testing.T) {
		t.Parallel()
		p := playRounds("for: 1500ms, rounds: {count: 3, give_up: 2}", "{rounds: {first: {proven: 100%}, last: {proven: "+
			"100%}, 2 to 3: {received: 100%}, each: {proven: 50%}}}", "lose=1")
		assert.Len(t, p.result.Parts, 3)
		var says []string
		for _, c := range p.checks {
			says = append(says, fmt.Sprintf("%s %s", c.Key, c.State))
		}
		assert.ElementsMatch(t, []string{"first round: proven not met", "last round: proven met",
			"rounds 2 to 3: received met", "each round: proven met"}, says)
		assert.Equal(t, proof.NotMet, p.checks[0].State)
	})
}

// What is done to a device is over with its round, also where nothing ends it: what the next
// round loses is lost.
func TestActionsEndWithTheirRound(t *testing.T) {
	t.Parallel()
	p := play(t, ways[0].withPlan("for: 1500ms, rounds: {count: 2, every: 2s}, events: [{at: 1s, who: buoy-1, do: "+
		"{offline: idle}}]", "{proven: 100%}"))
	book, err := run.ReadLedger(p.folder)
	require.NoError(t, err)
	require.Len(t, book.Actions.Breaks, 1)
	for _, breaks := range book.Actions.Breaks {
		require.Len(t, breaks, 2)
		assert.False(t, breaks[0].To.IsZero())
		assert.True(t, breaks[0].To.Before(breaks[1].From))
	}
}

func flawsOf(t *testing.T, flaws ...string) (list []standin.Flaw) {
	for _, f := range flaws {
		flaw, err := standin.ParseFlaw(f)
		require.NoError(t, err)
		list = append(list, flaw)
	}
	return list
}

// A run that begins at a time of day waits for it.
func TestBeginAtATimeOfDay(t *testing.T) {
	t.Parallel()
	at := epoch.Add(time.Minute)
	p := play(t, ways[1].withPlan(fmt.Sprintf("for: 2s, begin: %q", at.Format("15:04:05")), "{proven: 100%}"))
	assert.True(t, p.holds(), p.says())
	first, _, _ := stamps(t, p)
	assert.False(t, first.Before(at), "%s is before %s", first, at)
}

// interrupted plays a crowd that is interrupted after a while, and judges it.
func (w *world) interrupted(t *testing.T, text string, after time.Duration) *run.Judgement {
	t.Helper()
	session, err := open(t, crowdOf(t, w.MQTTAddr, w.HTTPAddr, text), w.options())
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(t.Context(), after)
	defer stop()
	require.NoError(t, session.Play(ctx))
	j, err := run.Judge(session.Folder, run.Judging{})
	require.NoError(t, err)
	return j
}

// A plan without end ends when it is told to, and everything is proven.
func TestForEver(t *testing.T) {
	t.Parallel()
	text := ways[1].withPlan("for: ever", "{proven: 100%}")
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		j := w.interrupted(t, text, 10*time.Minute)
		assert.True(t, j.Interrupted)
		assert.Equal(t, j.Total.Due(), j.Total[verdict.Proven])
		assert.InDelta(t, 600*4, j.Total.Due(), 5)
	})
}

// A plan of so many messages ends when each device has sent them, whatever events go on: in
// each round. What may still send is waited for.
func TestSoManyMessages(t *testing.T) {
	t.Parallel()
	for name, events := range map[string]string{
		"nothing happens":      "",
		"again and again":      "{every: 10s, for: 2s, who: 1 of buoy, do: {offline: keep}}",
		"by chance":            "{chance: 50% per 5s, for: 2s, do: {offline: keep}}",
		"one after another":    "{name: a, every: 9s, for: 1s, do: restart}, {after: a, delay: 1s, for: 1s, do: {stuck: level}}",
		"one measures nothing": "{at: 5s, for: 3m, who: buoy-2, do: {offline: idle}}",
		"one leaves":           "{at: 5s, for: 3m, who: buoy-2, do: leave}",
		"one is slow":          "{at: 5s, for: 3m, who: buoy-2, do: {every: never}}",
		"one comes late":       "{at: 4m, who: buoy-2, do: connect}",
		"one leaves for good":  "{at: 10500ms, who: buoy-2, do: leave}, {every: 5s, who: buoy-1, do: restart, for: 1s}",
	} {
		for _, rounds := range []int{1, 2} {
			t.Run(fmt.Sprintf("%s, rounds %d", name, rounds), func(t *testing.T) {
				fewer(t)
				t.Parallel()
				plan := fmt.Sprintf("messages: 25, rounds: {count: %d, every: 10m}, events: [%s]", rounds, events)
				p := play(t, ways[1].withPlan(plan, "{proven: 100%}"))
				assert.True(t, p.holds(), p.says())
				_, _, each := stamps(t, p)
				for device, n := range each {
					if name == "one leaves for good" && device == "buoy-2" {
						assert.InDelta(t, 11*rounds, n, 2)
						continue
					}
					assert.Equal(t, 25*rounds, n, device)
				}
				assert.Len(t, each, 4)
				assert.Less(t, p.took, time.Duration(rounds)*9*time.Minute)
			})
		}
	}
	text := ways[1].withPlan("messages: 1000", "{proven: 100%}")
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		j := w.interrupted(t, text, 30*time.Second)
		assert.Regexp(t, `^The run was interrupted: round 1, (29\.\d+|30|30\.\d)s of it, was played\.$`,
			report.Standing(j.Result))
	})
}
