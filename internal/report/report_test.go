package report_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/report"
	"runcrowd/internal/verdict"
)

var start = time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)

// input is a run of 12 devices with one message each, of which some are lost,
// one is altered, one refused and one unsent; the ear lost its connection once.
func input(proven bool) *report.Input {
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Crowd: "harbour", Start: start, Ended: true,
		Rounds: []ledger.Round{{N: 1}},
		Witnesses: []ledger.Witness{{Name: "ear", Proof: "received", Sightings: 6,
			Heard: map[int]ledger.Hearing{1: {Complete: true}},
			Gaps:  []ledger.Gap{{From: start.Add(time.Hour), To: start.Add(time.Hour + time.Second), Why: "cut"}}}},
		Links: ledger.Links{Drops: 1, Why: map[string]int{"the platform cut the connection": 1}}}}
	for i := range 12 {
		name := fmt.Sprintf("buoy-%02d", i+1)
		b.Streams = append(b.Streams, ledger.Stream{Device: name, Kind: []string{"buoy", "gauge"}[i%2], Reading: "state"})
		m := ledger.Message{Seq: 1, Round: 1, Due: start, Sent: start.Add(time.Millisecond),
			At: start.Add(3 * time.Millisecond), Attempts: 1,
			Outcome: outcome.Accepted, Carried: []byte(`{"wave_m":1.25,"site":"outer"}`)}
		s, found := ledger.Sighting{Stream: i, Seq: 1, Seen: start.Add(4 * time.Millisecond), Values: m.Carried}, true
		if !proven {
			switch {
			case i < 4:
				found = false
			case i == 4:
				s.Values = []byte(`{"wave_m":1,"site":"outer"}`)
			case i == 5:
				m.Outcome, m.Text, found = outcome.Refused, "PUBACK quota exceeded (0x97)", false
			case i == 6:
				m.Outcome, m.Sent, m.Attempts, m.Text, found = outcome.Unsent, time.Time{}, 0, "still waiting", false
			}
		}
		b.Messages = append(b.Messages, []ledger.Message{m})
		if found {
			b.Sightings = append(b.Sightings, s)
		}
	}
	r := judge(b)
	return &report.Input{Folder: "runs/x", Result: r, Checks: r.Check(
		[]proof.Requirement{{Key: "proven", Text: "100%", Proven: true, Measure: "share", Percent: 100}})}
}

func TestTextOfABadRun(t *testing.T) {
	got := report.Text(input(false), report.Style{})
	assert.Equal(t, `harbour  run k3f9a2xy, 2030-01-02 03:04:05 UTC, 12 devices, 12 messages due

FAILED  not met: proven
NOT PROVEN  5 of 12 messages proven; 1 refused, 4 lost, 1 altered, 1 unsent
The 7 that are not proven are of 7 of 12 devices.
All were due at 03:04:05.

  acknowledged      10 of 12   the platform's own answer to each message
  received           6 of 12 seen, 5 as sent   came out of the platform, by the witness ear
  stored        not checked (no witness for it)
  witness ear: could not listen from 04:04:05.000 for 1s: cut

  kind   due  proven  refused  lost  altered  unsent
  ----------------------------------------------------
  buoy     6       2        -     2        1       1
  gauge    6       3        1     2        -       -
  ----------------------------------------------------
  all     12       5        1     4        1       1

  time                p50  p90  p99  worst
  -----------------------------------------------------------------
  behind schedule     1ms  1ms  1ms    1ms  sent after it was due
  to acknowledgement  2ms  2ms  2ms    2ms  after it was sent
  to reception        3ms  3ms  3ms    3ms  after it was sent

  Connections were lost or failed once:
      1  the platform cut the connection

Worst devices, of 7 with messages that are not proven
  buoy-01              1 of 1: 1 lost
  buoy-02              1 of 1: 1 lost
  buoy-03              1 of 1: 1 lost
  buoy-04              1 of 1: 1 lost
  buoy-05              1 of 1: 1 altered

refused: the platform said no, and did not keep it
  buoy-06 state #1  sent 03:04:05.001, refused: PUBACK quota exceeded (0x97)
    ear      not found

lost: acknowledged (QoS 0: sent), and not found by a witness that should have it (3 of 4 shown)
  buoy-01 state #1  sent 03:04:05.001, acknowledged after 2ms
    ear      not found
  buoy-02 state #1  sent 03:04:05.001, acknowledged after 2ms
    ear      not found
  buoy-03 state #1  sent 03:04:05.001, acknowledged after 2ms
    ear      not found

altered: found with other values than were sent
  buoy-05 state #1  sent 03:04:05.001, acknowledged after 2ms
    ear      found with other values: wave_m 1.25 -> 1 (rounded)

unsent: due, but the device could not send it before the end
  buoy-07 state #1  due 03:04:05.000, unsent: still waiting

Requirements
  not met    proven: 100%   41.66% (5 of 12)
`, got)
}

func TestTextOfAGoodRun(t *testing.T) {
	in := input(true)
	got := report.Text(in, report.Style{Color: true})
	assert.Contains(t, got, "all 12 messages: acknowledged and received once, as sent")
	assert.Contains(t, got, "\x1b[")
	assert.NotContains(t, report.Text(in, report.Style{}), "\x1b[", "no colour where none was asked for")
	in.Checks[0].State = proof.Undecided
	assert.Contains(t, report.Text(in, report.Style{}), "undecided  proven: 100%   100% (12 of 12)  not everything is "+
		"known")
}

// The JSON says what the text says, and its verdicts add up.
func TestJSON(t *testing.T) {
	b, err := report.JSON(input(false))
	require.NoError(t, err)
	var d report.Document
	require.NoError(t, json.Unmarshal(b, &d))
	sum := 0
	for _, n := range d.Verdicts {
		sum += n
	}
	assert.Equal(t, d.Due, sum)
	assert.Len(t, d.Verdicts, len(verdict.All()), "each verdict is named, those with no message too")
	assert.Len(t, d.Findings, 7)
	assert.False(t, d.Met)
	assert.Equal(t, 2.0, d.Delays["acknowledged"].P99)
	assert.True(t, strings.HasSuffix(string(b), "}\n"))
}
