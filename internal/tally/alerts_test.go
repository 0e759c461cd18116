package tally_test

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
)

// noticed is a book of one device that sends a message a second: o arms, x calls, - does
// neither, b both; behind it ? is one that was acknowledged and not found, ! one that was
// refused, u one that was never sent. Said are seconds at which the alert was heard.
func noticed(messages, said string) *ledger.Book {
	b := book()
	b.Streams[0].Calls, b.Streams[0].Unseen, b.Streams[1].Unseen = 1, []int{1}, []int{1}
	b.Witnesses[1].Proof, b.Witnesses[1].Listens = "alerts", true
	n := ledger.Alert{Name: "low", Witness: 1, Within: 2 * time.Second}
	for _, s := range strings.Fields(said) {
		x := ledger.Said{Perhaps: strings.HasSuffix(s, "p")}
		at, _ := strconv.ParseFloat(strings.TrimSuffix(s, "p"), 64)
		x.Seen = start.Add(time.Duration(at * float64(time.Second)))
		n.Said = append(n.Said, x)
	}
	b.Alerts = []ledger.Alert{n}
	for i := 0; i < len(messages); i++ {
		seq := uint64(len(b.Messages[0]) + 1)
		at := start.Add(time.Duration(seq-1) * time.Second)
		m := ledger.Message{Seq: seq, Round: 1, Due: at, Sent: at, Attempts: 1, Outcome: outcome.Accepted,
			At: at.Add(time.Millisecond), Carried: []byte(carried),
			Calls: map[byte]uint64{'o': 2, 'x': 1, '-': 0, 'b': 3}[messages[i]]}
		found := true
		if i+1 < len(messages) {
			switch messages[i+1] {
			case '?':
				found = false
			case '!':
				found, m.Outcome = false, outcome.Refused
			case 'u':
				found, m.Outcome, m.Sent, m.Attempts = false, outcome.Unsent, time.Time{}, 0
			default:
				i--
			}
			i++
		}
		b.Messages[0] = append(b.Messages[0], m)
		if found {
			b.Sightings = append(b.Sightings, ledger.Sighting{Witness: 0, Stream: 0, Seq: seq,
				Seen: at.Add(2 * time.Millisecond), Values: []byte(carried)})
		}
	}
	return b
}

// told is how the alert fared: called for, given, missing, late, repeated, unexpected,
// unknown.
func told(r *tally.Result) string {
	n := r.Alerts[0]
	return fmt.Sprint(n.Called, n.Given, n.Missing, n.Late, n.Repeated, n.Unexpected, n.Unknown)
}

