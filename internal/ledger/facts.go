package ledger

import (
	"maps"
	"slices"
	"sort"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/decimal"
	"runcrowd/internal/outcome"
)

// Stream is one reading of one device: what sequence numbers count in.
type Stream struct {
	Device  string
	Kind    string
	Reading string
	QoS0    bool // no acknowledgement is asked for
	// MayRepeat: the protocol allows one copy for each time that a message was sent anew
	// (MQTT QoS 1).
	MayRepeat bool
	// List: the body of a message is a JSON list; of one object, that is what it carries.
	List bool
	// Unseen are the witnesses that need not find its messages.
	Unseen []int
	// Elsewhere: another part of the crowd plays it.
	Elsewhere bool
	// Tolerances maps fields to how far a found number may be off.
	Tolerances map[string]float64
	// Calls has a bit for each alert that its values may call for.
	Calls uint64
	// Units maps fields to what they are measured in.
	Units map[string]string
}

// Sighting is one message found by a witness.
type Sighting struct {
	Witness int
	Seen    time.Time
	Stored  time.Time // by the platform's clock; zero where it does not tell
	// Stream and Seq say whose message it is. Stream is -1 for a mark of this run that is
	// of no stream of it: Device and Reading tell what it says.
	Stream          int
	Seq             uint64
	Device, Reading string
	// FiledDevice and FiledReading say where it was found; empty where that is its own
	// place, or where the witness cannot tell.
	FiledDevice  string
	FiledReading string
	// Again: this may be the same copy once more: a DUP, a retained message after the
	// witness subscribed anew, a row that was met before and has changed.
	Again bool
	// Perhaps: whether this is another copy is not known: the row was met on another
	// page of the same answer, and rows tell no identity.
	Perhaps bool
	// Unsure: it is this message or another one that carried the same; which is not known.
	Unsure bool
	// Asked: found by asking; when it came there is not known but for Stored.
	Asked bool
	// Row is a digest of the identity of the row that it was found in; 0: none is told.
	Row uint64
	// Values is the JSON object that was found.
	Values []byte
}

// LinkChange is what happened to a device's connection.
type LinkChange uint8

// The changes of a connection.
const (
	Up         LinkChange = iota + 1 // it is there
	Renewed                          // it was made anew, for a new access token
	Down                             // it was lost
	NotHearing                       // the platform does not let it hear commands
	Remarked                         // the platform did something that its user should know
)

// LinkEvent is a change of a device's connection.
type LinkEvent struct {
	Stream int // the first of the device
	At     time.Time
	What   LinkChange
	Place  string // topic filter or path, of NotHearing
	Why    string // of Down, NotHearing and Remarked
	// Of Down: the message right after which the platform closed the connection, and how
	// often that was so; with Times 0, none is known.
	After Entry
	Times int
	// Early, of Down: the platform had not accepted the connection yet.
	Early bool
}

// Entry names a message: a stream, and its sequence number in it.
type Entry struct {
	Stream int
	Seq    uint64
}

// Meant is what the platform has to do with a message. Its numbers stand in ledgers.
type Meant uint8

// What the platform may have to do.
const (
	ToKeep    Meant = iota // as of every message
	ToRefuse               // to say no, and keep nothing
	ToDiscard              // to keep nothing
	ToKeepOne              // to keep it once, though it goes out more than once
)

// Done is that something was done to a device, or undone.
type Done struct {
	Stream int    // the first of the device
	Event  string // of the plan; empty: a command did it
	Round  int
	Action Action
	At     time.Time
	Over   bool // it was undone
	Lasts  bool // until it is over, or the round
	Broke  bool // it breaks connections: what was just sent without an acknowledgement may be lost
	// Disturbs: messages may be late, or leave their device later, because of it.
	Disturbs bool
	Why      string // it could not be done
}

// Action is something that was done to a device: told as data, for whoever prints it.
type Action struct {
	Kind  string `json:"action"`          // as the crowd file names it
	Name  string `json:"name,omitempty"`  // the reading, property or field; empty: all readings
	Value string `json:"value,omitempty"` // the new interval or value; of send, the number of the message
}

// Command is something that the platform asked of a device.
type Command struct {
	Number uint64 // from 1, in a run
	Device string
	Name   string // empty: it is none that the device knows
	At     time.Time
	Topic  string // or path
	Body   []byte
	Done   bool
	Why    string   // it was not obeyed
	Did    []Action // what was done
	Asks   bool     // an answer is due, and is noted behind
	Answer *Answer  // nil: none was noted
}

// Answer is what a device said to a command.
type Answer struct {
	Due     time.Time
	How     How
	Body    []byte
	Sent    time.Time // zero: never
	At      time.Time // of the outcome
	Outcome outcome.Outcome
	Code    int
	Text    string
}

// How is how a device answers.
type How uint8

