package fleet

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// Occasion is one message of a stream, as far as its values depend on it.
type Occasion struct {
	Seq     uint64
	Tick    uint64 // messages of this round before it
	Due     time.Time
	Elapsed time.Duration // since the round began
	Jitter  time.Duration // how much of Due is jitter
	Every   time.Duration // from one message to the next
	Clock   time.Duration // by how much the device's own clock is ahead
	Since   uint64        // messages before it last began to count anew
}

// Alteration is what was done to a field.
type Alteration struct {
	Field string
	How   Altering
	// Value, or what Text gives, takes the place of what the field would be.
	Value signal.Value
	Text  *formula.Text
	By    float64
	// Kept is the value at which it is stuck: the next one made is put there.
	Kept *signal.Value
}

// Altering is a way of altering a field.
type Altering uint8

// The ways of altering a field, in the order in which they are done.
const (
	AlterSet Altering = iota
	AlterStuck
	AlterErratic
	AlterMissing
)

// Composer makes the values of messages; one serves one goroutine, and makes the
// messages of a stream in their order.
type Composer struct {
	// Fixed are values given by hand, by field; what depends on them follows.
	Fixed map[string]signal.Value
	// Alter is what was done to fields of the stream.
	Alter []Alteration

	machine formula.Machine
	env     formula.Env
	device  *Device
	values  []signal.Value // as they are sent
	full    []signal.Value // before anything was dropped
	before  map[int]map[string]any
	sent    formula.Env // what alerts are called for by
	past    *Composer   // makes values of other moments
}

// Values makes the values of a message of s, in the order of its fields. They
// are valid until the next call. A formula that fails makes a null; the first
// such error is returned beside the values.
func (c *Composer) Values(s *Stream, o Occasion) ([]signal.Value, error) {
	if o.Every == 0 {
		o.Every = s.Reading.Every
	}
	m := signal.Moment{Seq: o.Seq, Tick: o.Tick, Time: o.Due, Elapsed: o.Elapsed, Jitter: o.Jitter, Every: o.Every,
		Body: s.Body, Clock: o.Clock, Since: o.Since}
	err := c.make(s, m, len(s.makers), true)
	if s.recalls {
		c.remember(s)
	}
	return c.values, err
}

// Calls tells which alerts the values that were made last call for, and which they arm
// again: two bits for each alert of the file, the lower one for the call. What was not sent
// calls for nothing.
func (c *Composer) Calls(s *Stream) (bits uint64) {
	if len(s.Calls) == 0 {
		return 0
	}
	if c.sent == nil {
		c.sent = formula.Env{}
	}
	clear(c.sent)
	for k, v := range s.Device.Env {
		c.sent[k] = v
	}
	for i := range s.makers {
		name := s.makers[i].name
		if delete(c.sent, name); c.values[i].Type() != signal.LeftOut {
			c.sent[name] = asFormulas(c.values[i].Any())
		}
	}
	for i := range s.Calls {
		x := &s.Calls[i]
		when, err := x.When.Any(&c.machine, c.sent)
		calls, known := when.(bool)
		if known = known && err == nil; known && calls {
			bits |= 1 << (2 * x.Alert)
		}
		if x.Until == nil {
			if known && !calls {
				bits |= 2 << (2 * x.Alert)
			}
			continue
		}
		if until, err := x.Until.Any(&c.machine, c.sent); err == nil && until == true {
			bits |= 2 << (2 * x.Alert)
		}
	}
	return bits
}

// Forget makes the composer look at the properties of devices anew.
func (c *Composer) Forget() {
	c.device = nil
	if c.past != nil {
		c.past.device = nil
	}
}

