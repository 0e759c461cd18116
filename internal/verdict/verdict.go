package verdict

import (
	"runcrowd/internal/ledger"
	"time"
)

// Verdict is the one outcome of a message after all witnesses have been heard.
type Verdict uint8

// The verdicts, worst first; a message gets the first that applies.
const (
	Refused        Verdict = iota // the platform said no, and did not keep it
	Lost                          // acknowledged (or QoS 0), and a witness that should have it has not
	Unanswered                    // never acknowledged, and found nowhere
	Unacknowledged                // never acknowledged, yet found
	Altered                       // found with other values
	Misfiled                      // found under another device or reading
	Repeated                      // found more often than it was sent
	Late                          // found, but after the time allowed
	Unsent                        // due, but the device could not send it before the end
	Unknown                       // a witness could not be heard, or not to the end, and nothing worse is known
	Proven                        // every proof that was asked for was found, once, with the values sent
	count
)

var names = [count]string{"refused", "lost", "unanswered", "unacknowledged", "altered", "misfiled", "repeated", "late", "unsent", "unknown", "proven"}

func (v Verdict) String() string { return names[v] }

// All lists the verdicts in their order.
func All() []Verdict {
	list := make([]Verdict, count)
	for i := range list {
		list[i] = Verdict(i)
	}
	return list
}

// Meaning is one line that explains a verdict.
func (v Verdict) Meaning() string {
	return [count]string{
		"the platform said no, and did not keep it",
		"acknowledged (QoS 0: sent), and not found by a witness that should have it",
		"never acknowledged, and found nowhere",
		"never acknowledged, yet found",
		"found with other values than were sent",
		"found under another device or reading",
		"found more often than it was sent",
		"found, but after the time allowed",
		"due, but the device could not send it before the end",
		"a witness could not be heard, or not to the end, so nothing is proven",
		"every proof that was asked for was found, once, with the values sent",
	}[v]
}

// Counts is a number of messages for each verdict.
type Counts [count]int

// Due is the number of messages: the sum over all verdicts.
func (c *Counts) Due() int {
	n := 0
	for _, k := range c {
		n += k
	}
	return n
}

// state is what one witness says of one message.
type state uint8

const (
	holds state = iota
	missing
	altered
	misfiled
	repeated
	late
	unheard
	open // found, but a part of the claim is not known: once, in time, as it was sent
	states
)

// weight orders what several witnesses of one proof say: the heaviest stands.
func (s state) weight() int {
	return [...]int{holds: 0, open: 1, unheard: 2, late: 3, repeated: 3, misfiled: 3, altered: 3, missing: 4}[s]
}

// Difference is one field that was found otherwise than it was sent.
type Difference struct {
	Field string `json:"field"`
	Sent  string `json:"sent"`
	Found string `json:"found"`
	Note  string `json:"note,omitempty"`
	Unit  string `json:"unit,omitempty"`
}

// Testimony is what one witness says of one message.
type Testimony struct {
	Witness     string       `json:"witness"`
	Says        string       `json:"says"`
	Differences []Difference `json:"differences,omitempty"`
}

// Finding is one message with its verdict.
type Finding struct {
	Device    string        `json:"device"`
	Kind      string        `json:"kind"`
	Reading   string        `json:"reading"`
	Seq       uint64        `json:"seq"`
	Round     int           `json:"round"`
	Verdict   string        `json:"verdict"`
	Due       time.Time     `json:"due"`
	Sent      *time.Time    `json:"sent,omitempty"`
	Attempts  int           `json:"attempts"`
	Outcome   string        `json:"outcome"`
	Said      string        `json:"said,omitempty"`
	Testimony []Testimony   `json:"testimony,omitempty"`
	Carried   string        `json:"carried"`
	stream    int           // for order
	took      time.Duration // sent to outcome
}

// Took is the time from sending to the outcome.
func (f *Finding) Took() time.Duration { return f.took }

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
}

// Delays are percentiles of a time, in order.
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
	Why       []string `json:"why,omitempty"`
}

// Unmatched is a sighting of this run that matches no message sent.
type Unmatched struct {
	Witness string `json:"witness"`
	Mark    string `json:"mark"`
	Found   string `json:"found"`
}

// Result is the judgement of a run.
type Result struct {
	Run, Crowd     string
	Start          time.Time
	Total          Counts
	Kinds          []Group
	Rounds         []Group
	Devices        []Group // those with anything not proven, the worst first
	DeviceCount    int
	Proofs         []Proof // acknowledged, received, stored
	Findings       []Finding
	Unmatched      []Unmatched
	UnmatchedCount int
	OutOfOrder     int
	Resent         int // messages sent more than once
	Acknowledged   Delays
	Received       Delays
	Stored         Delays
	Lag            Delays
	Witnesses      []WitnessReport
	Drops          int            // connections lost
	DropReasons    map[string]int // why
	Renewed        int            // connections left and made anew for a new access token
	NotHearing     map[string]int // where devices could not hear commands, and why
	Commands       []Asked
	Mishaps        []Mishap // of commands
	Ended          bool
	Interrupted    bool
	Recovered      int // messages known only from sightings
	Torn           int64
	Damage         []ledger.Damage
	Playing        bool // the run goes on while it is judged
	// LastRound is the round that was played last, for Played of Planned.
	LastRound       int
	Played, Planned time.Duration
}
