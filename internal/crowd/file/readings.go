package file

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
	"runcrowd/internal/unit"
)

// sequencesFit notes readings that send more often than a whole-number mark can
// count in one run.
func (r *reader) sequencesFit(c *crowd.Cast) {
	p := &r.crowd.Plan
	for _, rd := range c.Readings {
		if n := float64(p.Rounds) * float64(p.For) / float64(rd.Every); c.Kind.Mark.Place == crowd.MarkSequence && n > crowd.MaxSequence {
			r.Add(rd.Pos, "the reading %q is due %.0f times in this plan; a mark that is a sequence can tell %d apart; use mark: {field: NAME}", rd.Name, n, crowd.MaxSequence)
		}
	}
}

func (r *reader) reading(e entry, c *crowd.Cast, env formula.Env) *crowd.Reading {
	what := fmt.Sprintf("the reading %q", e.key.Value)
	rd := &crowd.Reading{Name: r.name(e.key, "readings", e.key.Value), Pos: pos(e.key), Method: "POST"}
	o := r.object(e.value, what, readingMap)
	if o.node.Kind != yaml.MappingNode {
		return nil
	}
	rd.Every = o.span("every")
	rd.Jitter = parse(r, o.get("jitter"), what+": jitter", 0, quantity.ParsePercent).Share()
	if rd.Jitter > 0.5 {
		r.Add(pos(o.get("jitter")), "%s: jitter above 50%% would let messages overtake each other", what)
	}
	rd.Turns = parse(r, o.get("turns"), what+": turns", crowd.Turns{}, parseTurns)
	rd.Batch = int(o.whole("batch"))
	env = crowd.MessageEnv(env)
	streamEnv := formula.Env{}
	for k, v := range env {
		if k != "seq" && k != "elapsed" && k != "time" && k != "previous" {
			streamEnv[k] = v
		}
	}
	l := c.Link
	if l != nil {
		if l.Protocol == crowd.MQTT {
			delete(streamEnv, crowd.TokenName) // the broker would show it to others
		}
		for _, key := range readingMap.notFor(l.Protocol) {
			if k := o.get(key); k != nil {
				instead := map[string]string{"path": "; write topic: in its place", "topic": "; write path: in its place"}[key]
				r.Add(pos(k), "%s: %q does not go with the %s link %q%s%s", what, key, l.Protocol, l.Name, instead, r.otherLink(c))
			}
		}
		switch {
		case l.Protocol == crowd.MQTT && o.get("path") == nil:
			rd.Target = r.text(o.need("topic", "harbour/${device}/"+rd.Name), what+": topic", streamEnv)
		case l.Protocol == crowd.HTTP && o.get("topic") == nil:
			rd.Target = r.text(o.need("path", "/in/${device}/"+rd.Name), what+": path", streamEnv)
			if rd.Target != nil && !strings.HasPrefix(rd.Target.Source(), "/") && !strings.HasPrefix(rd.Target.Source(), "${") {
				r.Add(pos(o.get("path")), "%s: path must begin with /", what)
			}
		}
	}
	rd.QoS = byte(o.whole("qos"))
	rd.Retain = o.truth("retain")
	for _, key := range readingMap.ofVersion5() {
		if k := o.get(key); k != nil && l != nil && l.Protocol == crowd.MQTT && l.Version != 5 {
			r.Add(pos(k), "%s: %q is of MQTT version 5, the link %q speaks 3.1.1", what, key, l.Name)
		}
	}
	rd.Expires = o.span("expires")
	rd.User = r.userProperties(o.get("user_properties"), c, what, streamEnv)
	r.alone(o.get("path"), what+": path", rd.Target)
	rd.Method = parse(r, o.get("method"), what+": method", "POST", parseMethod)
	rd.OKStatus = r.okStatus(o.get("ok_status"), what)
	rd.Headers = append(append([]crowd.Header(nil), c.Headers...), r.headers(o.get("headers"), what+": headers", streamEnv)...)
	if gn := o.get("gzip"); gn != nil {
		if rd.Gzip = o.truth("gzip"); rd.Gzip && l != nil && l.Protocol == crowd.MQTT {
			r.Add(pos(gn), "%s: MQTT has no way to say that a body is compressed; gzip goes with HTTP links", what)
		}
	}
	if fn := o.need("fields", "{wave_m: {signal: swell}}"); fn != nil {
		for _, fe := range r.entries(fn, what+": fields") {
			name := fe.key.Value
			if name == c.Kind.Mark.Name && (c.Kind.Mark.Place == crowd.MarkField || c.Kind.Mark.Place == crowd.MarkSequence) {
				r.Add(pos(fe.key), "the field %q is where the mark rides; choose another name, or another place for the mark", name)
				continue
			}
			if name == "" || strings.ContainsAny(name, "\x00\n\r\t\"\\") {
				r.Add(pos(fe.key), "%q cannot be the name of a field", name)
				continue
			}
			f, sample, ok := r.field(fe, env, rd.Fields)
			if !ok {
				sample = 0.0 // so that formulas that use it are not blamed too
			}
			f.Sample = sample
			rd.Fields = append(rd.Fields, f)
			// Formulas know env.temp as env_temp: a dot would ask for a part of env.
			known := strings.ReplaceAll(name, ".", "_")
			if _, reserved := crowd.MessageEnv(crowd.DeviceEnv())[known]; !reserved && fieldPattern.MatchString(known) {
				env[known] = sample
			}
		}
		if fn.Kind == yaml.MappingNode && len(fn.Content) == 0 {
			r.Add(pos(fn), "%s has no field: its messages would be empty", what)
		}
	}
	r.payload(rd, o, c, env, streamEnv, what)
	return rd
}

