package crowd

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// MaxSequence is how many messages of one device and reading a mark that is a
// whole number can tell apart in one run.
const MaxSequence = 999_999

// sequencesFit notes readings that send more often than a whole-number mark can
// count in one run.
func (r *reader) sequencesFit() {
	p := &r.crowd.Plan
	for _, c := range r.crowd.Casts {
		for _, rd := range c.Readings {
			if n := float64(p.Rounds) * float64(p.For) / float64(rd.Every); c.Kind.Mark.Place == MarkSequence && n > MaxSequence {
				r.Add(rd.Pos, "the reading %q is due %.0f times in this plan; a mark that is a sequence can tell %d apart; use mark: {field: NAME}", rd.Name, n, MaxSequence)
			}
		}
	}
}

func (r *reader) reading(e entry, c *Cast, env formula.Env) *Reading {
	what := fmt.Sprintf("the reading %q", e.key.Value)
	rd := &Reading{Name: r.name(e.key, "readings", e.key.Value), Pos: pos(e.key), Method: "POST"}
	o := r.object(e.value, what, "every", "jitter", "topic", "qos", "retain", "path", "method", "accept", "headers", "fields")
	if o.node.Kind != yaml.MappingNode {
		return nil
	}
	rd.Every = r.span(o.need("every", "5s"), what+": every", time.Second, time.Millisecond, 366*quantity.Day)
	rd.Jitter = parse(r, o.get("jitter"), what+": jitter", 0, quantity.ParsePercent).Share()
	if rd.Jitter > 0.5 {
		r.Add(pos(o.get("jitter")), "%s: jitter above 50%% would let messages overtake each other", what)
	}
	env = messageEnv(env)
	streamEnv := formula.Env{}
	for k, v := range env {
		if k != "seq" && k != "elapsed" && k != "time" {
			streamEnv[k] = v
		}
	}
	if l := c.Kind.Link; l != nil {
		wrong := map[Protocol][]string{MQTT: {"path", "method", "accept", "headers"}, HTTP: {"topic", "qos", "retain"}}[l.Protocol]
		for _, key := range wrong {
			if k := o.get(key); k != nil {
				instead := map[string]string{"path": "; write topic: in its place", "topic": "; write path: in its place"}[key]
				r.Add(pos(k), "%s: %q does not go with the %s link %q%s", what, key, l.Protocol, l.Name, instead)
			}
		}
		switch {
		case l.Protocol == MQTT && o.get("path") == nil:
			rd.Target = r.text(o.need("topic", "harbour/${device}/"+rd.Name), what+": topic", streamEnv)
		case l.Protocol == HTTP && o.get("topic") == nil:
			rd.Target = r.text(o.need("path", "/in/${device}/"+rd.Name), what+": path", streamEnv)
			if rd.Target != nil && !strings.HasPrefix(rd.Target.Source(), "/") && !strings.HasPrefix(rd.Target.Source(), "${") {
				r.Add(pos(o.get("path")), "%s: path must begin with /", what)
			}
		}
	}
	rd.QoS = byte(r.whole(o.get("qos"), what+": qos", 1, 0, 2))
	rd.Retain = r.boolean(o.get("retain"), what+": retain", false)
	rd.Method = r.word(o.get("method"), what+": method", "POST", "POST", "PUT", "PATCH")
	rd.Accept = []int{200, 201, 202, 204}
	if an := o.get("accept"); an != nil {
		rd.Accept = nil
		for _, item := range r.list(an, what+": accept") {
			rd.Accept = append(rd.Accept, int(r.whole(item, what+": accept", 200, 100, 599)))
		}
	}
	rd.Headers = append(append([]Header(nil), c.Headers...), r.headers(o.get("headers"), what+": headers", streamEnv)...)
	if fn := o.need("fields", "{wave_m: {signal: swell}}"); fn != nil {
		for _, fe := range r.entries(fn, what+": fields") {
			name := fe.key.Value
			if name == c.Kind.Mark.Name && (c.Kind.Mark.Place == MarkField || c.Kind.Mark.Place == MarkSequence) {
				r.Add(pos(fe.key), "the field %q is where the mark rides; choose another name, or another place for the mark", name)
				continue
			}
			if name == "" || strings.ContainsAny(name, "\x00\n\r\t\"\\") {
				r.Add(pos(fe.key), "%q cannot be the name of a field", name)
				continue
			}
			f, sample, ok := r.field(fe, env)
			if !ok {
				sample = 0.0 // so that formulas that use it are not blamed too
			}
			rd.Fields = append(rd.Fields, f)
			if _, reserved := messageEnv(deviceEnv())[name]; !reserved && fieldPattern.MatchString(name) {
				env[name] = sample
			}
		}
		if fn.Kind == yaml.MappingNode && len(fn.Content) == 0 {
			r.Add(pos(fn), "%s has no field: its messages would be empty", what)
		}
	}
	return rd
}

