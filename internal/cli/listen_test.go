package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
