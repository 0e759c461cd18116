package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/tally"
)

// The headline of a run in which all is proven says of how many messages each proof is.
func TestEveryProof(t *testing.T) {
	proof := func(name string, asked, not int) tally.Proof {
		return tally.Proof{Name: name, Asked: asked, AsSent: asked, NotAsked: not}
	}
	for want, list := range map[string][]tally.Proof{
		" acknowledged (no witness looked for them)": {proof("acknowledged", 9, 0), proof("received", 0, 9)},
		" acknowledged, received and stored once, as sent": {proof("acknowledged", 9, 0), proof("received", 9, 0),
			proof("stored", 9, 0)},
		" received once, as sent": {proof("acknowledged", 0, 9), proof("received", 9, 0)},
		" acknowledged, 5 received and 4 stored once, as sent": {proof("acknowledged", 9, 0), proof("received", 5, 4),
			proof("stored", 4, 5)},
		" 5 acknowledged and received once, as sent": {proof("acknowledged", 5, 4), proof("received", 9, 0),
			proof("stored", 0, 9)},
		" 5 acknowledged and 4 stored once, as sent": {proof("acknowledged", 5, 4), proof("received", 0, 9),
			proof("stored", 4, 5)},
		"": {proof("acknowledged", 0, 0)},
	} {
		assert.Equal(t, want, everyProof(&tally.Result{Proofs: list}))
	}
}