// okStatus reads the statuses that are a yes; without any the usual ones are.
func (r *reader) okStatus(n *yaml.Node, what string) []int {
	if n == nil {
		return []int{200, 201, 202, 204}
	}
	var list []int
	for _, item := range r.list(n, what+": ok_status") {
		list = append(list, int(r.whole(item, what+": ok_status", 200, 100, 599)))
	}
	return list
}

// userProperties reads the user properties of a reading.
func (r *reader) userProperties(n *yaml.Node, c *crowd.Cast, what string, env formula.Env) []crowd.Header {
	if n == nil || isNull(n) {
		return nil
	}
	what += ": user_properties"
	var list []crowd.Header
	for _, e := range r.entries(n, what) {
		if m := c.Kind.Mark; m.Place == crowd.MarkUserProperty && m.Name == e.key.Value {
			r.Add(pos(e.key), "%s: the mark rides in %q; choose another name", what, e.key.Value)
		}
		if t := r.text(e.value, what+": "+e.key.Value, env); t != nil {
			list = append(list, crowd.Header{Name: e.key.Value, Value: t})
		}
	}
	return list
}

// methods are the usual ones (RFC 9110, section 9; RFC 5789).
var methods = []string{"POST", "PUT", "PATCH", "GET", "DELETE"}

// parseMethod reads a method: any word in capitals but a misspelt usual one.
func parseMethod(s string) (string, error) {
	if !contains(methods, s) {
		if near := formula.Nearest(s, methods); near != "" {
			return "POST", fmt.Errorf("%q is not known; did you mean %q?", s, near)
		}
		if !tokenPattern.MatchString(s) || s != strings.ToUpper(s) {
			return "POST", fmt.Errorf("%q is not a method; write one such as PUT, in capitals", s)
		}
	}
	return s, nil
}

// maxBatch is the most samples in one message.
const maxBatch = 10_000

// parseTurns reads "staggered", "together", "in order", "3 at random" or "10% at random".
func parseTurns(s string) (crowd.Turns, error) {
	switch s {
	case "staggered":
		return crowd.Turns{}, nil
	case "together":
		return crowd.Turns{How: crowd.Together}, nil
	case "in order":
		return crowd.Turns{How: crowd.InOrder}, nil
	}
	if some, is := strings.CutSuffix(s, " at random"); is {
		if strings.HasSuffix(some, "%") {
			p, err := quantity.ParsePercent(some)
			if err == nil && p == 0 {
				err = fmt.Errorf("%q: nobody would ever speak", s)
			}
			return crowd.Turns{How: crowd.AtRandom, Share: p.Share()}, err
		}
		if n, err := strconv.Atoi(some); err == nil && n > 0 {
			return crowd.Turns{How: crowd.AtRandom, Some: n}, nil
		}
	}
	return crowd.Turns{}, fmt.Errorf("%q is not known; write staggered, together, in order, 3 at random or 10%% at random", s)
}

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
			r.Add(f.Pos, "%s cannot be stuck: the reading uses the message before, and what a formula gave at another time cannot be worked out alone", what)
		}
		return f, finished(&f, sample), ok
	}
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

// recalls tells whether any of the fields uses the message before.
func recalls(fields []crowd.Field) bool {
	return slices.ContainsFunc(fields, func(f crowd.Field) bool { return f.Previous })
}

// finished is the sample of what is left when the value has been finished.
func finished(f *crowd.Field, sample any) any {
	x := &f.Finish
	if _, whole := sample.(int); whole && (x.Noise != 0 || x.Convert != nil || x.Spike != nil || x.Resolution != 0 || x.Digits != nil || x.Min != nil || x.Max != nil) {
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
		for _, key := range []string{"column", "time"} {
			if c := find(rest, key); c != nil && strings.Contains(err.Error(), fmt.Sprintf("no column %q", c.value.Value)) {
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
			r.Add(f.Pos, "%s lags behind %q, whose formula uses the message before: what it was then cannot be worked out alone", what, name)
			return false
		}
		f.Follows = name
		return true
	}
	if e := find(rest, "field"); e != nil {
		if len(names) == 0 {
			r.Add(pos(r.resolve(e.value)), "%s: field: %q does not stand above; only an earlier field of the reading can be followed", what, name)
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
		d := signal.Drop{Spell: spell(o), As: signal.Left()}
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
	v, ok := r.plain(n, what)
	if !ok {
		return f, nil, false
	}
	f.Spec, _ = signal.Find("constant")
	f.Args = map[string]crowd.Arg{"value": {Value: []signal.Value{v}}}
	return f, sampleOf(v), true
}

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
				s.To = append(s.To, signal.Transition{To: t.key.Value, Share: parse(r, t.value, what+": "+s.Name, 0, quantity.ParsePercent).Share()})
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
