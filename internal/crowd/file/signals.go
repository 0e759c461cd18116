package file

import (
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// arg reads a parameter of a signal.
func (r *reader) arg(p signal.Param, n *yaml.Node, what string, env formula.Env) (crowd.Arg, bool) {
	before := len(r.List)
	var a crowd.Arg
	switch p.Type {
	case signal.Duration:
		if a.Formula = r.placeholder(n, what, env); a.Formula == nil {
			a.Value = parse(r, n, what, 0, quantity.ParseDuration)
		}
	case signal.Length:
		if a.Formula = r.placeholder(n, what, env); a.Formula == nil {
			a.Value = parse(r, n, what, 0, quantity.ParseLength)
		}
	case signal.Speed:
		if a.Formula = r.placeholder(n, what, env); a.Formula == nil {
			a.Value = parse(r, n, what, 0, quantity.ParseSpeed)
		}
	case signal.Clock:
		a.Value = parse(r, n, what, 0, quantity.ParseClock)
	case signal.Day:
		a.Value = parse(r, n, what, 0, quantity.ParseDay)
	case signal.Share:
		a.Value = parse(r, n, what, 0, quantity.ParsePercent).Share()
	case signal.Flag:
		a.Value = r.boolean(n, what, false)
	case signal.Word:
		a.Value = r.word(n, what, "", p.Words...)
	case signal.Plain, signal.FieldName:
		a.Value, _ = r.scalar(n, what)
	case signal.Values:
		a.Value = r.values(n, what)
	case signal.Numbers:
		a.Value = r.numbers(n, what)
	case signal.Route:
		var route []quantity.Position
		for _, item := range r.list(n, what) {
			route = append(route, parse(r, item, what, quantity.Position{}, quantity.ParsePosition))
		}
		a.Value = route
	case signal.States:
		a.Value = r.states(n, what)
	case signal.Number:
		if v, err := strconv.ParseFloat(n.Value, 64); err == nil && n.Kind == yaml.ScalarNode {
			a.Value = v
			break
		}
		if a.Formula = r.placeholder(n, what, env); a.Formula == nil {
			a.Formula = r.formula(n, what, env)
		}
		if a.Formula != nil {
			switch a.Formula.Sample().(type) {
			case float64, int:
			default:
				r.Add(pos(n), "%s must be %s, or a formula over properties that gives one", what, p.Type)
			}
		}
	case signal.Where:
		if n.Kind == yaml.ScalarNode {
			if v, err := quantity.ParsePosition(n.Value); err == nil {
				a.Value = v
				break
			}
		}
		if a.Formula = r.formula(n, what, env); a.Formula != nil {
			if _, is := a.Formula.Sample().(quantity.Position); !is {
				r.Add(pos(n), "%s must be %s", what, p.Type)
			}
		}
	}
	return a, len(r.List) == before
}

// placeholder is the formula of a value that is one placeholder and nothing else:
// seconds, metres or metres a second, where a measure is wanted.
func (r *reader) placeholder(n *yaml.Node, what string, env formula.Env) *formula.Formula {
	if n.Kind != yaml.ScalarNode || !strings.HasPrefix(n.Value, "${") {
		return nil
	}
	t := r.text(n, what, env)
	if t == nil {
		return nil
	}
	return t.Single()
}

// states reads a chain of states: {idle: {busy: 10%}, busy: {idle: 30%}}.
func (r *reader) states(n *yaml.Node, what string) []signal.State {
	var list []signal.State
	for _, e := range r.entries(n, what) {
		s := signal.State{Name: e.key.Value}
		if v := r.resolve(e.value); !isNull(v) {
			for _, t := range r.entries(v, what+": "+s.Name) {
				s.To = append(s.To, signal.Transition{To: t.key.Value, Share: parse(r, t.value, what+": "+s.Name, 0,
					quantity.ParsePercent).Share()})
			}
		}
		list = append(list, s)
	}
	return list
}

// trySignal makes the signal once, so that wrong parameters are told now and
// the type of what it gives is known.
func (r *reader) trySignal(f *crowd.Field, n *yaml.Node, rest []entry, what string) (any, bool) {
	args := signal.Args{}
	for name, a := range f.Args {
		if a.Formula != nil {
			if _, is := a.Formula.Sample().(quantity.Position); is {
				args[name] = quantity.Position{}
				continue
			}
			// The value is not known before the device is: leave the default, or a one.
			if p, _ := f.Spec.Param(name); p.Default != nil {
				continue
			}
			args[name] = 1.0
			continue
		}
		args[name] = a.Value
	}
	s, err := f.Spec.Make(args)
	if err != nil {
		for _, a := range f.Args {
			if a.Formula != nil {
				return 0.0, true // cannot be judged here; the fleet will
			}
		}
		at := pos(n)
		for _, e := range rest { // the message begins with the parameter that is wrong
			if strings.HasPrefix(err.Error(), e.key.Value+" ") {
				at = pos(r.resolve(e.value))
			}
		}
		r.Add(at, "%s: %s", what, err)
		return nil, false
	}
	if f.Spec.Gives != signal.Null {
		return sampleOf(zero(f.Spec.Gives)), true
	}
	if list, ok := f.Args["of"].Value.([]signal.Value); ok {
		return commonSample(list), true
	}
	if rec, ok := f.Args["file"].Value.(*signal.Recording); ok {
		return sampleOf(zero(rec.Gives)), true
	}
	return sampleOf(s.At(signal.Moment{Seq: 1, Time: time.Unix(0, 0)})), true
}

func zero(t signal.Type) signal.Value {
	switch t {
	case signal.Int:
		return signal.OfInt(0)
	case signal.Place:
		return signal.OfPlace(quantity.Position{})
	case signal.Vector:
		return signal.OfVector(quantity.Axes{})
	case signal.Text:
		return signal.OfText("")
	case signal.Bool:
		return signal.OfBool(false)
	}
	return signal.OfFloat(0)
}
