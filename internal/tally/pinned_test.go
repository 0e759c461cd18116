package tally_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

var _ = flag.Bool("update", false, "write what is pinned anew")

// asked are requirements of every sort.
func asked() (list []proof.Requirement) {
	for p, name := range []string{"acknowledged", "received", "stored"} {
		list = append(list, proof.Requirement{Key: name, Text: "90%", Measure: proof.Share, Proof: proof.Proof(p), Percent: 90},
			proof.Requirement{Key: name + "_p99", Text: "100ms", Measure: proof.P99, Proof: proof.Proof(p), Limit: 100 * time.Millisecond})
	}
	return append(list, proof.Requirement{Key: "proven", Text: "50%", Measure: proof.Share, Proven: true, Percent: 50},
		proof.Requirement{Key: "proven", Text: "80%", Measure: proof.Share, Proven: true, Percent: 80, Rounds: proof.Rounds{Name: "each", From: 1}},
		proof.Requirement{Key: "unmatched", Text: "0", Measure: proof.Unmatched}, proof.Requirement{Key: "out_of_order", Text: "0", Measure: proof.OutOfOrder},
		proof.Requirement{Key: "let_in", Text: "0", Measure: proof.LetIn, Events: []string{"event-credential"}},
		proof.Requirement{Key: "actions_failed", Text: "0", Measure: proof.Failed},
		proof.Requirement{Key: "lag_p99", Text: "3ms", Measure: proof.LagP99, Limit: 3 * time.Millisecond},
		proof.Requirement{Key: "alerts", Text: "exact", Measure: proof.Alerts, Exact: true},
		proof.Requirement{Key: "alerts", Text: "60%", Measure: proof.Alerts, Percent: 60},
		proof.Requirement{Key: "alerts", Text: "25% within 200ms", Measure: proof.Alerts, Percent: 25, Limit: 200 * time.Millisecond},
		proof.Requirement{Key: "counts", Text: "exact", Measure: proof.Counted, Exact: true},
		proof.Requirement{Key: "events", Text: "done", Measure: proof.Events, Events: []string{"event-offline", "event-set"}})
}

func whole(t *testing.T, b *ledger.Book, opt tally.Options) *tally.Result {
	b.Last = nil
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), opt).Judge()
	require.NoError(t, err)
	return r
}

// All that is told of runs in which everything happens that can: a change of any of it is noticed.
func TestWholeResults(t *testing.T) {
	if testing.Short() {
		t.Skip("not in the short tier")
	}
	ledgertest.PinnedBy(t, "testdata/results.txt", 30, 400, func(seed uint64) string {
		var b strings.Builder
		r := whole(t, ledgertest.Random(seed), tally.Options{Series: true, Rows: tally.RowValues, PerVerdict: int(seed % 4)})
		fmt.Fprintf(&b, "%d findings\n", len(r.Findings))
		for i := range r.Findings {
			f := &r.Findings[i]
			fmt.Fprintf(&b, "%s %s %s %d\n", f.Verdict, f.Device, f.Reading, f.Seq)
		}
		short := *r // without what the ledger tells, and the judge: their rooms pin that
		short.Findings, short.Actions, short.Links, short.Still, short.Turns = nil, nil, ledger.Links{}, nil, clock.Turns{}
		short.Series = nil
		b.WriteString(ledgertest.Dump(short))
		for _, s := range []*tally.Series{r.Series, r.Series.Coarse(5, 4)} {
			if s == nil {
				continue
			}
			fmt.Fprintf(&b, "series %s %s %v\n", s.Begin.Sub(start), s.Step, s.Names)
			for i := range s.Steps {
				if x := &s.Steps[i]; x.Due+x.Sent+x.Acknowledged+x.Refused > 0 || slices.Max(x.Found) > 0 {
					fmt.Fprintf(&b, "step %d: %d %d %d %d %d", i, x.Due, x.Sent, x.Acknowledged, x.Refused, x.Found)
					for k := range x.Delays {
						fmt.Fprintf(&b, " %d/%.3f", x.Delays[k].N(), x.Delays[k].Between(50))
					}
					b.WriteByte('\n')
				}
			}
		}
		for _, c := range r.Check(asked()) {
			fmt.Fprintf(&b, "%s %s: %s: %s\n", c.Key, c.Want, c.State, c.Got)
		}
		for i := range r.Alerts {
			fmt.Fprintf(&b, "alert %d exact: %t\n", i, r.Alerts[i].Exact())
		}
		for i := range r.Holes {
			fmt.Fprintf(&b, "hole of %d\n", r.Holes[i].Messages())
		}
		if len(r.Rows) > 1 {
			sum := r.Rows[0]
			sum.Fields = slices.Clone(sum.Fields)
			for i := range r.Rows {
				sum.Merge(&r.Rows[len(r.Rows)-1-i])
			}
			b.WriteString(ledgertest.Dump(sum))
			for _, f := range sum.Fields {
				fmt.Fprintf(&b, "%s %.4f %.4f\n", f.Name, f.Here.Mean(), f.There.Mean())
			}
		}
		for n := range 4 {
			fmt.Fprintf(&b, "round %d: %t %t\n", n+1, r.RoundMeets(n+1, nil), r.RoundMeets(n+1, asked()))
		}
		return b.String()
	})
}

