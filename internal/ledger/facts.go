package ledger

import (
	"encoding/json"
	"math"
	"time"
)

// Round is when a round sent.
type Round struct {
	N          int
	Begin, End time.Time
	Over       time.Time // when the devices had stopped; zero: it is not known
	Open       int       // messages that were under way when the time of the plan was over
}

// Left are sessions that devices left on the broker of a link.
type Left struct {
	Link    string        `json:"link"`
	Devices int           `json:"devices"`
	Kept    time.Duration `json:"-"` // how long the broker keeps them; 0: without end
}

// Gap is a time in which a witness could not hear.
type Gap struct {
	From, To time.Time // To is zero for: to the end
	Kept     bool      // the broker kept messages of QoS 1 and 2 for it, as far as its queue goes
	Lag      bool      // it heard, but late: the broker may have dropped messages for it
	Why      string
}

// Witness is a witness and how it was heard.
type Witness struct {
	Name   string
	Proof  string
	Within time.Duration
	// Linger is how long it listens for a second copy behind the first, Wait how long a
	// message may take to come to it.
	Linger, Wait time.Duration
	// Listens: it hears messages as they come, rather than asking for them.
	Listens bool
	// Fields says what the platform does to some fields, as the file tells.
	Fields map[string]FieldRule

	Gaps      []Gap
	Heard     map[int]Hearing // by round
	Sightings int
	// Clock is by how much its platform's clock is ahead of ours, as that tells itself;
	// nil where it does not.
	Clock *Offset
}

// FieldRule is what a platform does to a field, as the file tells: what is found is what
// was sent, times Factor, plus Offset, under the name As.
type FieldRule struct {
	Ignored   bool
	As        string
	Tolerance float64
	Factor    float64 // 0: 1
	Offset    float64
}

// Changes tells whether what is found differs from what was sent.
func (r FieldRule) Changes() bool { return r.As != "" || r.Factor != 0 || r.Offset != 0 }

// Apply is the number that should be found, and how far off it may be: never less than
// what is lost in calculating it.
func (r FieldRule) Apply(sent json.Number, tolerance float64) (want, allowed float64) {
	x, err := sent.Float64()
	if err != nil {
		return math.NaN(), 0
	}
	factor := r.Factor
	if factor == 0 {
		factor = 1
	}
	want = x*factor + r.Offset
	return want, max(tolerance, 1e-9*max(math.Abs(x*factor), math.Abs(r.Offset)))
}

// Offset is by how much a clock is ahead of ours, at least and at most.
type Offset struct{ Least, Most time.Duration }

// Hearing is the end of listening to a witness for a round.
type Hearing struct {
	Complete bool
	Why      string
	session  int // in which it was written
}

// Damage is a part of the file that could not be read, with whole blocks behind it.
type Damage struct {
	At, Bytes int64
}

// Links is what happened to the devices' connections.
type Links struct {
	Drops      int
	Why        map[string]int // of the drops
	Renewed    int
	NotHearing map[string]int // by place and reason
	Remarks    map[string]int // by what was remarked; in how many devices' connections
	// Devices is how each fared, by its first stream.
	Devices map[int]*DeviceLinks
	// Closings are messages right after which the platform closed connections: the most
	// often it did so right after each.
	Closings map[Entry]int
}

// DeviceLinks is what happened to one device's connections.
type DeviceLinks struct {
	Ups     int
	Fails   int    // connections that the platform did not accept
	Why     string // the last one was lost, or failed
	Early   bool   // that one was not accepted
	Outages []Outage
}

// Outage is a time in which a device was not connected.
type Outage struct {
	From, To time.Time // To is zero for: to the end
	Why      string    // it was lost
	Fails    int       // times that it did not come back
	Again    string    // why not, the last time
	After    Entry     // the message right after which the platform closed it
	Times    int       // how often it did so; 0: no such message is known
}

// mostReasons bounds how many different reasons are counted apart, mostOutages how many
// outages are kept of a device.
const (
	mostReasons = 1000
	mostOutages = 64
)

func (l *Links) add(e *LinkEvent) {
	count := func(m *map[string]int, why string) {
		if *m == nil {
			*m = map[string]int{}
		}
		if _, known := (*m)[why]; !known && len(*m) >= mostReasons {
			why = "other reasons"
		}
		(*m)[why]++
	}
	if l.Devices == nil {
		l.Devices = map[int]*DeviceLinks{}
	}
	d := l.Devices[e.Stream]
	if d == nil {
		d = &DeviceLinks{}
		l.Devices[e.Stream] = d
	}
	switch e.What {
	case Up, Renewed:
		d.Ups++
		if n := len(d.Outages); n > 0 && d.Outages[n-1].To.IsZero() {
			d.Outages[n-1].To = e.At
		}
		if e.What == Renewed {
			l.Renewed++
		}
	case Down:
		l.Drops++
		count(&l.Why, e.Why)
		d.down(e)
		if e.Times > 0 {
			if l.Closings == nil {
				l.Closings = map[Entry]int{}
			}
			if _, known := l.Closings[e.After]; known || len(l.Closings) < mostReasons {
				l.Closings[e.After] = max(l.Closings[e.After], e.Times)
			}
		}
	case NotHearing:
		count(&l.NotHearing, e.Place+": "+e.Why)
	case Remarked:
		count(&l.Remarks, e.Why)
	}
}

func (d *DeviceLinks) down(e *LinkEvent) {
	d.Why, d.Early = e.Why, e.Early
	if e.Early {
		d.Fails++
	}
	if n := len(d.Outages); n > 0 && d.Outages[n-1].To.IsZero() {
		o := &d.Outages[n-1]
		o.Fails++
		o.Again = e.Why
		return
	}
	if len(d.Outages) < mostOutages {
		d.Outages = append(d.Outages, Outage{From: e.At, Why: e.Why, After: e.After, Times: e.Times})
	}
}

// Facts is what a ledger tells beside the messages: it does not grow with their number.
type Facts struct {
	Run, Crowd string
	Start      time.Time
	Streams    []Stream
	// Last is, by stream, the last sequence number that is known to have been due.
	Last      []uint64
	Rounds    []Round
	Played    time.Time // when the last message of the last round was due
	Witnesses []Witness
	Links     Links
	Left      []Left

	Ended       bool // the run came to its own end; false after a kill
	Interrupted bool
	LastWrite   time.Time
	Good        int64 // bytes that could be read
	Torn        int64 // bytes that were not written whole, because their process was killed
	Damage      []Damage
	// Lost: blocks are missing that told of messages.
	Lost bool
}

// Whole tells whether the ledger has all that was written of messages: the run came to
// its own end, and nothing of it is damaged.
func (f *Facts) Whole() bool { return f.Ended && !f.Lost }
