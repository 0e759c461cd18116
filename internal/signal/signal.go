package signal

import (
	"fmt"
	"math"
	"math/bits"
	"slices"
	"sort"
	"strings"
	"time"

	"runcrowd/internal/quantity"
)

// Moment is all that a value may depend on.
type Moment struct {
	Key     uint64        // identifies seed, device, reading and field; see Key
	Seq     uint64        // the message's sequence number, from 1
	Time    time.Time     // when the message is due
	Elapsed time.Duration // since the round began
	Tick    uint64        // messages of this round before this one
	Every   time.Duration // the reading's interval
	Jitter  time.Duration // how much of Time is jitter
	Body    uint64        // identifies the device: what moves together depends on it
	Clock   time.Duration // by how much the device's own clock is ahead
	Since   uint64        // messages before the device last began to count anew
}

// Back is the moment k messages earlier on the schedule without jitter. It does
// not go back behind the first message or the beginning of the round.
func (m Moment) Back(k uint64) Moment {
	if m.Seq > 0 {
		k = min(k, m.Seq-1)
	}
	d := m.Jitter + time.Duration(k)*m.Every
	m.Seq -= k
	m.Tick -= min(k, m.Tick)
	m.Jitter = 0
	m.Time = m.Time.Add(-d)
	m.Elapsed = max(0, m.Elapsed-d)
	return m
}

// Earlier is the moment a lag earlier, as if a message were due then. It does
// not go back behind the beginning of the round.
func (m Moment) Earlier(lag time.Duration) Moment {
	lag = min(lag, m.Elapsed)
	if m.Every > 0 {
		k := min(uint64(lag/m.Every), m.Seq-min(1, m.Seq))
		m.Seq -= k
		m.Tick -= min(k, m.Tick)
	}
	m.Time = m.Time.Add(-lag)
	m.Elapsed -= lag
	return m
}

// Signal makes one value for a moment. Implementations are immutable and safe
// for use from any number of goroutines.
type Signal interface {
	At(m Moment) Value
}

type signalFunc func(Moment) Value

func (f signalFunc) At(m Moment) Value { return f(m) }

// specs is every signal, group by group.
var specs = slices.Concat(steady, waves, chances, storages, places, records)

// Key folds a seed and names into the key of a stream of values (FNV-1a, 64 bit,
// with a final mix). Names are kept apart: ("ab", "c") is not ("a", "bc").
func Key(seed uint64, names ...string) uint64 {
	h := uint64(14695981039346656037) ^ mix(seed)
	for _, n := range names {
		for i := 0; i < len(n); i++ {
			h = (h ^ uint64(n[i])) * 1099511628211
		}
		h = (h ^ 0x1ff) * 1099511628211
	}
	return mix(h)
}

// mix is the finaliser of SplitMix64 (Steele, Lea and Flood, 2014).
func mix(z uint64) uint64 {
	z += 0x9e3779b97f4a7c15
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}

// Uniform is the i-th uniform number in [0, 1) of a key and sequence number.
func Uniform(key, seq, i uint64) float64 {
	return float64(mix(key^bits.RotateLeft64(mix(seq), 17)^(i*0xd1342543de82ef95))>>11) / (1 << 53)
}

// Order is the place of the i-th of n things in an order that is drawn from a key:
// another for each key, and every place taken once (a Feistel network of four
// rounds on the smallest square of a power of two above n; numbers that fall
// outside go round again). i must be below n.
func Order(key, i, n uint64) uint64 {
	half := uint((bits.Len64(max(n, 2)-1) + 1) / 2)
	mask := uint64(1)<<half - 1
	for {
		left, right := i>>half, i&mask
		for round := uint64(0); round < 4; round++ {
			left, right = right, left^(mix(key^right^round<<60)&mask)
		}
		if i = left<<half | right; i < n {
			return i
		}
	}
}

// Gauss is a standard normal number (Box and Muller, 1958).
func Gauss(key, seq, i uint64) float64 {
	u := 1 - Uniform(key, seq, i)
	return math.Sqrt(-2*math.Log(u)) * math.Cos(2*math.Pi*Uniform(key, seq, i+1))
}

// ParamType says how a parameter is written.
type ParamType uint8

// The types of parameters.
const (
	Number    ParamType = iota // 12.5
	Duration                   // 9s
	Length                     // 15m, in metres
	Clock                      // "15:00", as time since midnight
	Where                      // 58.02,-6.41, or the name of a property that is a position
	Values                     // a list of plain values
	Word                       // one of Param.Words
	Numbers                    // a list of numbers
	Share                      // 10%, as a fraction of one
	Flag                       // true or false
	Day                        // "07-15", as the number of the day in the year, from 0
	Speed                      // 5kn, in metres a second
	Route                      // a list of positions
	States                     // for each state, where it goes with which chance
	Plain                      // any text
	Data                       // the name of a file that holds recorded values
	FieldName                  // the name of an earlier field of the reading
)

func (t ParamType) String() string {
	return [...]string{"a number", "a duration such as 9s", "a length such as 15m", "a time of day such as \"15:00\"",
		"a position or the name of a property that is one", "a list of values", "a word", "a list of numbers",
		"a percentage such as 10%", "true or false", "a day of the year such as \"07-15\"", "a speed such as 5kn",
		"a list of positions", "states, each with its chances: {idle: {busy: 10%}, busy: {idle: 30%}}", "a text",
		"the name of a CSV or JSON Lines file", "the name of an earlier field"}[t]
}

