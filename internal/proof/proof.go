// Package proof names the proofs that can be had of a message, and what a run must
// show of them: its requirements.
package proof

import "time"

// Proof is one thing that can be shown of a message.
type Proof uint8

// The proofs, in the order of a message's way. Acknowledged needs no witness.
const (
	Acknowledged Proof = iota // the protocol's own answer said so
	Received                  // a witness saw it come out of the platform
	Stored                    // a witness found it where the platform keeps it
)

var names = [...]string{"acknowledged", "received", "stored"}

func (p Proof) String() string { return names[p] }

// Named is the proof of a name.
func Named(name string) (Proof, bool) {
	for i, n := range names {
		if n == name {
			return Proof(i), true
		}
	}
	return 0, false
}

// Measure is what a requirement is about.
type Measure string

// The measures.
const (
	Share      Measure = "share"
	P50        Measure = "p50"
	P90        Measure = "p90"
	P99        Measure = "p99"
	Worst      Measure = "worst"
	LagP99     Measure = "lag_p99"
	Unmatched  Measure = "unmatched"
	OutOfOrder Measure = "out_of_order"
	LetIn      Measure = "let_in"
	Failed     Measure = "actions_failed"
	Alerts     Measure = "alerts"
	Counted    Measure = "counts"
	Events     Measure = "events"
)

// Requirement is one line of what must hold for a run to pass.
type Requirement struct {
	Key     string        // as in the crowd file: "received", "stored_p99"
	Text    string        // the value as written there
	Measure Measure       // of a share, or of a proof's delays
	Proof   Proof         // whose share or delays
	Proven  bool          // the share of proven messages, not of one proof
	Percent float64       // the least share
	Within  time.Duration // of a share: the time allowed; 0 is any
	Limit   time.Duration // of delays and lag
	Most    int           // of counts
	Exact   bool          // of alerts: nothing missing, late, repeated or unexpected; of counts: theirs are ours
	Alert   string        // which one; empty: all
	Delay   Measure       // of alerts: a percentile of their delays
	Events  []string      // that must have been carried out for it
	Rounds  Rounds        // that must each fulfil it; none: all together
}

// Rounds are rounds of a run, from 1: from one to another.
type Rounds struct {
	Name     string // as in the crowd file; empty: none
	From, To int    // To 0: to the last one; From -1: only the last one
}

// Has tells whether a round is among them, where that many were played.
func (r Rounds) Has(round, played int) bool {
	if r.From < 0 {
		return round == played
	}
	return round >= r.From && (r.To == 0 || round <= r.To)
}

// State is whether a requirement is met.
type State string

// The states.
const (
	Met       State = "met"
	NotMet    State = "not met"
	Undecided State = "undecided" // not met, but a witness could not be heard
)

// Check is a requirement held against a run.
type Check struct {
	Key   string `json:"key"`
	Want  string `json:"want"`
	Got   string `json:"got"`
	State State  `json:"state"`
}