// make makes the first n fields of a stream at a moment. Live says that this is
// the message itself, in which fields may stick or drop out.
func (c *Composer) make(s *Stream, m signal.Moment, n int, live bool) error {
	c.values, c.full = c.values[:0], c.full[:0]
	var failed error
	known := s.env || live && len(c.Alter) > 0
	if known {
		c.prepare(s, &m)
	}
	for i := range s.makers[:n] {
		mk := &s.makers[i]
		m.Key = mk.key
		var v signal.Value
		var err error
		back, stuck := uint64(0), false
		given, fixed := c.Fixed[mk.field.Name]
		if live && !fixed {
			back, stuck = mk.field.Finish.Frozen(&m)
		}
		switch {
		case fixed:
			v = given
		case stuck:
			v, err = c.at(s, i, m.Back(back))
		default:
			v, err = c.field(s, i, m)
		}
		missing := false
		if live && len(c.Alter) > 0 && err == nil {
			v, missing, err = c.altered(mk, &m, v)
		}
		if err != nil && failed == nil {
			failed = fmt.Errorf("the field %q of %s: %w", mk.field.Name, s.Device.Name, err)
		}
		c.full = append(c.full, v)
		if known {
			c.env[mk.name] = asFormulas(v.Any())
		}
		if live && !fixed {
			if other, hit := mk.field.Finish.Dropped(&m); hit {
				v = other
			}
		}
		if missing || live && s.Reading.Only != "" && s.Reading.Only != mk.field.Name {
			v = signal.NoValue()
		}
		c.values = append(c.values, v)
	}
	return failed
}

// altered is a value with what was done to its field.
func (c *Composer) altered(mk *maker, m *signal.Moment, v signal.Value) (value signal.Value, missing bool, err error) {
	for i := range c.Alter {
		a := &c.Alter[i]
		if a.Field != mk.field.Name {
			continue
		}
		switch a.How {
		case AlterSet:
			if a.Text == nil {
				v = a.Value
				continue
			}
			c.env[mk.name] = asFormulas(v.Any())
			if v, err = c.set(a.Text); err != nil {
				return v, false, err
			}
		case AlterStuck:
			if a.Kept.Type() == signal.Null {
				*a.Kept = v
			}
			v = *a.Kept
		case AlterErratic:
			x := v.Float() + a.By*(2*signal.Uniform(m.Key, m.Seq, 31)-1)
			if v.Type() == signal.Int {
				v = signal.OfInt(int64(math.Round(x)))
			} else {
				v = signal.OfFloat(x)
				if d := mk.field.Finish.Decimals; d != nil {
					v = v.Round(*d)
				}
			}
		case AlterMissing:
			missing = true
		}
	}
	return v, missing, nil
}

// set is the value that a text gives: of its own type where it is one formula.
func (c *Composer) set(t *formula.Text) (signal.Value, error) {
	f := t.Single()
	if f == nil {
		s, err := t.Expand(&c.machine, c.env)
		return signal.OfText(s), err
	}
	x, err := f.Any(&c.machine, c.env)
	if err != nil {
		return signal.Value{}, err
	}
	v, ok := signal.Of(x)
	if !ok {
		return v, fmt.Errorf("the formula %s gives a %T, which no message can carry", f.Source(), x)
	}
	return v, nil
}

// field makes the i-th field; those before it are made already.
func (c *Composer) field(s *Stream, i int, m signal.Moment) (v signal.Value, err error) {
	mk := &s.makers[i]
	switch {
	case mk.follows != nil:
		source := signal.Value{}
		if _, lag := mk.follows.Source(); lag > 0 {
			source, err = c.at(s, mk.source, m.Earlier(lag))
		} else {
			source = c.full[mk.source]
		}
		v = mk.follows.Follow(m, source)
	case mk.signal != nil:
		v = mk.signal.At(m)
	default:
		var x any
		if x, err = mk.field.Formula.Any(&c.machine, c.env); err == nil {
			if t, is := x.(time.Time); is {
				x = formula.String(t)
			}
			var ok bool
			if v, ok = signal.Of(x); !ok {
				err = fmt.Errorf("the formula %s gives a %T, which no message can carry", mk.field.Formula.Source(), x)
			}
		} else if mk.field.Previous && c.before[s.Index] == nil {
			err = fmt.Errorf("%w; before the first message there is none: write (previous.%s ?? 0)", err, mk.name)
		}
	}
	return mk.field.Finish.Apply(m, v), err
}

