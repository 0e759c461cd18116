package crowd

import (
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Action is something that is done to a device, and perhaps undone later: by an event of
// the plan or by a command. Its texts know what asks for it.
type Action struct {
	Kind ActionKind
	Pos  Pos
	// Name is the property or the field that is concerned, or the command that is given.
	Name string
	// Reading is the one that is concerned; empty: all that there are.
	Reading string
	// Value is the new interval, the new value, or the topic of a corrupted message.
	Value *formula.Text
	// Sample is of the type that a set property or field has.
	Sample any
	Field  bool // Name is a field
	Times  int  // send: how often; repeat: how often more
	By     float64
	Never  bool // interval: no message is due

	Offline    Offline
	Restart    Restart
	Clock      Clock
	Network    Network
	Credential Credential
	Corrupt    Corrupt
	Command    *Command
	Ask        []Match // what the command is given with
	Link       *Link   // as whom, over MQTT
}

// ActionKind is a kind of action.
type ActionKind uint8

// The kinds of actions, in the order in which those of one event are done.
const (
	ActionRegister   ActionKind = iota // the device is registered with the platform
	ActionCredential                   // it shows other credentials
	ActionSet                          // a property or a field has another value
	ActionStuck                        // a field freezes
	ActionErratic                      // a field jumps
	ActionMissing                      // a field is left out
	ActionClock                        // the device's own time is off
	ActionNetwork                      // its network is slow, or breaks
	ActionInterval                     // a reading is sent at another interval
	ActionCorrupt                      // bodies are not what they should be
	ActionRepeat                       // messages go out more than once
	ActionSwap                         // two messages change places
	ActionConnect                      // the device comes only now
	ActionOffline                      // it is not connected
	ActionRestart                      // it is off for a while, and begins anew
	ActionSend                         // a reading is sent now, beside its schedule
	ActionCommand                      // the platform is made to give a command
	ActionLeave                        // it leaves
	ActionUnregister                   // it is removed from the platform
)

// ActionNames are the kinds as the file names them.
var ActionNames = [...]string{"register", "credential", "set", "stuck", "erratic", "missing", "clock", "network",
	"every", "corrupt", "repeat", "swap", "connect", "offline", "restart", "send", "command", "leave", "unregister"}

func (k ActionKind) String() string { return ActionNames[k] }

// Momentary tells whether an action without an end is over when it is done.
func (k ActionKind) Momentary() bool {
	switch k {
	case ActionRegister, ActionSend, ActionCommand, ActionConnect:
		return true
	}
	return false
}

// Outside tells whether an action needs the platform's side, and is done only later.
func (k ActionKind) Outside() bool {
	return k == ActionRegister || k == ActionCommand || k == ActionUnregister
}

// Replaces tells whether an action that is done again takes the place of the one before.
func (k ActionKind) Replaces() bool {
	return k == ActionCredential || k == ActionSet || k == ActionNetwork || k == ActionInterval
}

// Next tells whether an action without an end concerns the next message alone.
func (k ActionKind) Next() bool { return k == ActionCorrupt || k == ActionRepeat || k == ActionSwap }

// Offline says how a device is offline.
type Offline struct {
	How Leaving
	// Idle: it measures nothing meanwhile.
	Idle bool
	// Keep is how many messages it keeps; 0: as many as the backlog of its link.
	Keep int
	// Newest: where there is no room, the newest are dropped, not the oldest.
	Newest bool
	// Back is how many it sends a second when it is back; 0: as fast as they are acknowledged.
	Back quantity.Rate
	// NewestFirst: it begins with the last one.
	NewestFirst bool
}

// Leaving is a way of going offline.
type Leaving uint8

// The ways of going offline.
const (
	ByCut     Leaving = iota // the connection breaks: a reset
	Cleanly                  // as the protocol wants it
	BySilence                // no packet comes any more, and nothing is closed
)

// LeavingNames are the ways as the file names them.
var LeavingNames = []string{"cut", "clean", "silent"}

func (l Leaving) String() string { return LeavingNames[l] }

// Restart says what a device forgets when it is switched off.
type Restart struct {
	Off      time.Duration // how long, where the event does not say
	End      bool          // its session on the platform is ended
	Lose     bool          // messages that it kept are lost
	Counters bool          // counters and sequence fields begin anew
	Set      []Action      // what is changed by it
}

// Clock says how a device's own time differs: by Off, and Drift more for each unit of time.
type Clock struct {
	Off   time.Duration
	Drift float64
}

// At is by how much the clock is ahead, so long after the action.
func (c Clock) At(since time.Duration) time.Duration {
	return c.Off + time.Duration(c.Drift*float64(since))
}

// Network says what a device's network does, in both directions.
type Network struct {
	Delay, Jitter time.Duration // of every packet; Jitter is at most so much more
	Rate          float64       // bits a second; 0: no limit
	Stall         time.Duration // how long nothing passes
	StallEvery    time.Duration // from one stall to the next
	CutAfter      int64         // bytes after which a connection breaks; 0: never
}

// Credential is what a device shows in place of its own credentials.
type Credential uint8

// What a device may show.
const (
	WrongCredential Credential = iota + 1
	ExpiredCredential
	AnothersCredential
	NoCredential
)

// CredentialNames are these as the file names them, from WrongCredential on.
var CredentialNames = []string{"wrong", "expired", "of another device", "none"}

func (c Credential) String() string { return CredentialNames[c-1] }

// Corrupt is a way of corrupting a message.
type Corrupt uint8

// The ways of corrupting a message.
const (
	CorruptCut   Corrupt = iota // the end of its body is missing
	CorruptLarge                // something large stands behind its body
	CorruptForm                 // it is not of its form
	CorruptTypes                // its values have other types
	CorruptEmpty                // it has no body
	CorruptTopic                // it goes to a topic or path that is not its own
)

// CorruptNames are the ways as the file names them.
var CorruptNames = []string{"cut off", "too large", "not its form", "wrong types", "empty", "wrong topic"}

func (s Corrupt) String() string { return CorruptNames[s] }

// Event is something timed in a plan: actions that are done to devices, and undone.
type Event struct {
	Name  string // empty: none
	Label string // how it is called where it has no name
	Pos   Pos

	When  When
	At    time.Duration // of AtTime; of Every the first time
	Every time.Duration
	// After is the event that this one follows, by its place in the plan: when it begins, or
	// with Ended when it is over.
	After  int
	Ended  bool
	Delay  time.Duration
	Chance float64 // in each Per
	Per    time.Duration
	For    [2]time.Duration // how long, at least and at most; zero: for good, or for a moment
	Fresh  bool             // each round draws anew

	Who    *Selection // nil: all, or those of the event before
	Do     map[*Cast][]Action
	Expect Expect
}

// When is what an event waits for.
type When uint8

// What events wait for.
const (
	AtTime When = iota
	EveryTime
	AfterEvent
	ByChance
)

// Expect is what the platform must do with the messages of a device while something is
// done to it.
type Expect uint8

// What may be expected.
const (
	ExpectProven    Expect = iota // as of every message
	ExpectRefused                 // it must not get in, and not be found
	ExpectDiscarded               // it may be acknowledged, and must not be found
	ExpectOnce                    // it goes out more than once, and is found once
)

// ExpectNames are these as the file names them, from ExpectRefused on.
var ExpectNames = []string{"refused", "discarded", "once"}

func (x Expect) String() string {
	if x == ExpectProven {
		return "proven"
	}
	return ExpectNames[x-1]
}

// Title is how an event is called: its name, or what it does, with a number where that is not alone.
func (e *Event) Title() string {
	if e.Name != "" {
		return e.Name
	}
	return e.Label
}

// Does tells whether the event does an action of some kinds, to whichever devices.
func (e *Event) Does(kinds ...ActionKind) bool {
	for _, list := range e.Do {
		if slices.ContainsFunc(list, func(x Action) bool { return slices.Contains(kinds, x.Kind) }) {
			return true
		}
	}
	return false
}

// Lasts is how long the n-th happening of an event to a device lasts; 0 is for good, or a
// moment.
func (e *Event) Lasts(key, n uint64) time.Duration {
	d := e.For[0]
	if e.For[1] > d {
		d += time.Duration(signal.Uniform(key, n, 21) * float64(e.For[1]-d))
	}
	if d == 0 {
		for _, list := range e.Do {
			for i := range list {
				if list[i].Kind == ActionRestart {
					return list[i].Restart.Off
				}
			}
		}
	}
	return d
}

// ParseInterval reads the interval of a reading: 1 ms to 366 days.
func ParseInterval(s string) (time.Duration, error) {
	d, err := quantity.ParseDuration(s)
	if err == nil && (d < time.Millisecond || d > 366*quantity.Day) {
		err = fmt.Errorf("%s is no interval; it is 1ms at least and 366d at most", s)
	}
	return d, err
}
