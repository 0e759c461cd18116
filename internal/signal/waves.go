package signal

import (
	"fmt"
	"math"
	"time"

	"runcrowd/internal/quantity"
)

func number(v float64) Value { return OfFloat(v) }

var steady = []Spec{
	{
		Name: "constant", Group: "steady", Doc: "always the same value",
		Params:  []Param{{Name: "value", Type: Values, Doc: "the value: a number, a text, true or false"}},
		Example: "mode: {signal: constant, value: automatic}",
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
		Name: "ramp", Group: "steady", Gives: Float, Doc: "an even way from one value to another, then it stays",
		Params: []Param{
			{Name: "from", Type: Number, Default: 0.0, Doc: "the value at the beginning of the round"},
			{Name: "to", Type: Number, Default: 1.0, Doc: "the value at the end"},
			{Name: "over", Type: Duration, Default: time.Minute, Doc: "how long it takes"},
		},
		Example: "door_open: {signal: ramp, from: 0, to: 100, over: 20s, round: 0}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "over"); err != nil {
				return nil, err
			}
			from, to, over := a.num("from"), a.num("to"), a.dur("over").Seconds()
			return signalFunc(func(m Moment) Value {
				return number(from + (to-from)*math.Min(1, math.Max(0, m.Elapsed.Seconds()/over)))
			}), nil
		},
	},
	{
		Name: "steps", Group: "steady", Gives: Float, Doc: "goes through a list of levels from the beginning of the round " +
			"and holds each for a while",
		Params: []Param{
			{Name: "levels", Type: Numbers, Doc: "the levels, in order"},
			{Name: "every", Type: Duration, Default: time.Minute, Doc: "how long each is held"},
			{Name: "again", Type: Flag, Default: true, Doc: "begin anew after the last one, or stay at it"},
		},
		Example: "lamp_percent: {signal: steps, levels: [0, 30, 100, 30], every: 15s}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "every"); err != nil {
				return nil, err
			}
			levels, _ := a["levels"].([]float64)
			if len(levels) == 0 {
				return nil, fmt.Errorf("levels is empty: there is no value to hold")
			}
			every, again := a.dur("every"), a.flag("again")
			return signalFunc(func(m Moment) Value {
				i := int(m.Elapsed / every)
				if again {
					return number(levels[i%len(levels)])
				}
				return number(levels[min(i, len(levels)-1)])
			}), nil
		},
	},
}

// phase is where in its period a wave is for this device: what the file says as
// a share of the period, or a share of the device's own.
func phase(m *Moment, a float64, own bool) float64 {
	if own {
		return Uniform(m.Key, 0, 77)
	}
	return a
}

var together = Param{Name: "together", Type: Flag, Default: false, Doc: "all devices at the same point of the wave, " +
	"or each at its own"}

