package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
)

// What is done again and again over a long run does not pile up: each message looks at all
// that is done to its device.
func TestActsDoNotPileUp(t *testing.T) {
	l := &loop{engine: &Engine{see: func(*Rehearsed) bool { return true }}}
	d := &device{Device: &fleet.Device{}}
	faster := []crowd.Action{{Kind: crowd.ActionInterval}}
	slower := []crowd.Action{{Kind: crowd.ActionInterval}}
	ahead := []crowd.Action{{Kind: crowd.ActionClock, Clock: crowd.Clock{Off: time.Second}}}
	for range 10 {
		for _, list := range [][]crowd.Action{{{Kind: crowd.ActionSend}}, faster, slower, ahead} {
			a := l.newAct(d, nil)
			a.actions = []action{{Action: &list[0], every: time.Second}}
			l.perform(a, 0, 1)
		}
	}
	assert.Len(t, d.acts, 2+10, "an interval takes the place of the one before; clocks add up")
	assert.Equal(t, 10*time.Second, d.ahead(0))
	assert.LessOrEqual(t, len(l.acts), 2+10+2, "places are used again")
}
