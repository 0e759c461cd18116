// Package report turns the judgement of a run into text for people and JSON for
// programs. Both say the same.
package report

import (
	"encoding/json"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Version is the version of the JSON document: it grows when a member changes
// its meaning or goes away.
const Version = 1

// Document is the report as JSON. Times are RFC 3339, delays milliseconds.
type Document struct {
	Format          int                   `json:"format"`
	Run             string                `json:"run"`
	Crowd           string                `json:"crowd"`
	Folder          string                `json:"folder"`
	Started         time.Time             `json:"started"`
	Met             bool                  `json:"requirements_met"`
	Ended           bool                  `json:"ended"`
	Playing         bool                  `json:"playing"`
	DamagedBytes    int64                 `json:"damaged_bytes"`
	Interrupted     bool                  `json:"interrupted"`
	Missing         []string              `json:"parts_missing,omitempty"`
	Attempts        []string              `json:"attempts_not_counted,omitempty"`
	Resumed         []tally.Resumed       `json:"resumed,omitempty"`
	Due             int                   `json:"due"`
	Verdicts        map[string]int        `json:"verdicts"`
	Kinds           []group               `json:"kinds"`
	Rounds          []group               `json:"rounds"`
	Devices         []group               `json:"devices_not_proven"`
	Proofs          []tally.Proof         `json:"proofs"`
	Require         []proof.Check         `json:"requirements"`
	Delays          map[string]delays     `json:"delays_ms"`
	Unmatched       int                   `json:"unmatched"`
	UnmatchedSample []tally.Unmatched     `json:"unmatched_sample,omitempty"`
	OutOfOrder      int                   `json:"out_of_order"`
	OutOfOrderAt    []tally.Behind        `json:"out_of_order_at,omitempty"`
	Resent          int                   `json:"resent"`
	MustNot         int                   `json:"must_not_get_in"`
	KeptOut         int                   `json:"kept_out"`
	Holes           []tally.Hole          `json:"gaps,omitempty"`
	HoleCount       int                   `json:"gap_count"`
	Never           []tally.Never         `json:"never_connected,omitempty"`
	Closings        []tally.Closing       `json:"closed_right_after,omitempty"`
	ThrownOff       *tally.ThrownOff      `json:"thrown_off,omitempty"`
	Remarks         map[string]int        `json:"remarks,omitempty"`
	Overtime        []overtime            `json:"longer_than_planned,omitempty"`
	Still           []still               `json:"stood_still,omitempty"`
	Left            []left                `json:"sessions_left,omitempty"`
	Retained        []ledger.Retained     `json:"retained_left,omitempty"`
	Drops           int                   `json:"connections_lost"`
	DropReasons     map[string]int        `json:"connections_lost_why,omitempty"`
	Renewed         int                   `json:"access_tokens_renewed,omitempty"`
	Actions         []ledger.EventActions `json:"actions,omitempty"`
	Commands        []asked               `json:"commands,omitempty"`
	Mishaps         []tally.Mishap        `json:"commands_not_obeyed_or_answered,omitempty"`
	NotHearing      map[string]int        `json:"commands_not_heard_why,omitempty"`
	Counts          []tally.Counted       `json:"counts,omitempty"`
	Alerts          []alert               `json:"alerts,omitempty"`
	AlertsNotExact  []tally.AlertFinding  `json:"alerts_not_exact,omitempty"`
	Witnesses       []tally.WitnessReport `json:"witnesses"`
	Findings        []verdict.Finding     `json:"messages_not_proven"`
	Alike           []tally.Alike         `json:"altered_alike,omitempty"`
	AtMost          int                   `json:"messages_not_proven_at_most_per_verdict,omitempty"`
	Recovered       int                   `json:"recovered,omitempty"`
}

type group struct {
	Name     string         `json:"name"`
	Due      int            `json:"due"`
	Verdicts map[string]int `json:"verdicts"`
}

type delays struct {
	Messages int     `json:"messages"`
	P50      float64 `json:"p50"`
	P90      float64 `json:"p90"`
	P99      float64 `json:"p99"`
	Worst    float64 `json:"worst"`
}

type asked struct {
	tally.Asked
	Delays delays `json:"answered_after_ms"`
}

type overtime struct {
	tally.Overtime
	By float64 `json:"by_ms"`
}

type still struct {
	From time.Time `json:"from"`
	For  float64   `json:"for_ms"`
}

type left struct {
	ledger.LeftSessions
	Kept float64 `json:"kept_s"` // 0: without end
}

// Input is what a report is made of.
type Input struct {
	Folder string
	Result *tally.Result
	Checks []proof.Check
	AtMost int // findings kept for each verdict; 0: all
}

// Met tells whether every requirement is met.
func (in *Input) Met() bool {
	for _, c := range in.Checks {
		if c.State != proof.Met {
			return false
		}
	}
	return true
}

// JSON makes the document.
func JSON(in *Input) ([]byte, error) {
	r := in.Result
	d := Document{Format: Version, Run: r.Run, Crowd: r.Crowd, Folder: in.Folder, Started: r.Start.UTC(), Met: in.Met(),
		Ended: r.Ended, Playing: r.Playing, DamagedBytes: damaged(r), Interrupted: r.Interrupted, Missing: r.Missing, Attempts: r.Attempts, Resumed: r.Resumed, Due: r.Total.Due(),
		Verdicts: byVerdict(&r.Total), Kinds: groups(r.Kinds), Rounds: groups(r.Rounds),
		Devices: groups(r.Devices), Proofs: r.Proofs, Require: in.Checks, Unmatched: r.UnmatchedCount,
		UnmatchedSample: r.Unmatched, OutOfOrder: r.OutOfOrder,
		Resent: r.Resent, MustNot: r.MustNot, KeptOut: r.KeptOut, Drops: r.Links.Drops, DropReasons: r.Links.Why,
		Witnesses: r.Witnesses, Findings: r.Findings, Recovered: r.Recovered, AtMost: in.AtMost, Alike: r.Alike,
		Delays: map[string]delays{"acknowledged": ms(r.Acknowledged), "received": ms(r.Received), "stored": ms(r.Stored),
			"lag": ms(r.Lag)}}
	d.OutOfOrderAt, d.Holes, d.HoleCount, d.Never, d.Closings, d.Remarks = r.OutOfOrderAt, r.Holes, r.HoleCount, r.Never, r.Closings, r.Links.Remarks
	if r.ThrownOff.Devices > 0 {
		d.ThrownOff = &r.ThrownOff
	}
	for _, x := range r.Still {
		d.Still = append(d.Still, still{x.From.UTC(), float64(x.To.Sub(x.From).Microseconds()) / 1000})
	}
	for _, x := range r.Overtime {
		d.Overtime = append(d.Overtime, overtime{x, float64(x.By.Microseconds()) / 1000})
	}
	d.Retained = r.Retained
	for _, x := range r.Left {
		d.Left = append(d.Left, left{x, x.Kept.Seconds()})
	}
	d.Actions = r.Actions
	d.Renewed, d.Mishaps, d.NotHearing = r.Links.Renewed, r.Mishaps, r.Links.NotHearing
	for _, a := range r.Commands {
		d.Commands = append(d.Commands, asked{a, ms(a.Delays)})
	}
	for _, n := range r.Alerts {
		d.Alerts = append(d.Alerts, alert{n, ms(n.Delays)})
	}
	d.Counts = r.Counted
	d.AlertsNotExact = r.AlertFindings
	if d.Witnesses == nil {
		d.Witnesses = []tally.WitnessReport{}
	}
	if d.Require == nil {
		d.Require = []proof.Check{}
	}
	if d.Findings == nil {
		d.Findings = []verdict.Finding{}
	}
	text, err := json.MarshalIndent(d, "", "  ")
	return append(foreign.JSON(text), '\n'), err
}

// byVerdict names every verdict, those with no message too: the sum is what was due.
func byVerdict(c *tally.Counts) map[string]int {
	m := map[string]int{}
	for _, v := range verdict.All() {
		m[v.String()] = c[v]
	}
	return m
}

func groups(list []tally.Group) []group {
	out := make([]group, 0, len(list))
	for i := range list {
		out = append(out, group{list[i].Name, list[i].Counts.Due(), byVerdict(&list[i].Counts)})
	}
	return out
}

func ms(d tally.Delays) delays {
	f := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	return delays{d.N, f(d.P50), f(d.P90), f(d.P99), f(d.Worst)}
}

// damaged is how many bytes of the ledger could not be read.
func damaged(r *tally.Result) (n int64) {
	for _, d := range r.Damage {
		n += d.Bytes
	}
	return n
}