var finishKeys = []string{"noise", "round", "min", "max", "tolerance"}

// field reads one field and a sample of its type.
func (r *reader) field(e entry, env formula.Env) (Field, any, bool) {
	f := Field{Name: e.key.Value, Pos: pos(e.key)}
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
	known := append([]string{"signal", "formula"}, finishKeys...)
	switch {
	case sn != nil && fn != nil:
		r.Add(pos(fn), "%s has both a signal and a formula; keep one", what)
		return f, nil, false
	case fn != nil:
		if f.Formula = r.formula(fn, what, env); f.Formula == nil {
			return f, nil, false
		}
		sample = f.Formula.Sample()
	case sn != nil:
		s, ok := r.scalar(sn, what+": signal")
		if !ok {
			return f, nil, false
		}
		spec, ok := signal.Find(s)
		if !ok {
			r.noSuch(sn, what, "signal", s, signal.Names())
			return f, nil, false
		}
		f.Spec = spec
		f.Args = map[string]Arg{}
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
	if f.Spec != nil && ok {
		sample, ok = r.trySignal(&f, n, what)
	}
	return f, sample, ok
}

func (r *reader) finish(f *Field, key string, n *yaml.Node, what string) {
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
	case "tolerance":
		if f.Tolerance = r.number(n, what, 0); f.Tolerance < 0 {
			r.Add(pos(n), "%s must not be negative", what)
		}
	}
}

// constantField reads a field that is one value: a plain one, or a text with
// placeholders. A text that is one placeholder alone keeps its formula's type.
func (r *reader) constantField(f Field, n *yaml.Node, what string, env formula.Env) (Field, any, bool) {
	if n.Tag == "!!str" && strings.Contains(n.Value, "${") {
		t := r.text(n, what, env)
		if t == nil {
			return f, nil, false
		}
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
	v, ok := r.plain(n, what)
	if !ok {
		return f, nil, false
	}
	f.Spec, _ = signal.Find("constant")
	f.Args = map[string]Arg{"value": {Value: []signal.Value{v}}}
	return f, sampleOf(v), true
}

// arg reads a parameter of a signal.
func (r *reader) arg(p signal.Param, n *yaml.Node, what string, env formula.Env) (Arg, bool) {
	before := len(r.List)
	var a Arg
	switch p.Type {
	case signal.Duration:
		a.Value = parse(r, n, what, 0, quantity.ParseDuration)
	case signal.Length:
		a.Value = parse(r, n, what, 0, quantity.ParseLength)
	case signal.Clock:
		a.Value = parse(r, n, what, 0, quantity.ParseClock)
	case signal.Word:
		a.Value = r.word(n, what, "", p.Words...)
	case signal.Values:
		a.Value = r.values(n, what)
	case signal.Number:
		if v, err := strconv.ParseFloat(n.Value, 64); err == nil && n.Kind == yaml.ScalarNode {
			a.Value = v
			break
		}
		if a.Formula = r.formula(n, what, env); a.Formula != nil {
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

// trySignal makes the signal once, so that wrong parameters are told now and
// the type of what it gives is known.
func (r *reader) trySignal(f *Field, n *yaml.Node, what string) (any, bool) {
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
		r.Add(pos(n), "%s: %s", what, err)
		return nil, false
	}
	if f.Spec.Gives != signal.Null {
		return sampleOf(zero(f.Spec.Gives)), true
	}
	if list, ok := f.Args["of"].Value.([]signal.Value); ok {
		return commonSample(list), true
	}
	return sampleOf(s.At(signal.Moment{Seq: 1, Time: time.Unix(0, 0)})), true
}

func zero(t signal.Type) signal.Value {
	switch t {
	case signal.Int:
		return signal.OfInt(0)
	case signal.Place:
		return signal.OfPlace(quantity.Position{})
	}
	return signal.OfFloat(0)
}