func TestAlerts(t *testing.T) {
	for _, c := range []struct{ messages, said, want, state string }{
		{"oooo", "", "0 0 0 0 0 0 0", "met"},
		{"oxo", "1.1", "1 1 0 0 0 0 0", "met"},
		{"oxxxo", "1.1", "1 1 0 0 0 0 0", "met"},
		{"oxo", "", "1 0 1 0 0 0 0", "not met"},
		{"oxo", "3.5", "1 0 0 1 0 0 0", "not met"},
		{"oxo", "1.1 1.2", "1 1 0 0 1 0 0", "not met"},
		{"oxo", "1.1 1.2p", "1 1 0 0 0 0 0", "met"}, // it may be the same delivered again
		{"oooo", "1.1", "0 0 0 0 0 1 0", "not met"},
		{"oxooooo", "1.1 5.5", "1 1 0 0 0 1 0", "not met"}, // long after it was armed again: not for that one
		{"oxox", "1.1 3.1", "2 2 0 0 0 0 0", "met"},
		{"oxox", "3.1", "2 1 1 0 0 0 0", "not met"},
		{"oxox", "2.9 4.9", "2 2 0 0 0 0 0", "met"},  // slow, but each in time
		{"ox-x-o", "1.1", "1 1 0 0 0 0 0", "met"},    // between both limits nothing is armed again
		{"ox", "1.1", "1 1 0 0 0 0 0", "met"},        // the last message
		{"xo", "0.1", "1 1 0 0 0 0 0", "met"},        // the first one
		{"xo", "", "0 0 0 0 0 0 1", "undecided"},     // the platform may have said so before
		{"xox", "2.1", "1 1 0 0 0 0 1", "undecided"}, // the same
		{"ox?o", "", "0 0 0 0 0 0 1", "undecided"},   // lost on the way
		{"ox?o", "1.1", "1 1 0 0 0 0 0", "met"},      // or it was not
		{"ox?xo", "", "1 0 1 0 0 0 0", "not met"},
		{"ox?xo", "2.1", "1 1 0 0 0 0 0", "met"},
		{"ox?xo", "1.1", "1 1 0 0 0 0 0", "met"},
		{"ox?xo", "4.5", "1 0 0 1 0 0 0", "not met"},
		{"ox?x?x?o", "", "0 0 0 0 0 0 1", "undecided"},
		{"x?x?xo", "", "0 0 0 0 0 0 1", "undecided"},
		{"oxo?x?x?", "1.1", "1 1 0 0 0 0 1", "undecided"},
		{"ox?oxo", "3.1", "1 1 0 0 0 0 1", "undecided"},
		{"oxo?x", "1.1", "1 1 0 0 0 0 1", "undecided"},    // whether it was armed again is not known
		{"oxo?x", "1.1 3.1", "2 2 0 0 0 0 0", "met"},      // it was
		{"ox?o", "4.5", "1 0 0 0 0 0 1", "undecided"},     // late, if that message called for it
		{"ox!o", "", "0 0 0 0 0 0 0", "met"},              // refused: the platform knows nothing of it
		{"ox!o", "1.1", "0 0 0 0 0 1 0", "not met"},       // or it does
		{"oxuo", "", "0 0 0 0 0 0 0", "met"},              // never sent
		{"obo", "1.1", "1 1 0 0 0 0 0", "met"},            // calls and arms at once: both ways are right
		{"obo", "", "0 0 0 0 0 0 1", "undecided"},         //
		{"ox", "1.1 2.2 3.3", "1 1 0 0 2 0 0", "not met"}, // on every message
	} {
		r := judge(noticed(c.messages, c.said))
		says := fmt.Sprintf("%s, said at %s: %+v", c.messages, c.said, r.AlertFindings)
		assert.Equal(t, c.want, told(r), says)
		check := r.Check([]proof.Requirement{{Key: "alerts", Text: "exact", Measure: proof.Alerts, Exact: true}})[0]
		assert.Equal(t, c.state, string(check.State), says)
	}
}

// A witness that could not listen, or was not heard to the end, accuses nobody.
func TestALateAlertIsOfTheNearestCrossing(t *testing.T) {
	for _, c := range []struct{ messages, said, want string }{
		{"ooxooooooxoooooo", "13.5", "#10 late, #3 missing"},
		{"ooxooooooxoooooo", "7.5 13.5", "#10 late, #3 late"},
		{"ooxooooooxoooooo", "13.4 13.5", "#10 late, #3 late"},
		{"ooxooooooxoooooo", "9.5 13.5", "#3 late"}, // the first was in time for the second
	} {
		r := judge(noticed(c.messages, c.said))
		var got []string
		for _, f := range r.AlertFindings {
			if f.Call != nil {
				got = append(got, fmt.Sprintf("#%d %s", f.Call.Seq, f.Verdict))
			}
		}
		slices.Sort(got)
		assert.Equal(t, c.want, strings.Join(got, ", "), "%s %s", c.messages, c.said)
	}
}

