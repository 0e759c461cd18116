package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/listen"
)

func TestNumbersAreFollowed(t *testing.T) {
	h := &hearer{followed: map[string]*followed{}}
	for i, c := range []struct {
		seq  uint64
		says string
	}{{5, ""}, {6, ""}, {9, "GAP: #7 to #8 are missing"}, {8, "OUT OF ORDER: it was missing"}, {9, "REPEATED"},
		{11, "GAP: #10 is missing"}, {12, ""}, {8, "REPEATED"}} {
		assert.Equal(t, c.says, h.follow("x", c.seq), "message %d", i)
	}
	assert.Equal(t, []int{2, 2, 1}, []int{h.missing, h.repeated, h.late})
	assert.Empty(t, h.follow("y", 1), "another stream has numbers of its own")
}

// When nothing could be heard is told in one line.
func TestWhenNothingCouldBeHeard(t *testing.T) {
	at := time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)
	first := ledger.Gap{From: at, To: at.Add(1300 * time.Millisecond), Why: "the platform said secret"}
	for want, u := range map[string]listen.Unheard{
		"": {},
		"Nothing could be heard from 12:00:00 UTC, for 1.3s, and what came then is missing: the platform said ••••.\n": {
			Times: 1, For: 1300 * time.Millisecond, First: first},
		"Nothing could be heard from 12:00:00 UTC, for 1.3s, and what came then with QoS 0 may be missing: the platform said ••••.\n": {
			Times: 1, For: 1300 * time.Millisecond, First: first, Kept: true},
		"3 times nothing could be heard, for 2.5s in all, and what came then is missing; first from 12:00:00 UTC, for 1.3s: the platform said ••••.\n": {
			Times: 3, For: 2500 * time.Millisecond, First: first},
	} {
		var b strings.Builder
		(&env{stderr: &b}).tellUnheard(&u, func(s string) string { return strings.ReplaceAll(s, "secret", "••••") })
		assert.Equal(t, want, b.String())
	}
}
