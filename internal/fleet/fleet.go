// Package fleet makes devices out of a crowd: names, properties, credentials,
// and for each reading a stream of messages with everything worked out that
// does not change from one message to the next.
package fleet

import (
	"fmt"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// Fleet is all devices of a crowd.
type Fleet struct {
	Crowd   *crowd.Crowd
	Devices []*Device
	Streams []*Stream
}

// Device is one virtual device.
type Device struct {
	Index    int
	Name     string
	N        int
	Cast     *crowd.Cast
	Env      formula.Env // its properties and what formulas know of it
	ClientID string
	Username string
	Password string
	Streams  []*Stream
}

// Stream is one reading of one device.
type Stream struct {
	Index   int
	Device  *Device
	Reading *crowd.Reading
	Target  string // topic or path
	Headers []crowd.Header
	Values  []string // of Headers
	Names   []string // of the fields
	Phase   float64  // share of the interval by which this device's schedule is shifted
	Key     uint64   // of seed, device and reading
	makers  []maker
	env     bool // some field is a formula
	shadows bool // some field has the name of a property
}

// maker makes one field.
type maker struct {
	key    uint64
	signal signal.Signal
	field  *crowd.Field
}

// Build makes the fleet. The error is a *crowd.Problems.
func Build(c *crowd.Crowd) (*Fleet, error) {
	f := &Fleet{Crowd: c}
	p := crowd.NewProblems(c.Path, c.Source)
	names := map[string]int{}
	clients := map[string]string{}
	m := &formula.Machine{}
	for _, cast := range c.Casts {
		for i := 0; i < cast.Count; i++ {
			d := f.device(cast, cast.First+i, m, p)
			if d == nil {
				break // the others of the group have the same mistake
			}
			if first, twice := names[d.Name]; twice {
				p.Add(cast.NamePos, "two devices have the name %q (the first is in the group in line %d); give one of the groups other names, or a first number of its own (first: 13)", d.Name, first)
				break
			}
			names[d.Name] = cast.Pos.Line
			if cast.Kind.Link.Protocol == crowd.MQTT {
				id := cast.Kind.Link.Name + "\x00" + d.ClientID
				if other, twice := clients[id]; twice {
					p.Add(cast.Kind.Link.Pos, "the devices %s and %s have the same client id %q: the broker would throw each off when the other connects", other, d.Name, d.ClientID)
					break
				}
				clients[id] = d.Name
			}
			d.Index = len(f.Devices)
			f.Devices = append(f.Devices, d)
		}
	}
	if len(p.List) > 0 {
		p.Hide(c.Secrets())
		return nil, p.Err()
	}
	for _, d := range f.Devices {
		for _, s := range d.Streams {
			s.Index = len(f.Streams)
			f.Streams = append(f.Streams, s)
		}
	}
	return f, nil
}

// device makes one device, or notes why it cannot be made.
func (f *Fleet) device(cast *crowd.Cast, n int, m *formula.Machine, p *crowd.Problems) *Device {
	c := f.Crowd
	d := &Device{N: n, Cast: cast, Env: formula.Env{"n": n, "kind": cast.Kind.Name, "crowd": c.Name, "env": c.Env}}
	before := len(p.List)
	expand := func(at crowd.Pos, what string, t *formula.Text) string {
		if t == nil {
			return ""
		}
		s, err := t.Expand(m, d.Env)
		if err != nil {
			p.Add(at, "%s: %s", what, err)
		}
		return s
	}
	d.Name = expand(cast.NamePos, "name", cast.Name)
	if err := checkName(d.Name); err != nil && len(p.List) == before {
		p.Add(cast.NamePos, "%s", err)
	}
	d.Env["device"] = d.Name
	for i := range cast.Properties {
		v := property(c.Seed, d.Name, &cast.Properties[i], func(t *formula.Text) string {
			return expand(cast.Properties[i].Pos, fmt.Sprintf("the property %q", cast.Properties[i].Name), t)
		})
		d.Env[cast.Properties[i].Name] = v
	}
	l := cast.Kind.Link
	d.ClientID = expand(l.Pos, "client_id", cast.ClientID)
	d.Username = expand(l.Pos, "username", cast.Username)
	d.Password = expand(l.Pos, "password", cast.Password)
	if l.Protocol == crowd.MQTT && (d.ClientID == "" || len(d.ClientID) > 65535) {
		p.Add(l.Pos, "the client id of %s has %d bytes; it must have 1 to 65535", d.Name, len(d.ClientID))
	}
	c.Secret(d.Password)
	for _, r := range cast.Readings {
		s := &Stream{Device: d, Reading: r, Key: signal.Key(c.Seed, d.Name, r.Name)}
		d.Env["reading"] = r.Name
		s.Target = expand(r.Pos, fmt.Sprintf("the reading %q", r.Name), r.Target)
		if l.Protocol == crowd.MQTT {
			if err := crowd.CheckTopic(s.Target); err != nil && len(p.List) == before {
				p.Add(r.Pos, "the reading %q of %s: %s", r.Name, d.Name, err)
			}
		} else if strings.ContainsAny(s.Target, " \r\n\t\x00") || !strings.HasPrefix(s.Target, "/") {
			p.Add(r.Pos, "the reading %q of %s: %q is not a path", r.Name, d.Name, s.Target)
		}
		s.Headers = r.Headers
		for _, h := range r.Headers {
			value := expand(r.Pos, "the header "+h.Name, h.Value)
			if strings.ContainsAny(value, "\r\n\x00") {
				p.Add(r.Pos, "the header %s of %s holds a line break", h.Name, d.Name)
			}
			s.Values = append(s.Values, value)
		}
		s.Phase = signal.Uniform(s.Key, 0, 7)
		for i := range r.Fields {
			field := &r.Fields[i]
			mk := maker{key: signal.Key(c.Seed, d.Name, r.Name, field.Name), field: field}
			s.Names = append(s.Names, field.Name)
			if _, is := d.Env[field.Name]; is {
				s.shadows = true
			}
			if field.Formula != nil {
				s.env = true
			} else {
				sig, err := d.signal(field, m)
				if err != nil {
					p.Add(field.Pos, "the field %q of %s: %s", field.Name, d.Name, err)
				}
				mk.signal = sig
			}
			s.makers = append(s.makers, mk)
		}
		d.Streams = append(d.Streams, s)
	}
	delete(d.Env, "reading")
	if len(p.List) > before {
		return nil
	}
	return d
}

func checkName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("a device has an empty name")
	case len(name) > 200:
		return fmt.Errorf("the name of a device has %d bytes; the most is 200", len(name))
	case strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		return fmt.Errorf("the name %q of a device holds a space or a control character", name)
	}
	return nil
}

