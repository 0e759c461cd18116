package verdict

import "time"

// Verdict is the one outcome of a message after all witnesses have been heard.
type Verdict uint8

// The verdicts, worst first; a message gets the first that applies.
const (
	LetIn          Verdict = iota // it must not get in, or not be kept, and was
	Refused                       // the platform said no, and did not keep it
	Lost                          // acknowledged (or QoS 0), and a witness that should have it has not
	Unanswered                    // never acknowledged, and found nowhere
	Unacknowledged                // never acknowledged, yet found
	Altered                       // found with other values
	Misfiled                      // found under another device or reading
	Repeated                      // found more often than it was sent
	Late                          // found, but after the time allowed
	Unsent                        // due, but the device could not send it before the end
	Dropped                       // the device dropped it, as the plan says
	Unknown                       // a witness could not be heard, or not to the end, and nothing worse is known
	Proven                        // every proof that was asked for was found, once, with the values sent
	Count                         // how many there are
)

var names = [Count]string{"let in", "refused", "lost", "unanswered", "unacknowledged", "altered", "misfiled",
	"repeated", "late", "unsent", "dropped", "unknown", "proven"}

func (v Verdict) String() string { return names[v] }

// All lists the verdicts in their order.
func All() []Verdict {
	list := make([]Verdict, Count)
	for i := range list {
		list[i] = Verdict(i)
	}
	return list
}

// Meaning is one line that explains a verdict.
func (v Verdict) Meaning() string {
	return [Count]string{
		"it had to be refused or discarded, and was taken or found",
		"the platform said no, and did not keep it",
		"acknowledged (QoS 0: sent), and not found by a witness that should have it",
		"never acknowledged, and found nowhere",
		"never acknowledged, yet found",
		"found with other values than were sent",
		"found under another device or reading",
		"found more often than it was sent",
		"found, but after the time allowed",
		"due, but the device could not send it before the end",
		"the device dropped it, as the plan says: no fault of the platform",
		"a witness could not be heard, or not to the end, so nothing is proven",
		"every proof that was asked for was found, once, with the values sent",
	}[v]
}

// Counts tells whether a message of the verdict counts where shares are asked for: what a
// device dropped as it was told is nobody's fault.
func (v Verdict) Counts() bool { return v != Dropped }

// State is what one witness says of one message.
type State uint8

// The states, and Unasked for a witness that has nothing to do with a message.
const (
	Unasked State = iota
	Found
	InDoubt  // found, but a part of the claim is not known: once, in time, as it was sent
	NotHeard // not found, and the witness cannot be blamed for it
	FoundLate
	FoundRepeated
	FoundMisfiled
	FoundAltered
	NotFound
	FoundLetIn // found, and must not be
)

// String is the state for people.
func (s State) String() string {
	return [...]string{"not asked", "found", "in doubt", "not known", "late", "repeated", "misfiled", "altered",
		"missing", "let in"}[s]
}

// Worse tells whether a state weighs more than another where several witnesses of one
// proof disagree.
func (s State) Worse(than State) bool {
	weight := func(s State) State { return min(max(s, Unasked), NotFound) }
	if s >= FoundLate && s < NotFound && than >= FoundLate && than < NotFound {
		return false
	}
	return weight(s) > weight(than)
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
	State       State        `json:"-"`
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
	Stream    int           `json:"-"` // for order
	Took      time.Duration `json:"-"` // sent to outcome
}
