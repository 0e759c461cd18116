package signal

import (
	"math"
	"time"

	"runcrowd/internal/unit"
)

// Finish lays the options that go with any field over its value, in this order:
// conversion to another unit, noise, spikes, floor and ceiling, resolution,
// rounding. What is left out or replaced by Drop comes last of all.
type Finish struct {
	Convert    *unit.Conversion
	Noise      float64 // standard deviation
	Spike      *Spike
	Min, Max   *float64
	Resolution float64 // the value is a whole multiple of it
	Decimals   *int
	Digits     *int // as Decimals, and all of them are printed
	Stuck      *Spell
	Drop       *Drop
}

// Spell is something that befalls a field at times: with a chance for each
// message, or, with For, in spells of that length. Chance is the share of
// messages that are hit in the long run.
type Spell struct {
	Chance float64
	For    time.Duration
}

// Spike adds By to the value, up or down.
type Spike struct {
	Spell
	By float64
}

// Drop puts As in place of the value: NoValue leaves the field out.
type Drop struct {
	Spell
	As Value
}

// salts keep the chances of one field apart.
const (
	saltNoise = 1000 + 2*iota
	saltSpike
	saltStuck
	saltDrop
	saltSign
)

// length is a spell's in messages.
func (s *Spell) length(m *Moment) uint64 {
	if s.For <= 0 || m.Every <= 0 {
		return 1
	}
	return max(1, uint64((s.For+m.Every-1)/m.Every))
}

// Hits tells whether a message lies in a spell, and how many messages of the
// spell came before it. Spells begin at fixed numbers that differ by device.
func (s *Spell) Hits(m *Moment, salt uint64) (hit bool, since uint64) {
	n := s.length(m)
	at := m.Seq + uint64(Uniform(m.Key, 0, salt)*float64(n))
	block := at / n
	since = at % n
	return Uniform(m.Key, block, salt+1) < s.Chance, since
}

// Frozen tells whether the field is stuck at this message, and at the value of
// how many messages before.
func (f *Finish) Frozen(m *Moment) (back uint64, stuck bool) {
	if f.Stuck == nil {
		return 0, false
	}
	hit, since := f.Stuck.Hits(m, saltStuck)
	return min(since, m.Seq-min(1, m.Seq)), hit
}

// Apply finishes a value but for Stuck and Drop.
func (f *Finish) Apply(m Moment, v Value) Value {
	switch v.typ {
	case Float, Int:
		if f.Convert != nil || f.Noise != 0 || f.Spike != nil || f.Min != nil || f.Max != nil || f.Resolution != 0 {
			before := v
			x := f.number(&m, v.Float(), 0)
			if v.typ == Int && x == math.Trunc(x) && math.Abs(x) < 1<<53 && f.Convert == nil && f.Noise == 0 {
				v = OfInt(int64(x))
			} else {
				v = OfFloat(x)
			}
			if v.a == before.a && v.i == before.i {
				v.s = before.s
			}
		}
	case Vector:
		v.a, v.b, v.c = f.number(&m, v.a, 100), f.number(&m, v.b, 200), f.number(&m, v.c, 300)
	default:
		return v
	}
	if f.Decimals != nil {
		v = v.Round(*f.Decimals)
	}
	if f.Digits != nil {
		v = v.WithDigits(*f.Digits)
	}
	return v
}

func (f *Finish) number(m *Moment, x float64, axis uint64) float64 {
	if f.Convert != nil {
		x = f.Convert.Apply(x)
	}
	if f.Noise != 0 {
		x += f.Noise * Gauss(m.Key, m.Seq, saltNoise+axis)
	}
	if f.Spike != nil {
		if hit, _ := f.Spike.Hits(m, saltSpike); hit {
			if Uniform(m.Key, m.Seq, saltSign) < 0.5 {
				x -= f.Spike.By
			} else {
				x += f.Spike.By
			}
		}
	}
	if f.Min != nil {
		x = math.Max(x, *f.Min)
	}
	if f.Max != nil {
		x = math.Min(x, *f.Max)
	}
	if f.Resolution != 0 {
		x = math.Round(x/f.Resolution) * f.Resolution
		// 3 * 0.1 is 0.30000000000000004: take the noise of the multiplication off.
		x = round(x, 12)
	}
	return x
}

// Dropped gives what is sent in place of the value, where it drops out.
func (f *Finish) Dropped(m *Moment) (v Value, hit bool) {
	if f.Drop == nil {
		return Value{}, false
	}
	hit, _ = f.Drop.Hits(m, saltDrop)
	return f.Drop.As, hit
}

// Changes tells whether anything of it needs a number.
func (f *Finish) Changes() bool {
	return f.Convert != nil || f.Noise != 0 || f.Spike != nil || f.Min != nil || f.Max != nil || f.Resolution != 0 ||
		f.Decimals != nil || f.Digits != nil
}