// property works a property out; picks and positions come from the seed and
// the device's name alone.
func property(seed uint64, device string, p *crowd.Property, expand func(*formula.Text) string) any {
	key := signal.Key(seed, device, p.Name)
	var v signal.Value
	switch {
	case p.Text != nil:
		return expand(p.Text)
	case len(p.Pick) > 0:
		v = p.Pick[int(signal.Uniform(key, 0, 0)*float64(len(p.Pick)))]
		for _, other := range p.Pick {
			if other.Type() == signal.Float && v.Type() == signal.Int {
				return v.Float() // the list mixes: all are numbers
			}
		}
	case p.Box != nil:
		a, b := p.Box[0], p.Box[1]
		return quantity.Position{
			Lat: round6(a.Lat + (b.Lat-a.Lat)*signal.Uniform(key, 0, 0)),
			Lon: round6(a.Lon + (b.Lon-a.Lon)*signal.Uniform(key, 0, 1)),
		}
	default:
		v = p.Value
	}
	if i, whole := v.Any().(int64); whole {
		return int(i)
	}
	return v.Any()
}

// round6 keeps six decimals of a degree: a tenth of a metre.
func round6(x float64) float64 { return signal.OfFloat(x).Round(6).Float() }

// signal makes the signal of a field for this device.
func (d *Device) signal(f *crowd.Field, m *formula.Machine) (signal.Signal, error) {
	args := signal.Args{}
	for name, a := range f.Args {
		if a.Formula == nil {
			args[name] = a.Value
			continue
		}
		v, err := a.Formula.Any(m, d.Env)
		if err != nil {
			return nil, err
		}
		switch x := v.(type) {
		case int:
			args[name] = float64(x)
		case int64:
			args[name] = float64(x)
		case float64, quantity.Position:
			args[name] = x
		default:
			return nil, fmt.Errorf("%s gives %v, not a number or a position", name, x)
		}
	}
	return f.Spec.Make(args)
}

// Composer makes the values of messages; one serves one goroutine.
type Composer struct {
	machine formula.Machine
	env     formula.Env
	device  *Device
	values  []signal.Value
}

// Values makes the values of a message of s, in the order of its fields. They
// are valid until the next call. A formula that fails makes a null; the first
// such error is returned beside the values.
func (c *Composer) Values(s *Stream, seq uint64, due time.Time, elapsed time.Duration) ([]signal.Value, error) {
	c.values = c.values[:0]
	var failed error
	if s.env {
		c.prepare(s, seq, due, elapsed)
	}
	m := signal.Moment{Seq: seq, Time: due, Elapsed: elapsed}
	for i := range s.makers {
		mk := &s.makers[i]
		m.Key = mk.key
		var v signal.Value
		if mk.signal != nil {
			v = mk.signal.At(m)
		} else {
			x, err := mk.field.Formula.Any(&c.machine, c.env)
			if err == nil {
				var ok bool
				if v, ok = signal.Of(x); !ok {
					err = fmt.Errorf("the formula %s gives a %T, which no message can carry", mk.field.Formula.Source(), x)
				}
			}
			if err != nil && failed == nil {
				failed = fmt.Errorf("the field %q of %s: %w", mk.field.Name, s.Device.Name, err)
			}
		}
		v = mk.field.Finish.Apply(m, v)
		c.values = append(c.values, v)
		if s.env {
			if i, whole := v.Any().(int64); whole {
				c.env[mk.field.Name] = int(i)
			} else {
				c.env[mk.field.Name] = v.Any()
			}
		}
	}
	return c.values, failed
}

// prepare fills the names that formulas may use.
func (c *Composer) prepare(s *Stream, seq uint64, due time.Time, elapsed time.Duration) {
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
	c.env["seq"] = int(seq)
	c.env["elapsed"] = elapsed.Seconds()
	c.env["time"] = due
}
