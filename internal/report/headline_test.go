package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
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

// The last line says how a run went, as the exit code does.
func TestTheEnding(t *testing.T) {
	met, not, open := proof.Check{Key: "proven", State: proof.Met}, proof.Check{Key: "stored", State: proof.NotMet},
		proof.Check{Key: "alerts", State: proof.Undecided}
	for name, c := range map[string]struct {
		checks           []proof.Check
		cut, interrupted bool
		want             string
	}{
		"all met":       {checks: []proof.Check{met, met}, want: "PASSED  2 requirements met; 3 of 4 messages proven\n"},
		"nothing":       {want: "PASSED  nothing was required; 3 of 4 messages proven\n"},
		"one is not":    {checks: []proof.Check{met, not}, want: "FAILED  not met: stored; 3 of 4 messages proven\n"},
		"one is open":   {checks: []proof.Check{met, open}, want: "UNDECIDED  not known to be met: alerts; 3 of 4 messages proven\n"},
		"not and open":  {checks: []proof.Check{open, not}, want: "FAILED  not met: stored; undecided: alerts; 3 of 4 messages proven\n"},
		"cut off":       {checks: []proof.Check{met}, cut: true, want: "INCOMPLETE  1 requirement met, by the part that was played; 3 of 4 messages proven\n"},
		"a part alone":  {checks: []proof.Check{met}, interrupted: true, want: "INCOMPLETE  1 requirement met, by the part that was played; 3 of 4 messages proven\n"},
		"cut and wrong": {checks: []proof.Check{not}, cut: true, want: "FAILED  not met: stored; 3 of 4 messages proven\n"},
	} {
		t.Run(name, func(t *testing.T) {
			r := &tally.Result{Ended: true, Interrupted: c.interrupted}
			r.Total[verdict.Proven], r.Total[verdict.Lost] = 3, 1
			assert.Equal(t, c.want, Ending(&Input{Result: r, Checks: c.checks}, c.cut, Style{}))
		})
	}
}