func TestAlertsThatCouldNotBeHeard(t *testing.T) {
	at := func(s float64) time.Time { return start.Add(time.Duration(s * float64(time.Second))) }
	for name, change := range map[string]func(*ledger.Witness){
		"a gap":        func(w *ledger.Witness) { w.Gaps = []ledger.Gap{{From: at(2), To: at(2.5), Why: "cut"}} },
		"to the end":   func(w *ledger.Witness) { w.Gaps = []ledger.Gap{{From: at(1.5), Why: "cut"}} },
		"cut short":    func(w *ledger.Witness) { w.Heard[1] = ledger.Hearing{Why: "no"} },
		"never at all": func(w *ledger.Witness) { w.Heard = nil },
		"lagged":       func(w *ledger.Witness) { w.Gaps = []ledger.Gap{{From: at(2), To: at(2.5), Lag: true, Why: "slow"}} },
	} {
		b := noticed("oxo", "")
		change(&b.Witnesses[1])
		r := judge(b)
		assert.Equal(t, "1 0 0 0 0 0 1", told(r), name)
		assert.Equal(t, proof.Undecided, r.Check([]proof.Requirement{{Measure: proof.Alerts, Exact: true}})[0].State, name)
	}
	b := noticed("oxo", "")
	b.Witnesses[1].Gaps = []ledger.Gap{{From: at(10), To: at(11), Why: "cut"}} // long after
	assert.Equal(t, "1 0 1 0 0 0 0", told(judge(b)))
	b = noticed("oxo", "")
	b.Witnesses[1].Gaps = []ledger.Gap{{From: at(2), To: at(2.5), Lag: true, Whole: true,
		Why: "slow"}} // nothing was dropped
	assert.Equal(t, "1 0 1 0 0 0 0", told(judge(b)))
	for whole, want := range map[bool]string{false: "1 0 0 0 0 0 1",
		true: "1 0 0 0 0 0 1"} { // late, as it waited for its witness
		b = noticed("oxo", "9.9")
		require.Equal(t, "1 0 0 1 0 0 0", told(judge(b)))
		b.Witnesses[1].Gaps = []ledger.Gap{{From: at(5), To: at(9.95), Lag: true, Whole: whole, Why: "slow"}}
		assert.Equal(t, want, told(judge(b)))
	}

	// A message that the ledger lost may have called for it.
	b = noticed("ooo", "1.1")
	b.Messages[0][1].Hole, b.Lost, b.Damage = true, true, []ledger.Damage{{At: 1, Bytes: 1}}
	assert.Equal(t, "1 1 0 0 0 0 0", told(judge(b)))
}

// What was kept goes out newest first: the platform has it in that order.
func TestAlertsFollowTheOrderOfSending(t *testing.T) {
	b := noticed("oxooo", "1.1")
	for i, at := range []time.Duration{0, 3200, 3100, 3000, 4000} { // 2, 3, 4 were kept
		b.Messages[0][i].Sent = start.Add(at * time.Millisecond)
		b.Messages[0][i].At = b.Messages[0][i].Sent.Add(time.Millisecond)
	}
	b.Alerts[0].Said[0].Seen = start.Add(3300 * time.Millisecond)
	assert.Equal(t, "1 1 0 0 0 0 0", told(judge(b)))
}

func TestRequirementsOfAlerts(t *testing.T) {
	r := judge(noticed("oxoxo", "1.1"))
	check := func(q proof.Requirement) string {
		q.Measure = proof.Alerts
		c := r.Check([]proof.Requirement{q})[0]
		return string(c.State) + ": " + c.Got
	}
	assert.Equal(t, "not met: 50% (1 of 2), 1 missing", check(proof.Requirement{Exact: true}))
	assert.Equal(t, "met: 50% (1 of 2)", check(proof.Requirement{Percent: 50}))
	assert.Equal(t, "not met: 50% (1 of 2)", check(proof.Requirement{Percent: 51}))
	assert.Equal(t, "met: 50% (1 of 2)", check(proof.Requirement{Percent: 50, Alert: "low"}))
	assert.Equal(t, "not met: 100ms of those that came; 1 did not, and count as later than all",
		check(proof.Requirement{Delay: proof.Worst, Limit: time.Second}))
	assert.Equal(t, "met: 100ms of those that came; 1 did not, and count as later than all",
		check(proof.Requirement{Delay: proof.P50, Limit: time.Second}), "the half that came was in time")
	assert.Equal(t, "not met: 100ms of those that came; 1 did not, and count as later than all",
		check(proof.Requirement{Delay: proof.P50, Limit: time.Millisecond}))
	r = judge(noticed("ooo", ""))
	assert.Equal(t, "not met: none was called for", check(proof.Requirement{Percent: 50}), "nothing was tested")
	assert.Equal(t, "not met: nothing to measure", check(proof.Requirement{Delay: proof.Worst, Limit: time.Second}))
}
