package ledger

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A run that goes on has no messages where its killed process may have had some; of those before nobody knows whether
// all was written.
func TestResumed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	start := time.Unix(1_900_000_000, 0)
	w, err := Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.Stream(1, Stream{Device: "buoy-2", Kind: "buoy", Reading: "state"})
	w.Round(Round{N: 1, Plan: 1, Begin: start, End: start.Add(time.Minute)})
	p := w.Page()
	for seq := uint64(1); seq <= 3; seq++ {
		p.Due(0, seq, 1, start.UnixNano(), ToKeep, 0, []byte("{}"))
	}
	p.Settled(0, 1, start.UnixNano()+2, 0, 0, "")
	require.NoError(t, w.Close()) // without an end
	f, err := Look(path)
	require.NoError(t, err)
	assert.True(t, f.Killed(0, 1) && f.Killed(1, 1))

	w, err = Reopen(path)
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "another"}) // it is defined already
	w.Resumed(Resumed{At: start.Add(time.Hour), Stopped: start.Add(time.Minute), Killed: true})
	w.Skipped(0, 4, 10)
	w.Skipped(1, 1, 7)
	w.Round(Round{N: 2, Plan: 1, From: 30 * time.Second, Begin: start.Add(time.Hour), End: start.Add(time.Hour)})
	p = w.Page()
	p.Due(0, 11, 2, start.UnixNano(), ToKeep, 0, []byte("{}"))
	p.Settled(0, 11, start.UnixNano()+2, 0, 0, "")
	w.End(false)
	require.NoError(t, w.Close())
	f, err = Look(path)
	require.NoError(t, err)
	assert.Empty(t, f.Damage)
	assert.True(t, f.Ended && !f.Interrupted)
	assert.Equal(t, []uint64{11, 7}, f.Last)
	assert.Equal(t, []Resumed{{start.Add(time.Hour), start.Add(time.Minute), true}}, f.Resumed)
	assert.Equal(t, []int{1, 1}, []int{f.Rounds[0].Plan, f.Rounds[1].Plan})
	assert.Equal(t, 30*time.Second, f.Rounds[1].From)
	for seq, skipped := range map[uint64]bool{3: false, 4: true, 10: true, 11: false, 12: false} {
		assert.Equal(t, skipped, f.Skipped(0, seq), seq)
		assert.Equal(t, skipped, f.SkippedTo(0, seq) == 10, seq)
		assert.Equal(t, seq <= 10, f.Killed(0, seq), seq)
		assert.Equal(t, seq > 10, f.Settled(0, seq), seq)
	}
	assert.True(t, f.Skipped(1, 7) && !f.Skipped(1, 8))

	// Numbers that were used already cannot be left out any more, nor can a stream that is none have any.
	w, err = Reopen(path)
	require.NoError(t, err)
	w.Skipped(0, 5, 20)
	w.Skipped(1, 9, 8)
	require.NoError(t, w.Close())
	f, err = Look(path)
	require.NoError(t, err)
	assert.Equal(t, []uint64{11, 7}, f.Last)
	var list Spans
	list.AddRange(3, 5)
	list.AddRange(6, 8)
	list.AddRange(20, 20)
	assert.Equal(t, [][2]uint64{{3, 8}, {20, 20}}, list.Ranges(9))
}