// Param describes one parameter of a signal.
type Param struct {
	Name     string
	Type     ParamType
	Default  any // nil: must be given
	Optional bool
	Words    []string // for Word
	Doc      string
}

// Args holds a value for each parameter: float64 (Number, Share, Length in
// metres, Speed in metres a second), time.Duration (Duration and Clock), int
// (Day), bool, string, quantity.Position, []quantity.Position, []Value,
// []float64, []State or *Recording.
type Args map[string]any

// Spec describes a signal: what it is called, what it takes and gives.
type Spec struct {
	Name    string
	Doc     string
	Group   string // what it has in common with others, for lists
	Gives   Type   // Null where the parameters decide
	Unit    string // of the values, where it is fixed
	Params  []Param
	Example string // a field of a crowd file
	make    func(Args) (Signal, error)
}

// Param finds a parameter by name.
func (s *Spec) Param(name string) (Param, bool) {
	for _, p := range s.Params {
		if p.Name == name {
			return p, true
		}
	}
	return Param{}, false
}

// Between is which parameters make a signal give values from low to high, or nearly all of its
// values: what min and max mean where none of these parameters is given. Nil: none do.
func (s *Spec) Between(low, high float64) Args {
	middle, width := low/2+high/2, high-low
	_, bottom := s.Param("low")
	_, top := s.Param("high")
	switch {
	case s.Name == "normal":
		return Args{"mean": middle, "spread": width / 6}
	case s.Name == "swell":
		return Args{"mean": middle, "height": width}
	case s.Name == "tide":
		return Args{"mean": middle, "range": width}
	case bottom && top:
		return Args{"low": low, "high": high}
	}
	return nil
}

// common are names that others give to what a signal of ours does.
var common = map[string]string{"random": "uniform", "rand": "uniform", "range": "uniform", "randint": "whole",
	"integer": "whole", "int": "whole", "gauss": "normal", "gaussian": "normal", "noise": "normal", "random_walk": "walk",
	"randomwalk": "walk", "brownian": "walk", "sine": "tide", "sin": "tide", "sinus": "tide", "cosine": "tide",
	"wave": "swell", "square": "pulse", "toggle": "switch", "triangle": "saw", "sawtooth": "saw", "enum": "choice",
	"list": "choice", "pick": "choice", "bool": "choice", "boolean": "choice", "string": "text", "regex": "text",
	"step": "steps", "sequence": "counter", "increment": "counter", "linear": "ramp", "fixed": "constant",
	"static": "constant", "value": "constant", "timestamp": "clock", "time": "clock", "now": "clock", "datetime": "clock",
	"gps": "wander", "position": "wander", "location": "wander", "geo": "wander", "track": "route", "path": "route",
	"battery": "drain", "csv": "recorded", "file": "recorded", "replay": "recorded", "markov": "states",
	"state": "states", "imu": "acceleration", "accelerometer": "acceleration", "gyroscope": "rotation"}

// Meant is the signal that does what is elsewhere called so.
func Meant(name string) (*Spec, bool) {
	if ours, is := common[strings.ToLower(name)]; is {
		return Find(ours)
	}
	return nil, false
}

// Make builds the signal. Defaults fill what args lacks; an error says which
// parameter is wrong and why.
func (s *Spec) Make(args Args) (Signal, error) {
	full := Args{}
	for _, p := range s.Params {
		v, given := args[p.Name]
		switch {
		case given:
			full[p.Name] = v
		case p.Default != nil:
			full[p.Name] = p.Default
		case !p.Optional:
			return nil, fmt.Errorf("the signal %q needs %q: %s", s.Name, p.Name, p.Doc)
		}
	}
	return s.make(full)
}

// Find looks a signal up by name.
func Find(name string) (*Spec, bool) {
	for i := range specs {
		if specs[i].Name == name {
			return &specs[i], true
		}
	}
	return nil, false
}

// All lists all signals, those of a group together.
func All() []*Spec {
	list := make([]*Spec, len(specs))
	for i := range specs {
		list[i] = &specs[i]
	}
	return list
}

// Names lists all signals in alphabetical order.
func Names() []string {
	names := make([]string, len(specs))
	for i := range specs {
		names[i] = specs[i].Name
	}
	sort.Strings(names)
	return names
}

func (a Args) num(name string) float64          { v, _ := a[name].(float64); return v }
func (a Args) dur(name string) time.Duration    { v, _ := a[name].(time.Duration); return v }
func (a Args) flag(name string) bool            { v, _ := a[name].(bool); return v }
func (a Args) word(name string) string          { v, _ := a[name].(string); return v }
func (a Args) place(n string) quantity.Position { v, _ := a[n].(quantity.Position); return v }

func positive(a Args, name string) error {
	switch v := a[name].(type) {
	case time.Duration:
		if v <= 0 {
			return fmt.Errorf("%s must be above zero, not %s", name, quantity.FormatDuration(v))
		}
	case float64:
		if !(v > 0) {
			return fmt.Errorf("%s must be above zero, not %g", name, v)
		}
	}
	return nil
}

func seconds(t time.Time) float64 { return float64(t.UnixMicro()) / 1e6 }

// turn is the angle at time t of a wave of a period; the remainder is taken
// first, so that decades since 1970 cost no precision.
func turn(t, period, phase float64) float64 {
	return 2 * math.Pi * (math.Mod(t, period)/period + phase)
}