var waves = []Spec{
	{
		Name: "swell", Group: "waves", Gives: Float, Doc: "the height of the sea's surface: five sines with periods within " +
			"a third of the given one",
		Params: []Param{
			{Name: "height", Type: Number, Default: 1.0, Doc: "significant height, crest to trough: four times the standard " +
				"deviation"},
			{Name: "period", Type: Duration, Default: 8 * time.Second, Doc: "the middle period"},
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the level it moves around"},
		},
		Example: "wave_m: {signal: swell, height: 1.2, period: 9s, round: 2}",
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
				return number(sum)
			}), nil
		},
	},
	{
		Name: "daily", Group: "waves", Gives: Float, Doc: "a smooth wave with one top each day (UTC)",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest value, half a day from the top"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "the highest value"},
			{Name: "peak", Type: Clock, Default: 15 * time.Hour, Doc: "the time of day of the top"},
		},
		Example: "water_c: {signal: daily, low: 8, high: 12, peak: \"15:00\", unit: Cel, round: 1}",
		make: func(a Args) (Signal, error) {
			mid, amp := (a.num("high")+a.num("low"))/2, (a.num("high")-a.num("low"))/2
			peak := a.dur("peak").Seconds()
			return signalFunc(func(m Moment) Value {
				return number(mid + amp*math.Cos(turn(seconds(m.Time)-peak, 86400, 0)))
			}), nil
		},
	},
	{
		Name: "yearly", Group: "waves", Gives: Float, Doc: "a smooth wave with one top each year",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "the lowest value, half a year from the top"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "the highest value"},
			{Name: "peak", Type: Day, Default: 195, Doc: "the day of the top, month and day"},
		},
		Example: "daylight_h: {signal: yearly, low: 6.4, high: 18.1, peak: \"06-21\", round: 1}",
		make: func(a Args) (Signal, error) {
			mid, amp := (a.num("high")+a.num("low"))/2, (a.num("high")-a.num("low"))/2
			day, _ := a["peak"].(int)
			return signalFunc(func(m Moment) Value {
				t := m.Time.UTC()
				begin := time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
				length := time.Date(t.Year()+1, 1, 1, 0, 0, 0, 0, time.UTC).Sub(begin)
				share := float64(t.Sub(begin))/float64(length) - (float64(day)+0.5)/365
				return number(mid + amp*math.Cos(2*math.Pi*share))
			}), nil
		},
	},
	{
		Name: "tide", Group: "waves", Gives: Float, Doc: "a slow wave that is the same for every device that has the same " +
			"phase",
		Params: []Param{
			{Name: "range", Type: Number, Default: 2.0, Doc: "from low water to high water"},
			{Name: "period", Type: Duration, Default: 12*time.Hour + 25*time.Minute, Doc: "from one high water to the next"},
			{Name: "mean", Type: Number, Default: 0.0, Doc: "the level it moves around"},
			{Name: "phase", Type: Duration, Default: time.Duration(0), Doc: "how much later the tide is here"},
		},
		Example: "level_m: {signal: tide, range: 4.1, period: 12h25m, round: 3}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			amp, mean := a.num("range")/2, a.num("mean")
			period, phase := a.dur("period").Seconds(), a.dur("phase").Seconds()
			return signalFunc(func(m Moment) Value {
				return number(mean + amp*math.Cos(turn(seconds(m.Time)-phase, period, 0)))
			}), nil
		},
	},
	{
		Name: "saw", Group: "waves", Gives: Float, Doc: "rises evenly from low to high, falls back at once, and so on",
		Params: []Param{
			{Name: "low", Type: Number, Default: 0.0, Doc: "where it begins"},
			{Name: "high", Type: Number, Default: 1.0, Doc: "where it falls back"},
			{Name: "period", Type: Duration, Default: time.Minute, Doc: "how long one rise takes"},
			together,
		},
		Example: "bilge_cm: {signal: saw, low: 2, high: 30, period: 2m, round: 1}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			low, high, period, own := a.num("low"), a.num("high"), a.dur("period").Seconds(), !a.flag("together")
			return signalFunc(func(m Moment) Value {
				x := math.Mod(seconds(m.Time), period)/period + phase(&m, 0, own)
				return number(low + (high-low)*(x-math.Floor(x)))
			}), nil
		},
	},
	{
		Name: "pulse", Group: "waves", Gives: Float, Doc: "rests at one value and jumps to another for a short while, " +
			"again and again",
		Params: []Param{
			{Name: "rest", Type: Number, Default: 0.0, Doc: "the value between pulses"},
			{Name: "top", Type: Number, Default: 1.0, Doc: "the value in a pulse"},
			{Name: "period", Type: Duration, Default: time.Minute, Doc: "from one pulse to the next"},
			{Name: "width", Type: Duration, Default: 5 * time.Second, Doc: "how long a pulse lasts"},
			together,
		},
		Example: "pump_a: {signal: pulse, rest: 0.1, top: 4.5, period: 1m, width: 12s}",
		make: func(a Args) (Signal, error) {
			if err := positive(a, "period"); err != nil {
				return nil, err
			}
			rest, top, period, own := a.num("rest"), a.num("top"), a.dur("period"), !a.flag("together")
			share := float64(a.dur("width")) / float64(period)
			if share < 0 || share > 1 {
				return nil, fmt.Errorf("width %s must lie between zero and the period of %s",
					quantity.FormatDuration(a.dur("width")), quantity.FormatDuration(period))
			}
			return signalFunc(func(m Moment) Value {
				x := math.Mod(seconds(m.Time), period.Seconds())/period.Seconds() + phase(&m, 0, own)
				if x-math.Floor(x) < share {
					return number(top)
				}
				return number(rest)
			}), nil
		},
	},
	{
		Name: "switch", Group: "waves", Gives: Bool, Doc: "on for a while, off for a while, and so on, each stay somewhat " +
			"longer or shorter than the last",
		Params: []Param{
			{Name: "on", Type: Duration, Default: 30 * time.Second, Doc: "how long it stays on, on average"},
			{Name: "off", Type: Duration, Default: time.Minute, Doc: "how long it stays off, on average"},
			{Name: "vary", Type: Share, Default: 0.2, Doc: "how much a stay may be longer or shorter: a share of the shorter " +
				"stay, at most 90%"},
		},
		Example: "lamp_on: {signal: switch, on: 20s, off: 40s, vary: 30%}",
		make: func(a Args) (Signal, error) {
			for _, name := range []string{"on", "off"} {
				if err := positive(a, name); err != nil {
					return nil, err
				}
			}
			on, off, vary := a.dur("on").Seconds(), a.dur("off").Seconds(), a.num("vary")
			if vary > 0.9 {
				return nil, fmt.Errorf("vary must be at most 90%%")
			}
			// The edges of cycle k move about their places by less than half a
			// stay, so that no two edges change their order.
			slack := vary * math.Min(on, off) / 2
			return signalFunc(func(m Moment) Value {
				cycle := on + off
				t := seconds(m.Time) + Uniform(m.Key, 0, 77)*cycle
				k := math.Floor(t / cycle)
				at := func(k float64, edge uint64) float64 { return slack * (2*Uniform(m.Key, uint64(int64(k)), 80+edge) - 1) }
				x := t - k*cycle
				switch {
				case x < on/2: // the cycle before it may still be off
					return OfBool(x >= at(k, 0))
				case x < on+off/2:
					return OfBool(x < on+at(k, 1))
				}
				return OfBool(x-cycle >= at(k+1, 0))
			}), nil
		},
	},
}
