package listen

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