// The ways of answering.
const (
	Right How = iota
	Wrong     // on purpose
	Never     // on purpose
)

func (h How) String() string { return [...]string{"right", "wrong", "never"}[min(h, Never)] }

// Round is when a round sent.
type Round struct {
	N          int
	Begin, End time.Time
	Clock      time.Time // when the plan's clock began; zero: with the round
	Speed      string    // of that clock; empty: that of any other
	Over       time.Time // when the devices had stopped; zero: it is not known
	Stopped    time.Time // what the plan's clock showed then
	Open       int       // messages that were under way when the time of the plan was over
	// Plan is which round of the plan it is, and From how far into it it begins: more than 0 where it is the rest
	// of a round in which the run stopped.
	Plan int
	From time.Duration
}

// Resumed is that a run went on with its plan.
type Resumed struct {
	At, Stopped time.Time
	Killed      bool // its process was killed: what it sent last is not known
}

// Window is the time that all of a round lies in: on our clock, and on the plan's, which the
// time stamps of its messages follow. Without an end, it goes to now.
func (r *Round) Window(now time.Time) (from, to time.Time) {
	from, to = r.Begin, r.End
	if to.IsZero() || r.Over.After(to) {
		to = r.Over
	}
	if to.IsZero() {
		to = now
	}
	if r.Clock.IsZero() {
		return from, to
	}
	if r.Clock.Before(from) {
		from = r.Clock
	}
	if r.Stopped.After(to) {
		to = r.Stopped
	}
	return from, to
}

// LeftSessions are sessions that devices left on the broker of a link.
type LeftSessions struct {
	Link    string        `json:"link"`
	Devices int           `json:"devices"`
	Kept    time.Duration `json:"-"` // how long the broker keeps them; 0: without end
}

// Retained are topics on which devices published retained messages, at the broker of a link.
type Retained struct {
	Link   string `json:"link"`
	Topics int    `json:"topics"`
}

// Alert is what the platform must say by itself.
type Alert struct {
	Name    string
	Witness int // that hears it
	Within  time.Duration
	Fields  []string // by whose values it is called for
	Said    []Said
	More    int // beyond MostSaid
}

// Said is that the platform said something by itself.
type Said struct {
	Alert   int
	Stream  int    // the first of the device that it is about; -1: of none of the run
	Device  string // as the platform calls it
	Seen    time.Time
	Stored  time.Time // by the platform's clock; zero where it does not tell
	Row     uint64    // digest of the row's identity; 0: none is told
	Perhaps bool      // it may be another delivery of an earlier one
	Text    string    // what was heard, clipped
}

// MostSaid bounds how much of an alert is kept: of more, only the number.
const MostSaid = 1_000_000

// Still is a time in which the process that played stood still.
type Still struct{ From, To time.Time }

// mostStill bounds how many of them are kept.
const mostStill = 10_000

// Gap is a time in which a witness could not hear.
type Gap struct {
	From, To time.Time // To is zero for: to the end
	Kept     bool      // the broker kept messages of QoS 1 and 2 for it, as far as its queue goes
	Lag      bool      // it heard, but late: the broker may have dropped messages for it
	Whole    bool      // it heard late, but no more waited for it than brokers keep: nothing was dropped
	Why      string
}

// Witness is a witness and how it was heard.
type Witness struct {
	Name   string
	Part   int // of the parts that are judged together, from 0
	Proof  string
	Within time.Duration
	// WatchCopies is how long it listens for a second copy behind the first, Wait how long a
	// message may take to come to it.
	WatchCopies, Wait time.Duration
	// Listens: it hears messages as they come, rather than asking for them.
	Listens bool
	// Latest: it shows only the newest message of each stream.
	Latest bool
	// Types is what it keeps of the types of values.
	Types Types
	// TimeOf says whose time the time of a row is.
	TimeOf TimeOf
	// Fields says what the platform does to some fields, as the file tells.
	Fields map[string]FieldRule

	Gaps  []Gap
	Heard map[int]Hearing // by round
	// Lost is what damaged places held of what it saw, where that is known.
	Lost      []Lost
	Sightings int
	// Clock is by how much its platform's clock is ahead of ours, as that tells itself;
	// nil where it does not.
	Clock *Offset
	// Before and Now are how many messages the platform said that it has: when the run began
	// and when it was asked last, from the same time; by the first stream of a device, or at
	// -1 in all. Nil where it was not asked.
	Before, Now map[int]int64
	From        time.Time
}

// TimeOf says whose time the time of a row is.
type TimeOf uint8

// Whose time it may be.
const (
	TimeOfAnybody  TimeOf = iota // the file does not say: it is found out
	TimeOfPlatform               // when the platform stored it
	TimeOfDevice                 // when the device measured it, or sent it
)

// Types is what a store keeps of the types of values.
type Types uint8

