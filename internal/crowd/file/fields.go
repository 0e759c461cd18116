package file

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
	"runcrowd/internal/unit"
)

// field reads one field and a sample of its type.
func (r *reader) field(e entry, env formula.Env, before []crowd.Field) (crowd.Field, any, bool) {
	f := crowd.Field{Name: e.key.Value, Pos: pos(e.key)}
	what := fmt.Sprintf("the field %q", f.Name)
	n := r.resolve(e.value)
	if n.Kind == yaml.ScalarNode {
		return r.constantField(f, n, what, env)
	}
	if n.Kind != yaml.MappingNode {
		r.Add(pos(n), "%s must be a value, {signal: …} or {formula: …}, not %s", what, describe(n))
		return f, nil, false
	}
	var sn, fn *yaml.Node
	var rest []entry
	for _, x := range r.entries(n, what) {
		switch x.key.Value {
		case "signal":
			sn = r.resolve(x.value)
		case "formula":
			fn = r.resolve(x.value)
		default:
			rest = append(rest, x)
		}
	}
	var sample any
	known := fieldMap.names()
	switch {
	case sn != nil && fn != nil:
		r.Add(pos(fn), "%s has both a signal and a formula; keep one", what)
		return f, nil, false
	case fn != nil:
		if f.Formula = r.formula(fn, what, env); f.Formula == nil {
			return f, nil, false
		}
		sample = f.Formula.Sample()
		f.Previous = contains(f.Formula.Names(), "previous")
	case sn != nil:
		s, ok := r.scalar(sn, what+": signal")
		if !ok {
			return f, nil, false
		}
		spec, ok := signal.Find(s)
		if !ok {
			if meant, is := signal.Meant(s); is {
				r.Add(pos(sn), "%s: there is no signal %q; %s is %s, for example %s", what, s, meant.Name, meant.Doc, meant.Example)
				return f, nil, false
			}
			r.noSuch(sn, what, "signal", s, signal.Names())
			return f, nil, false
		}
		f.Spec = spec
		f.Args = map[string]crowd.Arg{}
		for _, p := range spec.Params {
			known = append(known, p.Name)
		}
	default:
		for _, x := range rest {
			if near := formula.Nearest(x.key.Value, []string{"signal", "formula"}); near != "" {
				r.unknown(pos(x.key), x.key.Value, what, known)
				return f, nil, false
			}
		}
		r.Add(pos(n), "%s must be a value, {signal: …} or {formula: …}", what)
		return f, nil, false
	}
	ok := true
	for _, x := range rest {
		key, value := x.key.Value, r.resolve(x.value)
		if !contains(known, key) {
			r.unknown(pos(x.key), key, what, known)
			ok = false
			continue
		}
		if f.Spec != nil {
			if p, is := f.Spec.Param(key); is {
				if p.Type == signal.Data {
					continue // read below, when the columns are known
				}
				if arg, good := r.arg(p, value, fmt.Sprintf("%s: %s", what, key), env); good {
					f.Args[key] = arg
				} else {
					ok = false
				}
				continue
			}
		}
		r.finish(&f, key, value, what)
	}
	if f.Finish.Digits != nil && f.Finish.Decimals != nil {
		r.Add(f.Pos, "%s has both round and digits; digits rounds too, and prints every decimal", what)
	}
	if f.Spec == nil {
		if f.Finish.Stuck != nil && (f.Previous || recalls(before)) {
			r.Add(f.Pos, "%s cannot be stuck: the reading uses the message before, and what a formula gave at another time "+
				"cannot be worked out alone", what)
		}
		return f, finished(&f, sample), ok
	}
	between(&f)
	ok = ok && r.data(&f, rest, what) && r.followed(&f, rest, before, what)
	if ok {
		sample, ok = r.trySignal(&f, n, rest, what)
	}
	if f.Unit == "" {
		f.Unit = f.Spec.Unit
	}
	if u := f.Finish.Convert; u != nil && (f.Unit == "" || f.Unit == f.Spec.Unit) {
		f.Unit = u.To
	}
	if ok && f.Finish.Changes() && !numeric(sample) {
		r.Add(f.Pos, "%s is a %s; noise, round, min, max and the like go with numbers", what, typeName(sample))
	}
	return f, finished(&f, sample), ok
}

// between takes min and max for the range of a signal that says none of its own.
func between(f *crowd.Field) {
	if f.Finish.Min == nil || f.Finish.Max == nil || *f.Finish.Min > *f.Finish.Max {
		return
	}
	args := f.Spec.Between(*f.Finish.Min, *f.Finish.Max)
	for name := range args {
		if _, given := f.Args[name]; given {
			return
		}
	}
	for name, v := range args {
		f.Args[name] = crowd.Arg{Value: v}
	}
}

// recalls tells whether any of the fields uses the message before.
func recalls(fields []crowd.Field) bool {
	return slices.ContainsFunc(fields, func(f crowd.Field) bool { return f.Previous })
}

// finished is the sample of what is left when the value has been finished.
func finished(f *crowd.Field, sample any) any {
	x := &f.Finish
	if _, whole := sample.(int); whole && (x.Noise != 0 || x.Convert != nil || x.Spike != nil || x.Resolution != 0 ||
		x.Digits != nil || x.Min != nil || x.Max != nil) {
		return 0.0
	}
	return sample
}

func numeric(sample any) bool {
	switch sample.(type) {
	case int, float64, quantity.Axes, nil:
		return true
	}
	return false
}