// at makes the i-th field at another moment.
func (c *Composer) at(s *Stream, i int, m signal.Moment) (signal.Value, error) {
	mk := &s.makers[i]
	m.Key = mk.key
	if mk.signal != nil && mk.follows == nil {
		return mk.field.Finish.Apply(m, mk.signal.At(m)), nil
	}
	if c.past == nil {
		c.past = &Composer{}
	}
	err := c.past.make(s, m, i+1, false)
	return c.past.full[i], err
}

// prepare fills the names that formulas may use.
func (c *Composer) prepare(s *Stream, m *signal.Moment) {
	if c.env == nil {
		c.env = formula.Env{}
	}
	if c.device != s.Device || s.shadows {
		clear(c.env)
		for k, v := range s.Device.Env {
			c.env[k] = v
		}
		c.device = s.Device
	}
	c.env["reading"] = s.Reading.Name
	c.env["seq"] = int(m.Seq - min(m.Since, m.Seq))
	c.env["elapsed"] = m.Elapsed.Seconds()
	c.env["time"] = m.Time.Add(m.Clock)
	if s.recalls {
		before := c.before[s.Index]
		if before == nil {
			before = map[string]any{}
		}
		c.env["previous"] = before
	}
}

// remember keeps the values for the next message's formulas.
func (c *Composer) remember(s *Stream) {
	if c.before == nil {
		c.before = map[int]map[string]any{}
	}
	kept := map[string]any{}
	for i := range s.makers {
		kept[s.makers[i].name] = asFormulas(c.full[i].Any())
	}
	c.before[s.Index] = kept
}

// filler runs the placeholders of a template.
type filler struct {
	stream  *Stream
	machine formula.Machine
	env     formula.Env
	marked  int // values in front of the fields: one where the mark is in the body
}

func newFiller(s *Stream) *filler {
	f := &filler{stream: s, env: formula.Env{}}
	if s.Device.Cast.Kind.Mark.Place <= crowd.MarkSequence {
		f.marked = 1
	}
	return f
}

// only is the place of the field that is sent alone; -1: all are.
func (f *filler) only() int {
	if f.stream.Reading.Only == "" {
		return -1
	}
	return slices.Index(f.stream.Names, f.stream.Reading.Only)
}

func (f *filler) run(fo *formula.Formula, sample *payload.Sample) (any, error) {
	if f.env["seq"] != int(sample.Seq) || len(f.env) == 0 {
		for k, v := range f.stream.Device.Env {
			f.env[k] = v
		}
		f.env["reading"], f.env["seq"] = f.stream.Reading.Name, int(sample.Seq)
		f.env["time"], f.env["elapsed"] = sample.Time, sample.Elapsed.Seconds()
		f.env["mark"], f.env["previous"] = "", map[string]any{}
		if f.marked > 0 {
			f.env["mark"] = asFormulas(sample.Values[0].Any())
		}
		if f.only() >= 0 {
			f.env["field"] = f.stream.Reading.Only
			f.env["value"] = asFormulas(sample.Values[f.marked+f.only()].Any())
		}
		for i, name := range f.stream.Names {
			f.env[strings.ReplaceAll(name, ".", "_")] = asFormulas(sample.Values[f.marked+i].Any())
		}
	}
	// A field alone keeps how its number is to be printed.
	for i, name := range f.stream.Names {
		if fo.Source() == strings.ReplaceAll(name, ".", "_") {
			return sample.Values[f.marked+i], nil
		}
	}
	if i := f.only(); i >= 0 && fo.Source() == "value" {
		return sample.Values[f.marked+i], nil
	}
	return fo.Any(&f.machine, f.env)
}

// asFormulas is a whole number as formulas have it.
func asFormulas(v any) any {
	if i, whole := v.(int64); whole {
		return int(i)
	}
	return v
}
