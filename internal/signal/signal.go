// Package signal makes values over time.
//
// A signal is pure: its value depends on the Moment alone, never on what was
// asked before, on other devices or on the order of goroutines. A walk is
// therefore a sum of slow waves with seeded phases, not a running state, and
// any one value of any one device can be made again without the rest.
package signal

import (
	"fmt"
	"math"
	"math/bits"
	"sort"
	"time"

	"runcrowd/internal/quantity"
)

// Moment is all that a value may depend on.
type Moment struct {
	Key     uint64        // identifies seed, device, reading and field; see Key
	Seq     uint64        // the message's sequence number, from 1
	Time    time.Time     // when the message is due
	Elapsed time.Duration // since the round began
}

// Signal makes one value for a moment. Implementations are immutable and safe
// for use from any number of goroutines.
type Signal interface {
	At(m Moment) Value
}

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

// gauss is a standard normal number (Box and Muller, 1958).
func gauss(key, seq, i uint64) float64 {
	u := 1 - Uniform(key, seq, i)
	return math.Sqrt(-2*math.Log(u)) * math.Cos(2*math.Pi*Uniform(key, seq, i+1))
}

// ParamType says how a parameter is written.
type ParamType uint8

// The types of parameters.
const (
	Number   ParamType = iota // 12.5
	Duration                  // 9s
	Length                    // 15m, in metres
	Clock                     // "15:00", as time since midnight
	Where                     // 58.02,-6.41, or the name of a property that is a position
	Values                    // a list of plain values
	Word                      // one of Param.Words
)

