package signal

import (
	"fmt"
	"math"
)

var storages = []Spec{
	{
		Name: "drain", Group: "storage", Gives: Float, Doc: "a store that empties evenly from the beginning of the round",
		Params: []Param{
			{Name: "from", Type: Number, Default: 100.0, Doc: "the value at the beginning"},
			{Name: "per_hour", Type: Number, Default: 1.0, Doc: "how much it loses in an hour"},
			{Name: "to", Type: Number, Default: 0.0, Doc: "where it stops"},
		},
		Example: "battery_v: {signal: drain, from: 12.8, per_hour: 0.05, to: 10.5, unit: V, round: 3}",
		make: func(a Args) (Signal, error) {
			from, rate, to := a.num("from"), a.num("per_hour"), a.num("to")
			if to > from {
				return nil, fmt.Errorf("to %g is above from %g", to, from)
			}
			return signalFunc(func(m Moment) Value { return number(math.Max(to, from-rate*m.Elapsed.Hours())) }), nil
		},
	},
	{
		Name: "charge", Group: "storage", Gives: Float, Doc: "a store that fills from the beginning of the round, the " +
			"slower the fuller it is",
		Params: []Param{
			{Name: "from", Type: Number, Default: 0.0, Doc: "the value at the beginning"},
			{Name: "per_hour", Type: Number, Default: 10.0, Doc: "how much it gains in an hour at first"},
			{Name: "to", Type: Number, Default: 100.0, Doc: "where it is full"},
			{Name: "slow_from", Type: Share, Default: 0.8, Doc: "the share of the way behind which it slows down; 100% fills " +
				"evenly to the end"},
		},
		Example: "battery_v: {signal: charge, from: 11.2, per_hour: 0.8, to: 12.8, round: 3}",
		make: func(a Args) (Signal, error) {
			from, rate, to := a.num("from"), a.num("per_hour"), a.num("to")
			if to < from {
				return nil, fmt.Errorf("to %g is below from %g", to, from)
			}
			knee := from + (to-from)*a.num("slow_from")
			return signalFunc(func(m Moment) Value {
				x := from + rate*m.Elapsed.Hours()
				if rest := to - knee; x > knee && rest > 0 {
					// The same rate at the knee, then as a capacitor fills.
					x = to - rest*math.Exp(-(x-knee)/rest)
				}
				return number(math.Min(to, x))
			}), nil
		},
	},
	{
		Name: "counter", Group: "storage", Gives: Int, Doc: "a whole number that grows with every message",
		Params: []Param{
			{Name: "from", Type: Number, Default: 1.0, Doc: "the value of the first message"},
			{Name: "step", Type: Number, Default: 1.0, Doc: "how much it grows"},
			{Name: "wrap", Type: Number, Optional: true, Doc: "how many values it has before it is at from again, such as " +
				"65536"},
			{Name: "reset", Type: Share, Default: 0.0, Doc: "the chance at each message that it begins anew, as after a power " +
				"cut; 0.01% or more"},
			{Name: "each_round", Type: Flag, Default: false, Doc: "begin anew with each round"},
		},
		Example: "flashes: {signal: counter, from: 0, step: 12, wrap: 65536}",
		make: func(a Args) (Signal, error) {
			from, step, wrap := a.num("from"), a.num("step"), a.num("wrap")
			if from != math.Trunc(from) || step != math.Trunc(step) || wrap != math.Trunc(wrap) {
				return nil, fmt.Errorf("from, step and wrap must be whole numbers, not %g, %g and %g", from, step, wrap)
			}
			if _, given := a["wrap"]; given && wrap < 1 {
				return nil, fmt.Errorf("wrap must be above zero, not %g", wrap)
			}
			reset, each := a.num("reset"), a.flag("each_round")
			if reset != 0 && reset < 0.0001 {
				return nil, fmt.Errorf("reset must be 0%% or at least 0.01%%")
			}
			return signalFunc(func(m Moment) Value {
				n := int64(m.Seq - min(1+m.Since, m.Seq))
				if each {
					n = min(n, int64(m.Tick))
				}
				for k := int64(0); reset > 0 && k < n; k++ {
					if Uniform(m.Key, m.Seq-uint64(k), 3) < reset {
						n = k
					}
				}
				n *= int64(step)
				if w := int64(wrap); w > 0 {
					n = (n%w + w) % w
				}
				return OfInt(int64(from) + n)
			}), nil
		},
	},
}