// What stores keep.
const (
	AllTypes   Types = iota
	NoBooleans       // truth values are 0 and 1
	TextAlone        // all is text
)

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

// lost is the share of a number that a platform may lose in calculating it.
var lost, _ = decimal.Parse("1e-9")

// Apply is the number that should be found, and how far off it may be: never less than
// what a platform loses in calculating it.
func (r FieldRule) Apply(sent decimal.Number, tolerance float64) (want, allowed decimal.Number) {
	scaled, offset := sent, decimal.Float(r.Offset)
	if r.Factor != 0 {
		scaled = sent.Mul(decimal.Float(r.Factor))
	}
	allowed = decimal.Float(tolerance)
	for _, part := range []decimal.Number{scaled, offset} {
		if x := part.Abs().Mul(lost); x.Cmp(allowed) > 0 {
			allowed = x
		}
	}
	return scaled.Add(offset), allowed
}

// Counts is the proof of a witness that tells how many messages there are.
const Counts = "counts"

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

// Actions is what events did to devices.
type Actions struct {
	// Events are the actions of each event, in the order in which they first came.
	Events []EventActions
	// Breaks are when the plan disturbed a device's connections, by its first stream.
	Breaks map[int][]Break
}

// EventActions is how often one action of one event was done.
type EventActions struct {
	Event   string    `json:"event"`
	Kind    string    `json:"action"`
	Name    string    `json:"name,omitempty"`
	Value   string    `json:"value,omitempty"` // an example
	Times   int       `json:"times"`
	Devices int       `json:"devices"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Failed  int       `json:"failed,omitempty"` // times that it could not be done
	Why     string    `json:"why,omitempty"`    // the first of these could not
	// Stretches are when it lasted for some device, in order; what is over at once has no length.
	Stretches []Stretch `json:"-"`
	devices   map[int]bool
	open      map[int]opened    // devices for which it lasts
	rest      map[int]time.Time // by round: since when it lasted to the end of it
}

// Stretch is a time from one moment to another.
type Stretch struct{ From, To time.Time }

// opened is since when an action lasts for a device, and in which round.
type opened struct {
	from  time.Time
	round int
}

// mostStretches is how many stretches of an action are told apart.
const mostStretches = 500

// lasted adds a stretch: those that touch are one.
func (e *EventActions) lasted(from, to time.Time) {
	list := e.Stretches
	if to.Before(from) {
		to = from
	}
	first := sort.Search(len(list), func(i int) bool { return !list[i].To.Before(from) })
	last := first
	for ; last < len(list) && !list[last].From.After(to); last++ {
		if list[last].From.Before(from) {
			from = list[last].From
		}
		if list[last].To.After(to) {
			to = list[last].To
		}
	}
	if list = slices.Replace(list, first, last, Stretch{from, to}); len(list) > mostStretches { // the nearest two are one
		near := 0
		for i := range len(list) - 1 {
			if list[i+1].From.Sub(list[i].To) < list[near+1].From.Sub(list[near].To) {
				near = i
			}
		}
		list[near].To = list[near+1].To
		list = slices.Delete(list, near+1, near+2)
	}
	e.Stretches = list
}

// took notes when an action began, or ended, for a device.
func (e *EventActions) took(x *Done) {
	before, is := e.open[x.Stream]
	switch {
	case x.Over && is:
		e.lasted(before.from, x.At)
		delete(e.open, x.Stream)
	case x.Over || is && before.round == x.Round: // it lasts already
	case !x.Lasts:
		e.lasted(x.At, x.At)
	default:
		if is {
			e.rests(before)
		}
		if e.open == nil {
			e.open = map[int]opened{}
		}
		e.open[x.Stream] = opened{x.At, x.Round}
	}
}

// rests notes what lasts to the end of its round.
func (e *EventActions) rests(x opened) {
	if e.rest == nil {
		e.rest = map[int]time.Time{}
	}
	if t, is := e.rest[x.round]; !is || x.from.Before(t) {
		e.rest[x.round] = x.from
	}
}

// Done is what events did so far, of a ledger with these rounds that was written last at last:
// what lasts to the end of a round ends with it.
func (l *Actions) Done(rounds []Round, last time.Time) []EventActions {
	list := slices.Clone(l.Events)
	for i := range list {
		e := &list[i]
		e.Stretches, e.rest = slices.Clone(e.Stretches), maps.Clone(e.rest)
		for _, x := range e.open {
			e.rests(x)
		}
		for _, n := range slices.Sorted(maps.Keys(e.rest)) {
			to := last
			for k, r := range rounds {
				switch {
				case r.N != n:
				case !r.Over.IsZero():
					to = r.Over
				case k+1 < len(rounds):
					to = rounds[k+1].Begin
				}
			}
			e.lasted(e.rest[n], to)
		}
	}
	return list
}

// Break is a time in which the plan disturbed a device's connections. To is zero: to the end.
type Break struct {
	From, To      time.Time
	Deaf          bool // what was just sent without an acknowledgement may be lost
	event, action string
}

// mostBreaks bounds how many breaks of a device are kept; more of them are one.
const mostBreaks = 1000

func (l *Actions) add(x *Done) {
	if x.Disturbs {
		l.breaks(x)
	}
	if x.Event == "" {
		return
	}
	at := slices.IndexFunc(l.Events, func(e EventActions) bool {
		return e.Event == x.Event && e.Kind == x.Action.Kind && e.Name == x.Action.Name
	})
	if at < 0 {
		if x.Over || len(l.Events) >= mostReasons {
			return
		}
		at = len(l.Events)
		l.Events = append(l.Events, EventActions{Event: x.Event, Kind: x.Action.Kind, Name: x.Action.Name,
			Value: x.Action.Value, First: x.At, devices: map[int]bool{}})
	}
	e := &l.Events[at]
	if x.Why == "" {
		e.took(x)
	}
	if x.Over {
		return
	}
	if x.At.Before(e.First) {
		e.First = x.At
	}
	if x.At.After(e.Last) {
		e.Last = x.At
	}
	if !e.devices[x.Stream] {
		e.devices[x.Stream] = true
		e.Devices++
	}
	if x.Why != "" {
		if e.Failed++; e.Why == "" {
			e.Why = x.Why
		}
		return
	}
	e.Times++
}

func (l *Actions) breaks(x *Done) {
	if l.Breaks == nil {
		l.Breaks = map[int][]Break{}
	}
	list := l.Breaks[x.Stream]
	if x.Over {
		for i := len(list) - 1; i >= 0; i-- {
			if b := &list[i]; b.To.IsZero() && b.event == x.Event && b.action == x.Action.Kind {
				b.To = x.At
				return
			}
		}
		return
	}
	if n := len(list); n >= mostBreaks { // the rest is one
		list[n-1].To, list[n-1].Deaf, list[n-1].action = time.Time{}, true, ""
		return
	}
	l.Breaks[x.Stream] = append(list, Break{From: x.At, Deaf: x.Broke, event: x.Event, action: x.Action.Kind})
}

// Facts is what a ledger tells beside the messages: it does not grow with their number.
type Facts struct {
	Run, Crowd string
	Name       string // what a part of a run is called
	Start      time.Time
	Streams    []Stream
	// Last is, by stream, the last sequence number that is known to have been due.
	Last      []uint64
	Rounds    []Round
	Played    time.Time // when the last message of the last round was due
	Witnesses []Witness
	Alerts    []Alert
	Links     Links
	Left      []LeftSessions
	Actions   Actions
	Retained  []Retained
	// Still are the times in which the process that played stood still, in their order.
	Still []Still
	// Turns is how that process got its turns.
	Turns clock.Turns

	// Resumed are the times at which the run went on.
	Resumed     []Resumed
	Ended       bool // the run came to its own end; false after a kill
	Interrupted bool
	LastWrite   time.Time
	Good        int64 // bytes that could be read
	Torn        int64 // bytes that were not written whole, because their process was killed
	Damage      []Damage
	// Lost: blocks are missing that told of messages.
	Lost bool

	// skipped are, by stream, the sequence numbers that killed processes may have used.
	skipped map[int]Spans

	parts []*Facts // those that this is made of; nil: it is of one ledger
	owner []int32  // by stream: which of them plays it; -1: none
}

// Skipped tells whether a sequence number was left out: a process that was killed may have used it, and nothing
// is known of it.
func (f *Facts) Skipped(stream int, seq uint64) bool { return f.Of(stream).skipped[stream].Has(seq) }

// SkippedTo is the last of the sequence numbers in a row that were left out, from one on; 0: that one was not.
func (f *Facts) SkippedTo(stream int, seq uint64) uint64 {
	list := f.Of(stream).skipped[stream]
	if i := list.at(seq); i < len(list) && list[i].from <= seq {
		return list[i].to - 1
	}
	return 0
}

// Killed tells whether the process that sent a message was killed: it may not have written what became of it.
func (f *Facts) Killed(stream int, seq uint64) bool {
	f = f.Of(stream)
	if !f.Ended {
		return true
	}
	last := f.skipped[stream]
	return len(last) > 0 && seq < last[len(last)-1].to
}

// Settled tells whether the ledger has all that was written of a message: its process came to its own end, and
// nothing is damaged.
func (f *Facts) Settled(stream int, seq uint64) bool {
	return !f.Killed(stream, seq) && !f.Of(stream).Lost
}

// Whole tells whether the ledger has all that was written of messages: the run came to
// its own end, and nothing of it is damaged.
func (f *Facts) Whole() bool { return f.Ended && !f.Lost }
