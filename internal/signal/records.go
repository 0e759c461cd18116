package signal

import (
	"fmt"
	"math"
	"sort"
	"time"
)

// Recording is a series of values from a file, each with its time since the
// first in seconds. Without times there is one value for each message.
type Recording struct {
	Times  []float64
	Values []Value
	Gives  Type
}

// Follower is a signal that is made of another field's value.
type Follower interface {
	Signal
	// Source is the field it follows, and how far behind it is.
	Source() (field string, lag time.Duration)
	// Follow makes the value out of the source's value at the earlier moment.
	Follow(m Moment, source Value) Value
}

type follow struct {
	field              string
	lag                time.Duration
	gain, offset, free float64
}

func (f *follow) Source() (string, time.Duration) { return f.field, f.lag }
func (f *follow) At(Moment) Value                 { return Value{} }
func (f *follow) Follow(m Moment, source Value) Value {
	if source.typ != Int && source.typ != Float {
		return source
	}
	x := f.offset + f.gain*source.Float()
	if f.free != 0 {
		x += f.free * Gauss(m.Key, m.Seq, 0)
	}
	return number(x)
}

var records = []Spec{
	{
		Name: "clock", Group: "time and records", Doc: "the time at which the message is due, as the device's own clock " +
			"shows it",
		Params: []Param{
			{Name: "as", Type: Word, Default: "rfc3339", Words: []string{"rfc3339", "s", "ms", "us"},
				Doc: "RFC 3339 text in UTC, or whole seconds, milliseconds or microseconds since 1970"},
			{Name: "offset", Type: Duration, Default: time.Duration(0), Doc: "how much the device's clock is ahead"},
			{Name: "drift", Type: Number, Default: 0.0, Doc: "how much it gains, in millionths; counted from the beginning of " +
				"the round"},
		},
		Example: "at: {signal: clock, as: ms, offset: -2s, drift: 20}",
		make: func(a Args) (Signal, error) {
			as, offset, drift := a.word("as"), a.dur("offset"), a.num("drift")
			shown := func(m *Moment) time.Time {
				return m.Time.Add(m.Clock + offset + time.Duration(math.Round(drift*1e-6*float64(m.Elapsed))))
			}
			switch as {
			case "s":
				return signalFunc(func(m Moment) Value { return OfInt(shown(&m).Unix()) }), nil
			case "ms":
				return signalFunc(func(m Moment) Value { return OfInt(shown(&m).UnixMilli()) }), nil
			case "us":
				return signalFunc(func(m Moment) Value { return OfInt(shown(&m).UnixMicro()) }), nil
			}
			return signalFunc(func(m Moment) Value { return OfText(shown(&m).UTC().Format("2006-01-02T15:04:05.000Z")) }), nil
		},
	},
	{
		Name: "recorded", Group: "time and records", Doc: "values from a file, by column: a CSV file with a head line, or " +
			"JSON Lines",
		Params: []Param{
			{Name: "file", Type: Data, Doc: "the file, seen from the crowd file's folder"},
			{Name: "column", Type: Plain, Doc: "the column, or the member of each JSON object"},
			{Name: "time", Type: Plain, Optional: true, Doc: "the column of the time: RFC 3339, or seconds; without it, one " +
				"row for each message"},
			{Name: "again", Type: Flag, Default: true, Doc: "begin anew after the last row, or stay at it"},
			{Name: "stretch", Type: Number, Default: 1.0, Doc: "2 plays it at half the speed"},
			{Name: "offset", Type: Duration, Default: time.Duration(0), Doc: "how far into the recording this device begins; " +
				"${n * 60} sets devices a minute apart"},
			{Name: "between", Type: Word, Default: "hold", Words: []string{"hold", "line"}, Doc: "between two rows: hold the " +
				"last value, or go straight to the next"},
		},
		Example: "level_m: {signal: recorded, file: levels.csv, column: level, time: at, offset: \"${n * 60}\"}",
		make:    makeRecorded,
	},
	{
		Name: "derived", Group: "time and records", Gives: Float, Doc: "another field of the same reading, some time " +
			"later, scaled, or only loosely tied to it",
		Params: []Param{
			{Name: "field", Type: FieldName, Doc: "the field it follows; it must stand before this one"},
			{Name: "lag", Type: Duration, Default: time.Duration(0), Doc: "how far behind it is"},
			{Name: "gain", Type: Number, Default: 1.0, Doc: "what the value is multiplied with"},
			{Name: "offset", Type: Number, Default: 0.0, Doc: "what is added to it"},
			{Name: "correlation", Type: Share, Default: 1.0, Doc: "how closely it is tied: 100% follows exactly, 50% is loose " +
				"(Pearson's coefficient)"},
			{Name: "spread", Type: Number, Default: 1.0, Doc: "the standard deviation of the field it follows, for a " +
				"correlation below 100%"},
		},
		Example: "air_c: {signal: derived, field: water_c, lag: 30m, gain: 0.9, offset: 2, round: 1}",
		make: func(a Args) (Signal, error) {
			f := &follow{field: a.word("field"), lag: a.dur("lag"), gain: a.num("gain"), offset: a.num("offset")}
			if f.lag < 0 {
				return nil, fmt.Errorf("lag must not be negative: a field cannot run ahead of another")
			}
			r := a.num("correlation")
			if r <= 0 {
				return nil, fmt.Errorf("correlation must be above 0%%")
			}
			f.free = math.Abs(f.gain) * a.num("spread") * math.Sqrt(1/(r*r)-1)
			return f, nil
		},
	},
}

func makeRecorded(a Args) (Signal, error) {
	r, _ := a["file"].(*Recording)
	if r == nil || len(r.Values) == 0 {
		return nil, fmt.Errorf("the recording has no row")
	}
	stretch, offset, again, line := a.num("stretch"), a.dur("offset").Seconds(), a.flag(
		"again"), a.word("between") == "line"
	if err := positive(a, "stretch"); err != nil {
		return nil, err
	}
	n := len(r.Values)
	if r.Times == nil {
		return signalFunc(func(m Moment) Value {
			x := float64(m.Seq-min(1, m.Seq)) / stretch
			if m.Every > 0 {
				x += offset / m.Every.Seconds()
			}
			i := int(math.Floor(x + 1e-9))
			if again {
				return r.Values[((i%n)+n)%n]
			}
			return r.Values[min(max(i, 0), n-1)]
		}), nil
	}
	length := r.Times[n-1]
	if n > 1 {
		length += r.Times[n-1] - r.Times[n-2] // the last row lasts as long as the one before
	}
	return signalFunc(func(m Moment) Value {
		t := m.Elapsed.Seconds()/stretch + offset
		if again && length > 0 {
			t = math.Mod(math.Mod(t, length)+length, length)
		}
		i := max(0, sort.Search(n, func(i int) bool { return r.Times[i] > t })-1)
		v := r.Values[i]
		if !line || i+1 == n || t <= r.Times[i] {
			return v
		}
		w := r.Values[i+1]
		if (v.typ != Float && v.typ != Int) || (w.typ != Float && w.typ != Int) {
			return v
		}
		s := (t - r.Times[i]) / (r.Times[i+1] - r.Times[i])
		return number(v.Float() + s*(w.Float()-v.Float()))
	}), nil
}
