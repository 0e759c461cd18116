package report

import (
	"slices"
	"strings"
	"testing"
	"time"

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

// What those that are not proven have in common is told in sentences, and where only some are
// listed, that these are some.
func TestTheStory(t *testing.T) {
	at := time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)
	missed := func(names ...string) (list []verdict.Testimony) {
		for _, n := range []string{"ear", "store"} {
			state := verdict.Found
			if slices.Contains(names, n) {
				state = verdict.NotFound
			}
			list = append(list, verdict.Testimony{Witness: n, State: state})
		}
		return list
	}
	lost := func(after time.Duration, names ...string) verdict.Finding {
		return verdict.Finding{Verdict: "lost", Due: at.Add(after), Testimony: missed(names...)}
	}
	refused := func(said string) verdict.Finding {
		return verdict.Finding{Verdict: "refused", Due: at, Said: said}
	}
	group := func(name string, n int) tally.Group {
		g := tally.Group{Name: name}
		g.Counts[verdict.Lost] = n
		return g
	}
	for name, c := range map[string]struct {
		wrong, devices int
		kinds, bad     []tally.Group
		findings       []verdict.Finding
		want           string
	}{
		"nothing": {devices: 4, want: ""},
		"one": {1, 4, []tally.Group{group("buoy", 1), group("gauge", 0)}, []tally.Group{group("a", 1)}, []verdict.Finding{lost(0, "ear", "store")},
			"The one that is not proven is of a, of 4 devices, all of the kind buoy.|It was due at 03:04:05.|1 message is lost: no witness found it."},
		"some": {3, 4, []tally.Group{group("buoy", 2), group("gauge", 1)}, []tally.Group{group("a", 2), group("b", 1)},
			[]verdict.Finding{lost(9*time.Second, "store"), lost(0, "store"), lost(3*time.Second, "store", "ear")},
			"The 3 that are not proven are of a and b, of 4 devices.|The first was due at 03:04:05, the last at 03:04:14.|3 messages are lost: ear found 2 and store found none."},
		"most of one": {9, 20, nil, []tally.Group{group("a", 5), group("b", 1), group("c", 1), group("d", 1)}, nil, "The 9 that are not proven are of 4 of 20 devices, 5 of them of a alone."},
		"half of one": {8, 20, nil, []tally.Group{group("a", 4), group("b", 2), group("c", 1), group("d", 1)}, nil, "The 8 that are not proven are of 4 of 20 devices."},
		"of all":      {4, 4, nil, []tally.Group{group("a", 1), group("b", 1), group("c", 1), group("d", 1)}, nil, "The 4 that are not proven are of all 4 devices."},
		"of both":     {2, 2, nil, []tally.Group{group("a", 1), group("b", 1)}, nil, "The 2 that are not proven are of all 2 devices."},
		"of the one":  {2, 1, nil, []tally.Group{group("a", 2)}, []verdict.Finding{lost(0), lost(48 * time.Hour)}, "The first was due at 2030-01-02 03:04:05, the last at 2030-01-04 03:04:05.|2 messages are lost: ear found all and store found all."},
		"a few are listed": {500, 1, nil, nil, []verdict.Finding{refused("quota exceeded"), refused("quota exceeded"), refused("busy")},
			"Of the 3 that are listed, all were due at 03:04:05.|Of the 3 that are listed, 2 of 3 were refused or not sent with these words: quota exceeded."},
		"no words of most": {2, 1, nil, nil, []verdict.Finding{refused("quota exceeded"), refused("busy")}, "All were due at 03:04:05."},
	} {
		r := &tally.Result{DeviceCount: c.devices, Kinds: c.kinds, Devices: c.bad, Findings: c.findings}
		r.Total[verdict.Lost], r.Total[verdict.Proven] = c.wrong, 10
		assert.Equal(t, c.want, strings.Join(story(r), "|"), name)
	}
}