// data reads the file of a recorded signal.
func (r *reader) data(f *crowd.Field, rest []entry, what string) bool {
	if f.Spec.Name != "recorded" {
		return true
	}
	e := find(rest, "file")
	if e == nil {
		r.Add(f.Pos, "%s: the signal \"recorded\" needs \"file\", and the \"column\" in it", what)
		return false
	}
	column, _ := f.Args["column"].Value.(string)
	timeColumn, _ := f.Args["time"].Value.(string)
	name, ok := r.scalar(e.value, what+": file")
	if !ok {
		return false
	}
	if column == "" {
		r.Add(f.Pos, "%s: the signal \"recorded\" needs \"column\": the column in %s", what, name)
		return false
	}
	rec, err := r.recording(r.resolve(e.value), what+": file", name, column, timeColumn)
	if err != nil {
		at := pos(r.resolve(e.value))
		var column *columnError
		for _, key := range []string{"column", "time"} {
			if c := find(rest, key); c != nil && errors.As(err, &column) && column.name == c.value.Value {
				at = pos(r.resolve(c.value))
			}
		}
		r.Add(at, "%s: %s: %s", what, name, err)
	}
	f.Args["file"] = crowd.Arg{Value: rec}
	return rec != nil
}

// followed checks the field that another one follows.
func (r *reader) followed(f *crowd.Field, rest []entry, before []crowd.Field, what string) bool {
	if f.Spec.Name != "derived" {
		return true
	}
	name, _ := f.Args["field"].Value.(string)
	lag, _ := f.Args["lag"].Value.(time.Duration)
	var names []string
	for i := range before {
		b := &before[i]
		names = append(names, b.Name)
		if b.Name != name {
			continue
		}
		if !numeric(b.Sample) {
			r.Add(f.Pos, "%s follows %q, which is a %s; only a number can be followed", what, name, typeName(b.Sample))
			return false
		}
		if (b.Previous || b.Formula != nil && recalls(before)) && lag > 0 {
			r.Add(f.Pos, "%s lags behind %q, whose formula uses the message before: what it was then cannot be worked out "+
				"alone", what, name)
			return false
		}
		f.Follows = name
		return true
	}
	if e := find(rest, "field"); e != nil {
		if len(names) == 0 {
			r.Add(pos(r.resolve(e.value)), "%s: field: %q does not stand above; only an earlier field of the reading can be "+
				"followed", what, name)
		} else {
			r.noSuch(r.resolve(e.value), what+": field", "earlier field", name, names)
		}
		return false
	}
	return true // told when the signal is made
}

func (r *reader) finish(f *crowd.Field, key string, n *yaml.Node, what string) {
	what += ": " + key
	switch key {
	case "noise":
		if f.Finish.Noise = r.number(n, what, 0); f.Finish.Noise < 0 {
			r.Add(pos(n), "%s must not be negative", what)
		}
	case "min":
		v := r.number(n, what, 0)
		f.Finish.Min = &v
	case "max":
		v := r.number(n, what, 0)
		f.Finish.Max = &v
	case "round":
		v := int(r.whole(n, what, 0, 0, 15))
		f.Finish.Decimals = &v
	case "digits":
		v := int(r.whole(n, what, 0, 0, 15))
		f.Finish.Digits = &v
	case "resolution":
		if f.Finish.Resolution = r.number(n, what, 1); f.Finish.Resolution <= 0 {
			r.Add(pos(n), "%s must be above zero", what)
		}
	case "unit":
		if f.Unit, _ = r.scalar(n, what); len(f.Unit) > 40 {
			r.Add(pos(n), "%s: a unit has at most 40 letters", what)
		}
	case "convert":
		if c := parse(r, n, what, unit.Conversion{}, unit.ParseConversion); c.From != "" {
			f.Finish.Convert = &c
		}
	case "tolerance":
		if f.Tolerance = r.number(n, what, 0); f.Tolerance < 0 {
			r.Add(pos(n), "%s must not be negative", what)
		}
	case "stuck":
		s := spell(r.object(n, what, stuckMap))
		f.Finish.Stuck = &s
	case "spike":
		o := r.object(n, what, spikeMap)
		s := signal.Spike{Spell: spell(o), By: r.number(o.need("by", "20"), what+": by", 0)}
		f.Finish.Spike = &s
	case "drop":
		o := r.object(n, what, dropMap)
		d := signal.Drop{Spell: spell(o), As: signal.NoValue()}
		if an := o.get("as"); an != nil {
			switch {
			case isNull(an):
				d.As = signal.Value{}
			case an.Value == "missing":
			default:
				d.As, _ = r.plain(an, what+": as")
			}
		}
		f.Finish.Drop = &d
	}
}

// spell reads the chance and the length of what befalls a field at times.
func spell(o *object) signal.Spell {
	return signal.Spell{Chance: o.share("chance"), For: o.span("for")}
}

// constantField reads a field that is one value: a plain one, or a text with
// placeholders. A text that is one placeholder alone keeps its formula's type.
func (r *reader) constantField(f crowd.Field, n *yaml.Node, what string, env formula.Env) (crowd.Field, any, bool) {
	if n.Tag == "!!str" && strings.Contains(n.Value, "${") {
		t := r.text(n, what, env)
		if t == nil {
			return f, nil, false
		}
		f.Previous = contains(t.Names(), "previous")
		if single := t.Single(); single != nil {
			f.Formula = single
			return f, single.Sample(), true
		}
		whole, err := t.Formula(env)
		if err != nil {
			r.Add(pos(n), "%s: %s", what, err)
			return f, nil, false
		}
		f.Formula = whole
		return f, "", true
	}
	v, ok := signal.Value{}, true
	if !isNull(n) || n.Value == "" { // null must be written out
		v, ok = r.plain(n, what)
	}
	if !ok {
		return f, nil, false
	}
	f.Spec, _ = signal.Find("constant")
	f.Args = map[string]crowd.Arg{"value": {Value: []signal.Value{v}}}
	return f, sampleOf(v), true
}