func TestWholeComparisons(t *testing.T) {
	if testing.Short() {
		t.Skip("not in the short tier")
	}
	how := tally.Comparing{Margin: 0.1, Least: time.Millisecond}
	opt := tally.Options{Series: true, Rows: tally.RowCounts}
	ledgertest.PinnedBy(t, "testdata/comparisons.txt", 12, 200, func(seed uint64) string {
		first, second := whole(t, ledgertest.Random(seed), opt), whole(t, ledgertest.Random(seed+100), opt)
		c := tally.Compare(first, second, [2][]proof.Check{first.Check(asked()), second.Check(asked())}, how)
		return fmt.Sprintf("worse %t\n%s", c.Worse(), ledgertest.Dump(*c))
	})
	const slow = 40 * time.Millisecond
	var b strings.Builder
	for i, second := range []*tally.Result{course(2, 10, 120, slow, 0), course(2, 10, 120, slow*3/2, 0), course(2, 10, 120, slow*2/3, 0),
		course(2, 4, 120, slow, 3), course(2, 10, 9, slow, 0), course(2, 3, 30, slow*2, 0)} {
		c := tally.Compare(course(1, 10, 120, slow, 0), second, [2][]proof.Check{}, how)
		fmt.Fprintf(&b, "== course %d %t\n%s", i, c.Worse(), ledgertest.Dump(*c))
	}
	ledgertest.Pinned(t, "testdata/courses.txt", b.String())
}

// What a damaged or foreign ledger tells of streams and witnesses that there are not is left out.
func TestWhatIsOfNoStream(t *testing.T) {
	b := book(message(nil))
	b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
	for _, w := range []int{-1, 2, 9} {
		b.Sightings = append(b.Sightings, seen(w, func(s *ledger.Sighting) { s.Stream, s.Device, s.Reading = -1, "tug", "place" }))
	}
	b.Links.Closings = map[ledger.Entry]int{{Stream: -1, Seq: 1}: 3, {Stream: 2, Seq: 1}: 3, {Stream: 0, Seq: 1}: 2}
	r := whole(t, b, tally.Options{})
	require.Zero(t, r.UnmatchedCount)
	require.Len(t, r.Closings, 1)
	require.Equal(t, 1, r.Total[verdict.Proven])
}

// A device that is new, gone, or fared otherwise, and no other, is told by a comparison.
func TestDevicesThatFareOtherwise(t *testing.T) {
	of := func(n map[string][2]int) *tally.Result { // due and lost
		b := book()
		b.Streams = nil
		b.Messages = nil
		for _, name := range slices.Sorted(maps.Keys(n)) {
			stream := len(b.Streams)
			b.Streams = append(b.Streams, ledger.Stream{Device: name, Kind: "buoy", Reading: "state", Unseen: []int{0}})
			var list []ledger.Message
			for i := range n[name][0] {
				list = append(list, message(func(m *ledger.Message) { m.Seq = uint64(i + 1) }))
				if i >= n[name][1] {
					b.Sightings = append(b.Sightings, seen(1, func(s *ledger.Sighting) { s.Stream, s.Seq = stream, uint64(i+1) }))
				}
			}
			b.Messages = append(b.Messages, list)
		}
		return whole(t, b, tally.Options{Rows: tally.RowCounts})
	}
	first := of(map[string][2]int{"same": {5, 1}, "worse": {5, 1}, "better": {5, 3}, "gone": {5, 0}, "well": {5, 0}, "fewer": {9, 1}})
	second := of(map[string][2]int{"same": {5, 1}, "worse": {5, 2}, "better": {5, 0}, "new": {5, 4}, "well": {7, 0}, "fewer": {5, 1}})
	c := tally.Compare(first, second, [2][]proof.Check{}, tally.Comparing{Margin: 0.1})
	var got []string
	for _, d := range c.Devices {
		got = append(got, fmt.Sprint(d.Device, d.Due, d.Bad))
	}
	require.Equal(t, []string{"better[5 5] [3 0]", "worse[5 5] [1 2]"}, slices.Sorted(slices.Values(got)))
	require.Equal(t, [2]int{1, 1}, c.OnlyIn)
	require.Equal(t, 2, c.DeviceCount)
}

// Runs in which nothing was due are compared, too.
func TestNothingIsCompared(t *testing.T) {
	c := tally.Compare(whole(t, book(), tally.Options{}), whole(t, book(), tally.Options{}), [2][]proof.Check{}, tally.Comparing{Margin: 0.1})
	b, err := json.Marshal(c)
	require.NoError(t, err)
	require.Contains(t, string(b), `"proven_percent":[0,0]`)
	require.False(t, c.Worse())
}
