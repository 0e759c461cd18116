package listen

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/hearing"
)

// A ping tells when messages waited for the witness. What waited comes before its answer, or
// before that of the next ping: both together say whether a broker may have dropped some.
func TestLag(t *testing.T) {
	type pong struct {
		took    time.Duration
		between int64 // messages that came since the answer before
		pinged  int64 // how many of them came before this ping went out
	}
	const ms = time.Millisecond
	for name, c := range map[string]struct {
		pongs []pong
		gaps  int
		whole bool
	}{
		"nothing waits": {[]pong{{1 * ms, 5, 5}, {2 * ms, 50, 50}, {1 * ms, 5, 5}}, 0, false},
		"late, and few waited": {[]pong{{1 * ms, 2, 2}, {600 * ms, 2, 0}, {1 * ms, 0, 0}, {1 * ms, 0, 0}}, 1,
			true},
		"late, and many waited": {[]pong{{1 * ms, 2, 2}, {600 * ms, 9, 0}, {1 * ms, 0, 0}, {1 * ms, 0, 0}}, 1,
			false},
		"a little late, and few waited": {[]pong{{1 * ms, 2, 2}, {300 * ms, 4, 0}, {1 * ms, 4, 4}}, 1, true},
		"always a little late":          {[]pong{{300 * ms, 2, 2}, {310 * ms, 4, 0}, {320 * ms, 4, 4}}, 0, false},
		"a little late, and many waited": {[]pong{{1 * ms, 2, 2}, {300 * ms, 9, 0}, {1 * ms, 0, 0}, {1 * ms, 0, 0}}, 1,
			false},
		"a little late, many after its answer": {[]pong{{1 * ms, 2, 2}, {496 * ms, 4, 0}, {0, 5, 5}, {1 * ms, 0, 0},
			{1 * ms, 0, 0}}, 2, false},
	} {
		path := filepath.Join(t.TempDir(), "ledger")
		w, err := ledger.Create(path, "k3f9a2xy", "harbour", time.Now())
		require.NoError(t, err)
		w.Witness(0, &ledger.Witness{Name: "ear"})
		s := &subscription{spec: &crowd.Witness{Queue: 9}, listener: &listener{Base: &hearing.Base{Page: w.WitnessPage(0)}},
			soon: make(chan struct{}, 1)}
		for _, x := range c.pongs {
			s.pinged.Store(s.came.Load() + x.pinged)
			s.came.Add(x.between)
			s.Ponged(0, x.took)
		}
		require.NoError(t, w.Close())
		f, err := ledger.Look(path)
		require.NoError(t, err)
		if assert.Len(t, f.Witnesses[0].Gaps, c.gaps, name) && c.gaps > 0 {
			last := f.Witnesses[0].Gaps[c.gaps-1]
			assert.True(t, last.Lag, name)
			assert.Equal(t, c.whole, last.Whole, name)
		}
	}
}