func (t ParamType) String() string {
	return [...]string{"a number", "a duration such as 9s", "a length such as 15m", "a time of day such as \"15:00\"",
		"a position or the name of a property that is one", "a list of values", "a word"}[t]
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

// Args holds a value for each parameter: float64, time.Duration (Duration and
// Clock), float64 metres (Length), quantity.Position, []Value or string.
type Args map[string]any

// Spec describes a signal: what it is called, what it takes and gives.
type Spec struct {
	Name   string
	Doc    string
	Gives  Type
	Params []Param
	make   func(Args) (Signal, error)
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

type signalFunc func(Moment) Value

func (f signalFunc) At(m Moment) Value { return f(m) }

var specs = []Spec{
	{
		Name: "constant", Gives: Null, Doc: "always the same value",
		Params: []Param{{Name: "value", Type: Values, Doc: "the value: a number, a text, true or false"}},
		make: func(a Args) (Signal, error) {
			list, _ := a["value"].([]Value)
			if len(list) != 1 {
				return nil, fmt.Errorf("value must be one value, not %d", len(list))
			}
			v := list[0]
			return signalFunc(func(Moment) Value { return v }), nil
		},
	},
	{
		Name: "uniform", Gives: Float, Doc: "a number anywhere between low and high, all alike likely",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest value"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "the highest value"},
		},
		make: func(a Args) (Signal, error) {
			low, high := a.num("low"), a.num("high")
			if low > high {
				return nil, fmt.Errorf("low %g is above high %g", low, high)
			}
			return signalFunc(func(m Moment) Value {
				return OfFloat(low + (high-low)*Uniform(m.Key, m.Seq, 0))
			}), nil
		},
	},
	{
		Name: "normal", Gives: Float, Doc: "a number spread around a mean as by the normal distribution",
		Params: []Param{
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the middle"},
			{Name: "spread", Type: Number, Default: 1.0, Doc: "the standard deviation"},
		},
		make: func(a Args) (Signal, error) {
			mean, spread := a.num("mean"), a.num("spread")
			if spread < 0 {
				return nil, fmt.Errorf("spread must not be negative, not %g", spread)
			}
			return signalFunc(func(m Moment) Value { return OfFloat(mean + spread*gauss(m.Key, m.Seq, 0)) }), nil
		},
	},
	{
		Name: "swell", Gives: Float, Doc: "the height of the sea's surface: five sines with periods within a third of the given one",
		Params: []Param{
			{Name: "height", Type: Number, Default: 1.0, Doc: "significant height, crest to trough: four times the standard deviation"},
			{Name: "period", Type: Duration, Default: 8 * time.Second, Doc: "the middle period"},
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the level it moves around"},
		},
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			const n = 5
			amp := a.num("height") / 4 / math.Sqrt(n/2.0)
			period, mean := a.dur("period").Seconds(), a.num("mean")
			return signalFunc(func(m Moment) Value {
				t := seconds(m.Time)
				sum := mean
				for i := uint64(0); i < n; i++ {
					p := period * (2.0/3 + 2.0/3*(float64(i)+Uniform(m.Key, 0, 2*i))/n)
					sum += amp * math.Sin(turn(t, p, Uniform(m.Key, 0, 2*i+1)))
				}
				return OfFloat(sum)
			}), nil
		},
	},
	{
		Name: "daily", Gives: Float, Doc: "a smooth wave with one top each day (UTC)",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest value, half a day from the top"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "the highest value"},
			{Name: "peak", Type: Clock, Default: 15 * time.Hour, Doc: "the time of day of the top"},
		},
		make: func(a Args) (Signal, error) {
			mid, amp := (a.num("high")+a.num("low"))/2, (a.num("high")-a.num("low"))/2
			peak := a.dur("peak").Seconds()
			return signalFunc(func(m Moment) Value {
				return OfFloat(mid + amp*math.Cos(turn(seconds(m.Time)-peak, 86400, 0)))
			}), nil
		},
	},
	{
		Name: "tide", Gives: Float, Doc: "a slow wave that is the same for every device that has the same phase",
		Params: []Param{
			{Name: "range", Type: Number, Default: 2.0, Doc: "from low water to high water"},
			{Name: "period", Type: Duration, Default: 12*time.Hour + 25*time.Minute, Doc: "from one high water to the next"},
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the level it moves around"},
			{Name: "phase", Type: Duration, Default: time.Duration(0), Doc: "how much later the tide is here"},
		},
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			amp, mean := a.num("range")/2, a.num("mean")
			period, phase := a.dur("period").Seconds(), a.dur("phase").Seconds()
			return signalFunc(func(m Moment) Value {
				return OfFloat(mean + amp*math.Cos(turn(seconds(m.Time)-phase, period, 0)))
			}), nil
		},
	},
	{
		Name: "drain", Gives: Float, Doc: "a store that empties evenly from the beginning of the round",
		Params: []Param{
			{Name: "from", Type: Number, Default: 100.0, Doc: "the value at the beginning"},
			{Name: "per_hour", Type: Number, Default: 1.0, Doc: "how much it loses in an hour"},
			{Name: "to", Type: Number, Default: 0.0, Doc: "where it stops"},
		},
		make: func(a Args) (Signal, error) {
			from, rate, to := a.num("from"), a.num("per_hour"), a.num("to")
			if to > from {
				return nil, fmt.Errorf("to %g is above from %g", to, from)
			}
			return signalFunc(func(m Moment) Value {
				return OfFloat(math.Max(to, from-rate*m.Elapsed.Hours()))
			}), nil
		},
	},
	{
		Name: "ramp", Gives: Float, Doc: "an even way from one value to another, then it stays",
		Params: []Param{
			{Name: "from", Type: Number, Default: 0.0, Doc: "the value at the beginning of the round"},
			{Name: "to", Type: Number, Default: 1.0, Doc: "the value at the end"},
			{Name: "over", Type: Duration, Default: time.Minute, Doc: "how long it takes"},
		},
		make: func(a Args) (Signal, error) {
			if err := positive(a, "over"); err != nil {
				return nil, err
			}
			from, to, over := a.num("from"), a.num("to"), a.dur("over").Seconds()
			return signalFunc(func(m Moment) Value {
				return OfFloat(from + (to-from)*math.Min(1, math.Max(0, m.Elapsed.Seconds()/over)))
			}), nil
		},
	},
	{
		Name: "counter", Gives: Int, Doc: "a whole number that grows with every message",
		Params: []Param{
			{Name: "from", Type: Number, Default: 1.0, Doc: "the value of the first message"},
			{Name: "step", Type: Number, Default: 1.0, Doc: "how much it grows"},
		},
		make: func(a Args) (Signal, error) {
			from, step := a.num("from"), a.num("step")
			if from != math.Trunc(from) || step != math.Trunc(step) {
				return nil, fmt.Errorf("from and step must be whole numbers, not %g and %g", from, step)
			}
			return signalFunc(func(m Moment) Value { return OfInt(int64(from) + int64(m.Seq-1)*int64(step)) }), nil
		},
	},
	{
		Name: "choice", Gives: Null, Doc: "one of a list of values, all alike likely",
		Params: []Param{{Name: "of", Type: Values, Doc: "the list to choose from"}},
		make: func(a Args) (Signal, error) {
			list, _ := a["of"].([]Value)
			if len(list) == 0 {
				return nil, fmt.Errorf("of is empty: there is nothing to choose from")
			}
			return signalFunc(func(m Moment) Value {
				return list[int(Uniform(m.Key, m.Seq, 0)*float64(len(list)))]
			}), nil
		},
	},
	{
		Name: "wander", Gives: Place, Doc: "a position that drifts about a place and never leaves the radius",
		Params: []Param{
			{Name: "around", Type: Where, Doc: "the middle"},
			{Name: "radius", Type: Length, Default: 10.0, Doc: "how far it may go"},
			{Name: "period", Type: Duration, Default: 10 * time.Minute, Doc: "about how long it takes there and back"},
		},
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			around, period := a.place("around"), a.dur("period").Seconds()
			const n = 3
			// Two axes of n sines each: no sum leaves the circle.
			amp := a.num("radius") / n / math.Sqrt2
			return signalFunc(func(m Moment) Value {
				t := seconds(m.Time)
				var axis [2]float64
				for i := uint64(0); i < 2*n; i++ {
					p := period * (0.5 + Uniform(m.Key, 0, 2*i))
					axis[i%2] += amp * math.Sin(turn(t, p, Uniform(m.Key, 0, 2*i+1)))
				}
				p := around.Offset(axis[0], axis[1])
				// Six decimals are a tenth of a metre.
				p.Lat, p.Lon = math.Round(p.Lat*1e6)/1e6, math.Round(p.Lon*1e6)/1e6
				return OfPlace(p)
			}), nil
		},
	},
	{
		Name: "clock", Gives: Null, Doc: "the time at which the message is due",
		Params: []Param{{Name: "as", Type: Word, Default: "rfc3339", Words: []string{"rfc3339", "s", "ms", "us"},
			Doc: "RFC 3339 text in UTC, or whole seconds, milliseconds or microseconds since 1970"}},
		make: func(a Args) (Signal, error) {
			switch a["as"] {
			case "s":
				return signalFunc(func(m Moment) Value { return OfInt(m.Time.Unix()) }), nil
			case "ms":
				return signalFunc(func(m Moment) Value { return OfInt(m.Time.UnixMilli()) }), nil
			case "us":
				return signalFunc(func(m Moment) Value { return OfInt(m.Time.UnixMicro()) }), nil
			}
			return signalFunc(func(m Moment) Value {
				return OfText(m.Time.UTC().Format("2006-01-02T15:04:05.000Z"))
			}), nil
		},
	},
}

func seconds(t time.Time) float64 { return float64(t.UnixMicro()) / 1e6 }

// turn is the angle at time t of a wave of a period; the remainder is taken
// first, so that decades since 1970 cost no precision.
func turn(t, period, phase float64) float64 {
	return 2 * math.Pi * (math.Mod(t, period)/period + phase)
}

// Finish lays the options that go with any signal over its value: noise
// (standard deviation), a floor and a ceiling, and rounding, in this order.
type Finish struct {
	Noise    float64
	Min, Max *float64
	Decimals *int
}

// Apply finishes a number; other values come back as they are.
func (f *Finish) Apply(m Moment, v Value) Value {
	if v.typ == Float || v.typ == Int && (f.Noise != 0 || f.Min != nil || f.Max != nil) {
		x := v.Float()
		if f.Noise != 0 {
			x += f.Noise * gauss(m.Key, m.Seq, 1000)
		}
		if f.Min != nil {
			x = math.Max(x, *f.Min)
		}
		if f.Max != nil {
			x = math.Min(x, *f.Max)
		}
		v = OfFloat(x)
	}
	if f.Decimals != nil {
		v = v.Round(*f.Decimals)
	}
	return v
}
