package tally

import (
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
)

// Counts is a number of messages for each verdict.
type Counts [verdict.Count]int

// Due is the number of messages: the sum over all verdicts.
func (c *Counts) Due() int {
	n := 0
	for _, k := range c {
		n += k
	}
	return n
}

// Asked is the number of messages that count where shares are asked for.
func (c *Counts) Asked() int {
	n := 0
	for v, k := range c {
		if verdict.Verdict(v).Counts() {
			n += k
		}
	}
	return n
}

// Group is a part of the run with its verdicts.
type Group struct {
	Name   string
	Counts Counts
}

// Proof is of how many messages one proof was had.
type Proof struct {
	Name   string `json:"name"`
	Asked  int    `json:"asked"`   // messages for which it was asked
	Seen   int    `json:"seen"`    // found by every witness of it, in whatever way
	AsSent int    `json:"as_sent"` // and once, in time, in its place, with the values sent
	// Open are among the seen: found, but whether once, in time and as it was sent is
	// not known.
	Open    int `json:"open"`
	Unknown int `json:"unknown"` // a witness could not be heard
	// NotAsked are messages for which this proof cannot be had: QoS 0 has no
	// acknowledgement, a witness may be told to look at some kinds only.
	NotAsked int `json:"not_asked"`
	// Apart are messages that no share counts: they must not get in, and did not, or their
	// device dropped them.
	Apart int `json:"apart"`
}

// Part is one round, as far as requirements may ask for it.
type Part struct {
	Round  int
	Counts Counts
	Proofs [3]Proof
}

// Delays are percentiles of a time, in order, to the nanosecond where they are at most 4096, else to 1/4096; the worst is exact.
type Delays struct {
	N                    int
	P50, P90, P99, Worst time.Duration
}

// WitnessReport is how one witness was heard.
type WitnessReport struct {
	Name      string   `json:"name"`
	Proves    string   `json:"proves"`
	Sightings int      `json:"sightings"`
	Heard     bool     `json:"heard"`
	Asks      bool     `json:"-"` // it is asked for rows, and does not listen
	Why       []string `json:"why,omitempty"`
}

// Deaf is a time in which a witness could not listen.
type Deaf struct {
	Witness  string
	From, To time.Time // To is zero: to the end
	Why      string
}

// Unmatched is a sighting of this run that matches no message sent.
type Unmatched struct {
	Witness string `json:"witness"`
	Mark    string `json:"mark"`
	Found   string `json:"found"`
}

// Alike are many messages that were altered in the same way.
type Alike struct {
	Witness  string `json:"witness"`
	Kind     string `json:"kind"`
	Reading  string `json:"reading"`
	Field    string `json:"field"`
	Note     string `json:"note,omitempty"`
	Messages int    `json:"messages"`
	// Sent and Found are an example.
	Sent  string `json:"sent"`
	Found string `json:"found"`
}

// Resumed is that a run stopped, and went on with its plan.
type Resumed struct {
	Stopped time.Time     `json:"stopped"`
	At      time.Time     `json:"went_on"`
	Killed  bool          `json:"killed"` // else it was interrupted
	Round   int           `json:"round"`  // in which it went on; 0: in none
	Plan    int           `json:"round_of_the_plan"`
	From    time.Duration `json:"-"` // how far into that
}

// Result is the judgement of a run.
type Result struct {
	Run, Crowd     string
	Start          time.Time
	Total          Counts
	Kinds          []Group
	Rounds         []Group
	Parts          []Part // the rounds again
	Actions        []ledger.EventActions
	Devices        []Group // those with anything not proven, the worst first
	DeviceCount    int
	Proofs         []Proof // acknowledged, received, stored
	Findings       []verdict.Finding
	Alike          []Alike
	Unmatched      []Unmatched
	UnmatchedCount int
	OutOfOrder     int
	OutOfOrderAt   []Behind // some of them
	Holes          []Hole   // the longest
	HoleCount      int
	Never          []Never
	Closings       []Closing
	ThrownOff      ThrownOff
	Overtime       []Overtime
	Left           []ledger.LeftSessions
	Retained       []ledger.Retained
	Still          []ledger.Still // when the process that played stood still
	Turns          clock.Turns
	Resent         int // messages sent more than once
	// MustNot are messages that had to be refused or discarded, and KeptOut those that were.
	MustNot, KeptOut int
	mayBeIn          int // of these, those of which it is not known
	Acknowledged     Delays
	Received         Delays
	Stored           Delays
	sure             [4][2]Delays // between which those of the proofs and of the lag are
	without          [4][2]int    // messages without a time: of which it is not known, and that are lost
	Lag              Delays
	Witnesses        []WitnessReport
	Links            ledger.Links
	Commands         []Asked
	Mishaps          []Mishap // of commands
	Counted          []Counted
	Alerts           []AlertCount
	AlertFindings    []AlertFinding
	Ended            bool
	Interrupted      bool
	Missing          []string // of a run in parts: those that are missing
	Attempts         []string // of a run in parts: attempts that are not counted
	Resumed          []Resumed
	cut              bool // a process that played it was killed: what it sent last is not known
	shared           bool // some devices are played by parts that are not judged here
	Recovered        int  // messages known only from sightings
	Torn             int64
	Damage           []ledger.Damage
	Deaf             []Deaf  // when witnesses could not listen
	Series           *Series // nil: it was not wanted
	Rows             []Row
	Playing          bool // the run goes on while it is judged
	// LastRound is the round that was played last, for Played of Planned.
	LastRound       int
	Played, Planned time.Duration
	Took            time.Duration // from its start to the last record
}