// What is told of each answer, to the bounds: half a second is in time, and so is a tenth.
func TestWhatAPongTells(t *testing.T) {
	type pong struct {
		after   time.Duration // since the one before
		took    time.Duration
		between int64
		pinged  int64
		soon    bool // the next ping is not waited for
	}
	const ms, s = time.Millisecond, time.Second
	for name, c := range map[string]struct {
		pongs []pong
		busy  bool
		gaps  string
	}{
		"half a second": {[]pong{{s, ms, 0, 0, false}, {s, 500 * ms, 0, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.25s to 2s whole: an answer to a ping took 500ms, and what came meanwhile waited\n"},
		"more than half a second": {[]pong{{s, ms, 0, 0, false}, {s, 501 * ms, 3, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.249s to 3s whole: up to 3 messages waited for it, for some time\n"},
		"and this machine was busy": {[]pong{{s, ms, 0, 0, false}, {s, 501 * ms, 3, 0, true}, {s, ms, 0, 0, false}, {s, 501 * ms, 3, 0, true}, {s, ms, 0, 0, false}}, true,
			"1.249s to 3s whole: up to 3 messages waited for it, for some time, because this machine was busy\n" +
				"3.249s to 5s whole: up to 3 messages waited for it, for some time\n"},
		"a tenth, and many waited":          {[]pong{{s, ms, 0, 0, false}, {s, 100 * ms, 9, 9, false}, {s, ms, 0, 0, false}}, false, ""},
		"more than a tenth, and one waited": {[]pong{{s, ms, 0, 0, false}, {s, 101 * ms, 1, 1, true}, {s, ms, 0, 0, false}}, false, ""},
		"a tenth more than the fastest":     {[]pong{{s, 20 * ms, 0, 0, false}, {s, 120 * ms, 0, 0, true}, {s, ms, 0, 0, false}}, false, ""},
		"more than a tenth above it": {[]pong{{s, 20 * ms, 0, 0, false}, {s, 121 * ms, 0, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.629s to 2s whole: an answer to a ping took 121ms, and what came meanwhile waited\n"},
		"as many as a broker keeps": {[]pong{{s, ms, 0, 0, false}, {s, 101 * ms, 9, 0, true}, {s, ms, 0, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.649s to 4s: up to 9 messages waited for it, for some time; a broker may drop what is more than 9 (queue)\n"},
		"late by a suspicion of before": {[]pong{{s, ms, 0, 0, false}, {s, 120 * ms, 0, 0, true}, {s, ms, 9, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.63s to 2s whole: an answer to a ping took 120ms, and what came meanwhile waited\n" +
				"1.63s to 4s: up to 9 messages waited for it, for some time; a broker may drop what is more than 9 (queue)\n"},
		"the suspicion is over at a tenth": {[]pong{{s, 90 * ms, 0, 0, false}, {s, 120 * ms, 0, 0, true}, {s, 100 * ms, 0, 0, false}, {s, ms, 9, 0, false}}, false, ""},
		"late twice, and more the second time": {[]pong{{s, ms, 0, 0, false}, {s, 501 * ms, 3, 0, true}, {s, 700 * ms, 8, 0, true}, {s, ms, 0, 0, false}}, false,
			"1.249s to 4s: up to 11 messages waited for it, for some time; a broker may drop what is more than 9 (queue)\n"},
		"what came before the ping did not wait": {[]pong{{s, ms, 5, 5, false}, {s, 501 * ms, 7, 5, true}, {s, ms, 1, 1, false}}, false,
			"1.249s to 3s whole: up to 7 messages waited for it, for some time\n"},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "ledger")
			synctest.Test(t, func(t *testing.T) {
				began := clock.Now()
				w, err := ledger.Create(path, "k3f9a2xy", "harbour", began)
				require.NoError(t, err)
				w.Witness(0, &ledger.Witness{Name: "ear"})
				x := &subscription{spec: &crowd.Witness{Queue: 9}, listener: &listener{Base: &hearing.Base{Page: w.WitnessPage(0)}},
					soon: make(chan struct{}, 1)}
				x.busy.Store(c.busy)
				for i, p := range c.pongs {
					time.Sleep(p.after)
					x.pinged.Store(x.came.Load() + p.pinged)
					x.came.Add(p.between)
					x.Ponged(0, p.took)
					assert.Equal(t, p.soon, len(x.soon) == 1, "%d", i)
					select {
					case <-x.soon:
					default:
					}
				}
				require.NoError(t, w.Close())
				f, err := ledger.Look(path)
				require.NoError(t, err)
				var b strings.Builder
				for _, g := range f.Witnesses[0].Gaps {
					assert.True(t, g.Lag)
					fmt.Fprintf(&b, "%s to %s%s: %s\n", g.From.Sub(began), g.To.Sub(began), map[bool]string{true: " whole"}[g.Whole], g.Why)
				}
				assert.Equal(t, c.gaps, b.String())
			})
		})
	}
}
