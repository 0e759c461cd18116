package file

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// actions reads what is done to devices, for one cast. Names are those that may be named: a
// action of a name that this cast has not is left out.
type actions struct {
	*reader
	cast  *crowd.Cast
	casts []*crowd.Cast // all that may be meant
	env   formula.Env
	event bool // of the plan, not of a command
	list  []crowd.Action
}

// bareActions are those that need nothing more said of them.
var bareActions = []string{"connect", "leave", "offline", "register", "repeat", "restart", "swap", "unregister"}

// actions reads a mapping of actions, or the name of one.
func (r *reader) actions(n *yaml.Node, what string, c *crowd.Cast, casts []*crowd.Cast, env formula.Env,
	event bool) []crowd.Action {
	d := &actions{reader: r, cast: c, casts: casts, env: env, event: event}
	if n = r.resolve(n); n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		name := r.word(n, what, "", bareActions...)
		if name == "" {
			return nil
		}
		at := *n
		at.Value = name
		n = &yaml.Node{Kind: yaml.MappingNode, Line: n.Line, Column: n.Column,
			Content: []*yaml.Node{&at, {Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true", Line: n.Line, Column: n.Column}}}
	}
	o := r.object(n, what, doMap)
	for _, name := range doMap.names() {
		if v := o.get(name); v != nil {
			before := len(d.list)
			d.read(name, v, what+": "+name)
			for i := before; i < len(d.list); i++ {
				d.list[i].Pos = pos(v)
			}
		}
	}
	slices.SortStableFunc(d.list, func(a, b crowd.Action) int { return cmp.Compare(a.Kind, b.Kind) })
	return d.list
}

func (d *actions) add(x crowd.Action) { d.list = append(d.list, x) }

func (d *actions) read(name string, n *yaml.Node, what string) {
	kind := crowd.ActionKind(slices.Index(crowd.ActionNames[:], name))
	h := &actionKinds[kind]
	if !d.event && !h.command {
		d.Add(pos(n), "%s: a command cannot do this, only an event; write it under plan: events", what)
		return
	}
	if h.read != nil {
		h.read(d, n, what)
	} else if d.boolean(n, what, true) {
		d.add(crowd.Action{Kind: kind})
	}
}

// actionKinds says how each kind of action is read, and whether a command may do it; what is
// read by nothing is true.
var actionKinds [len(crowd.ActionNames)]actionKind

type actionKind struct {
	command bool
	read    func(d *actions, n *yaml.Node, what string)
}

func init() { // some read actions themselves
	actionKinds = [...]actionKind{
		crowd.ActionInterval: {true, (*actions).intervals},
		crowd.ActionSet:      {true, (*actions).set},
		crowd.ActionStuck:    {true, (*actions).stuck},
		crowd.ActionMissing:  {true, (*actions).missing},
		crowd.ActionErratic:  {true, (*actions).erratic},
		crowd.ActionSend:     {true, (*actions).send},
		crowd.ActionClock:    {true, (*actions).clock},
		crowd.ActionNetwork:  {true, (*actions).network},
		crowd.ActionOffline:  {true, (*actions).offline},
		crowd.ActionRestart:  {true, (*actions).restart},
		crowd.ActionRepeat:   {true, (*actions).repeat},
		crowd.ActionSwap:     {true, nil},
		// Only an event says what the platform must do then.
		crowd.ActionCredential: {false, (*actions).credential},
		crowd.ActionCorrupt:    {false, (*actions).corrupt},
		crowd.ActionRegister:   {false, (*actions).register},
		crowd.ActionUnregister: {false, (*actions).unregister},
		crowd.ActionCommand:    {false, (*actions).command},
		crowd.ActionConnect:    {false, nil},
		crowd.ActionLeave:      {false, nil},
	}
}

func (d *actions) stuck(n *yaml.Node, what string)   { d.fields(crowd.ActionStuck, n, what) }
func (d *actions) missing(n *yaml.Node, what string) { d.fields(crowd.ActionMissing, n, what) }

func (d *actions) fields(kind crowd.ActionKind, n *yaml.Node, what string) {
	for _, x := range d.reader.list(n, what) {
		if s, ok := d.scalar(x, what); ok && d.field(x, what, s, nil) {
			d.add(crowd.Action{Kind: kind, Name: s, Field: true})
		}
	}
}

func (d *actions) erratic(n *yaml.Node, what string) {
	for _, e := range d.entries(n, what) {
		if by := d.number(e.value, what+": "+e.key.Value, 1); d.field(e.key, what, e.key.Value, 0.0) {
			d.add(crowd.Action{Kind: crowd.ActionErratic, Name: e.key.Value, Field: true, By: by})
		}
	}
}

func (d *actions) repeat(n *yaml.Node, what string) {
	x := crowd.Action{Kind: crowd.ActionRepeat, Times: 1}
	if !isTrue(n) {
		x.Times = int(d.whole(n, what, 1, 1, 100))
	}
	d.add(x)
}

func (d *actions) credential(n *yaml.Node, what string) {
	if d.behind(n, what) {
		return
	}
	s := d.word(n, what, "", crowd.CredentialNames...)
	if i := slices.Index(crowd.CredentialNames, s); i >= 0 {
		d.add(crowd.Action{Kind: crowd.ActionCredential, Credential: crowd.Credential(i + 1)})
	}
}

func (d *actions) register(n *yaml.Node, what string) {
	if d.crowd.Register == nil {
		d.Add(pos(n), "%s: the file does not say how devices are registered; write register: {request: …}", what)
	}
	if d.boolean(n, what, true) {
		d.add(crowd.Action{Kind: crowd.ActionRegister})
	}
}

func (d *actions) unregister(n *yaml.Node, what string) {
	if r := d.crowd.Register; r == nil || r.Unregister == nil {
		d.Add(pos(n), "%s: the file does not say how devices are removed; write register: {unregister: {url: …}}", what)
	}
	if d.boolean(n, what, true) {
		d.add(crowd.Action{Kind: crowd.ActionUnregister})
	}
}

func isTrue(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Value == "true" }

// field tells whether the cast has a field, and notes where no cast that may be meant has
// it, or where it is of another type than a sample.
func (d *actions) field(n *yaml.Node, what, name string, sample any) bool {
	var names []string
	here, anywhere := false, false
	for _, c := range d.casts {
		for _, r := range c.Readings {
			for i := range r.Fields {
				f := &r.Fields[i]
				if names = append(names, f.Name); f.Name != name {
					continue
				}
				if anywhere = true; c == d.cast {
					here = true
					if sample != nil && typeWords(f.Sample) != typeWords(sample) {
						d.Add(pos(n), "%s: the field %q is %s, not %s", what, name, typeWords(f.Sample), typeWords(sample))
						return false
					}
				}
			}
		}
	}
	if !anywhere {
		slices.Sort(names)
		d.noSuch(n, what, "field", name, slices.Compact(names))
	}
	return here
}

// typeWords is the type of a value, in words.
func typeWords(v any) string {
	switch v.(type) {
	case int, int64, uint64, float64:
		return "a number"
	case string:
		return "a text"
	case bool:
		return "true or false"
	case nil:
		return "nothing"
	}
	return "a value of its own sort"
}

// reading notes a name that is no reading of any cast, and tells whether this one has it.
func (d *actions) reading(n *yaml.Node, what, name string) bool {
	var names []string
	for _, c := range d.casts {
		names = append(names, d.readingNames(c)...)
	}
	slices.Sort(names)
	if names = slices.Compact(names); !contains(names, name) {
		d.noSuch(n, what, "reading", name, names)
	}
	return contains(d.readingNames(d.cast), name)
}

func (d *actions) intervals(n *yaml.Node, what string) {
	one := func(reading string, n *yaml.Node, what string) {
		if n.Kind == yaml.ScalarNode && n.Value == "never" {
			d.add(crowd.Action{Kind: crowd.ActionInterval, Reading: reading, Never: true})
			return
		}
		d.add(crowd.Action{Kind: crowd.ActionInterval, Reading: reading, Value: d.rateText(n, what, d.env)})
	}
	if n.Kind != yaml.MappingNode {
		one("", n, what)
		return
	}
	for _, e := range d.entries(n, what) {
		if d.reading(e.key, what, e.key.Value) {
			if d.cast != nil && slices.ContainsFunc(d.cast.Readings, func(r *crowd.Reading) bool {
				return r.InFile() == e.key.Value && r.OnConnect
			}) {
				d.Add(pos(e.key), "%s: the reading %q is sent at each connection, and has no interval", what, e.key.Value)
			}
			one(e.key.Value, d.resolve(e.value), what+": "+e.key.Value)
		}
	}
}

func (d *actions) set(n *yaml.Node, what string) {
	for _, e := range d.entries(n, what) {
		name := e.key.Value
		x := crowd.Action{Kind: crowd.ActionSet, Name: name}
		if p := propertyOf(d.cast, name); p != nil {
			if d.cast.Secrets[name] {
				d.Add(pos(e.key), "%s: the property %q is a secret; what is done to devices is recorded in the run folder", what,
					name)
				continue
			}
			x.Sample = p.Sample
			if x.Value = d.text(e.value, what+": "+name, d.env); x.Value != nil {
				d.add(x)
			}
			continue
		}
		elsewhere := slices.ContainsFunc(d.casts, func(c *crowd.Cast) bool { return propertyOf(c, name) != nil })
		if elsewhere || !d.known(e.key, what, name) {
			continue
		}
		d.setField(e, what, x)
	}
}

func propertyOf(c *crowd.Cast, name string) *crowd.Property {
	for i := range c.Properties {
		if c.Properties[i].Name == name {
			return &c.Properties[i]
		}
	}
	return nil
}

// known tells whether this cast has a field, and notes a name that is neither a property
// nor a field of any.
func (d *actions) known(n *yaml.Node, what, name string) bool {
	var names []string
	here := false
	for _, c := range d.casts {
		for i := range c.Properties {
			if !c.Secrets[c.Properties[i].Name] {
				names = append(names, c.Properties[i].Name)
			}
		}
		for _, r := range c.Readings {
			for i := range r.Fields {
				names = append(names, r.Fields[i].Name)
				here = here || c == d.cast && r.Fields[i].Name == name
			}
		}
	}
	slices.Sort(names)
	if names = slices.Compact(names); !contains(names, name) {
		d.noSuch(n, what, "property or field", name, names)
	}
	return here
}

// setField reads the new value of a field: a value, or a text of formulas that know the
// message, and the field as it would be.
func (d *actions) setField(e entry, what string, x crowd.Action) {
	x.Field = true
	env := crowd.MessageEnv(d.env)
	for _, r := range d.cast.Readings {
		if !slices.ContainsFunc(r.Fields, func(f crowd.Field) bool { return f.Name == x.Name }) {
			continue
		}
		for i := range r.Fields {
			f := &r.Fields[i]
			env[strings.ReplaceAll(f.Name, ".", "_")] = f.Sample
			if f.Name == x.Name {
				x.Sample = f.Sample
				break // what stands behind it follows it
			}
		}
	}
	what += ": " + x.Name
	if x.Value = d.text(e.value, what, env); x.Value == nil {
		return
	}
	if usesSecret(x.Value.Names(), d.cast.Secrets) {
		d.Add(pos(e.value), "%s carries a secret, and what a message carries is recorded in the run folder", what)
		return
	}
	var sample any
	if f := x.Value.Single(); f != nil {
		sample = f.Sample()
	} else if v, ok := d.plain(e.value, what); ok && x.Value.Fixed() {
		sample = v.Any()
	} else {
		sample = ""
	}
	if x.Sample != nil && typeWords(x.Sample) != typeWords(sample) {
		d.Add(pos(e.value), "%s: the field is %s, not %s", what, typeWords(x.Sample), typeWords(sample))
		return
	}
	d.add(x)
}

func (d *actions) send(n *yaml.Node, what string) {
	if n.Kind == yaml.MappingNode {
		for _, e := range d.entries(n, what) {
			times := int(d.whole(e.value, what+": "+e.key.Value, 1, 1, 100_000))
			if d.reading(e.key, what, e.key.Value) {
				d.add(crowd.Action{Kind: crowd.ActionSend, Reading: e.key.Value, Times: times})
			}
		}
		return
	}
	for _, x := range d.reader.list(n, what) {
		if s, ok := d.scalar(x, what); ok && d.reading(x, what, s) {
			d.add(crowd.Action{Kind: crowd.ActionSend, Reading: s, Times: 1})
		}
	}
}

// parseOff reads how far a clock is off: "90s" or "-2m".
func parseOff(s string) (time.Duration, error) {
	off, err := quantity.ParseDuration(s)
	if err == nil && off.Abs() > century {
		err = fmt.Errorf("%s is too much; the most is 136 years", s)
	}
	return off, err
}

// parseDrift reads "100ms per 1m" or "2s per day".
func parseDrift(s string) (float64, error) {
	by, per, found := strings.Cut(s, " per ")
	if !found {
		return 0, fmt.Errorf("%q is no drift; write, for example, 100ms per minute", s)
	}
	a, err := quantity.ParseDuration(by)
	if err != nil {
		return 0, err
	}
	b, err := parsePer(per)
	if err != nil {
		return 0, err
	}
	if drift := float64(a) / float64(b); drift > -1 && drift < 100 {
		return drift, nil
	}
	return 0, fmt.Errorf("%q: such a clock would run backwards, or a hundred times too fast", s)
}

// parsePer reads a time that something is counted in: "minute", "10s".
func parsePer(s string) (time.Duration, error) {
	if unit, is := map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour,
		"day": quantity.Day}[strings.TrimSpace(s)]; is {
		return unit, nil
	}
	d, err := quantity.ParseDuration(s)
	if err == nil && d < time.Millisecond {
		err = fmt.Errorf("%q is too short; the least is 1ms", s)
	}
	return d, err
}

func (d *actions) clock(n *yaml.Node, what string) {
	x, before := crowd.Action{Kind: crowd.ActionClock}, len(d.List)
	if n.Kind == yaml.MappingNode {
		o := d.object(n, what, clockMap)
		x.Clock.Off = parse(d.reader, o.get("off"), what+": off", 0, parseOff)
		x.Clock.Drift = parse(d.reader, o.get("drift"), what+": drift", 0, parseDrift)
	} else {
		x.Clock.Off = parse(d.reader, n, what, 0, parseOff)
	}
	if x.Clock == (crowd.Clock{}) {
		if len(d.List) > before {
			return
		}
		d.Add(pos(n), "%s says nothing; write, for example, clock: -2m, or clock: {drift: 100ms per minute}", what)
		return
	}
	d.add(x)
}

// parseStall reads "3s every 20s".
func parseStall(s string) ([2]time.Duration, error) {
	long, every, found := strings.Cut(s, " every ")
	if !found {
		return [2]time.Duration{}, fmt.Errorf("%q is no stall; write, for example, 3s every 20s", s)
	}
	a, err := quantity.ParseDuration(long)
	if err != nil {
		return [2]time.Duration{}, err
	}
	b, err := quantity.ParseDuration(every)
	if err == nil && (a <= 0 || b <= a) {
		err = fmt.Errorf("%q: a stall is shorter than the time from one to the next", s)
	}
	return [2]time.Duration{a, b}, err
}

func (d *actions) network(n *yaml.Node, what string) {
	if d.behind(n, what) {
		return
	}
	before := len(d.List)
	o := d.object(n, what, networkMap)
	x := crowd.Action{Kind: crowd.ActionNetwork, Network: crowd.Network{Delay: o.span("delay"), Jitter: o.span("jitter")}}
	w := &x.Network
	w.Rate = parse(d.reader, o.get("rate"), what+": rate", 0, quantity.ParseBitRate)
	stall := parse(d.reader, o.get("stall"), what+": stall", [2]time.Duration{}, parseStall)
	w.Stall, w.StallEvery = stall[0], stall[1]
	w.CutAfter = parse(d.reader, o.get("cut_after"), what+": cut_after", 0, quantity.ParseSize)
	if *w == (crowd.Network{}) {
		if len(d.List) > before {
			return
		}
		d.Add(pos(n), "%s does nothing; write, for example, network: {delay: 400ms}", what)
		return
	}
	d.add(x)
}

func (d *actions) corrupt(n *yaml.Node, what string) {
	x := crowd.Action{Kind: crowd.ActionCorrupt}
	word := n
	if n.Kind == yaml.MappingNode {
		o := d.object(n, what, corruptMap)
		word = o.get("how")
		if rn := o.get("reading"); rn != nil {
			if s, ok := d.scalar(rn, what+": reading"); ok {
				if x.Reading = s; !d.reading(rn, what, s) {
					return
				}
			}
		}
		if tn := o.get("topic"); tn != nil {
			x.Value = d.text(tn, what+": topic", d.env)
			x.Corrupt = crowd.CorruptTopic
			if word == nil {
				if !d.inAddress(n, what, &x) {
					d.add(x)
				}
				return
			}
		}
		if word == nil {
			d.Add(pos(n), "%s lacks \"how\"; write, for example, how: cut off", what)
			return
		}
	}
	at := what
	if word != n {
		at += ": how"
	}
	s := d.word(word, at, "", crowd.CorruptNames...)
	i := slices.Index(crowd.CorruptNames, s)
	if i < 0 {
		return
	}
	x.Corrupt = crowd.Corrupt(i)
	if x.Corrupt == crowd.CorruptTopic && x.Value == nil {
		d.Add(pos(n), "%s: say which topic: corrupt: {topic: harbour/another}", what)
		return
	}
	if x.Corrupt == crowd.CorruptTypes {
		for _, r := range d.cast.Readings {
			if (x.Reading == "" || x.Reading == r.InFile()) && r.Payload.Form != "json" && r.Payload.Form != "template" {
				d.Add(pos(n), "%s: wrong types are for JSON; the reading %q is sent as %s", what, r.Name, r.Payload.Form)
				return
			}
		}
	}
	if d.inAddress(n, what, &x) {
		return
	}
	if why := d.unfindable(x.Corrupt); why != "" {
		d.Add(pos(n), "%s: %s: %s, so nothing could show that it was kept; let the mark ride in a user_property or a header",
			what, x.Corrupt, why)
		return
	}
	d.add(x)
}

// inAddress notes a reading whose values ride in the address of its requests: nothing of that can
// be corrupted so that it is still one.
func (d *actions) inAddress(n *yaml.Node, what string, x *crowd.Action) bool {
	for _, r := range d.cast.Readings {
		if (x.Reading == "" || x.Reading == r.InFile()) && r.Payload.In != "" {
			d.Add(pos(n), "%s: the values of the reading %q ride in the %s of its address, and only bodies can be corrupted; name "+
				"another reading: corrupt: {reading: NAME, how: …}", what, r.Name, r.Payload.In)
			return true
		}
	}
	return false
}

// unfindable tells why a corrupted message could not be found if the platform kept it.
func (d *actions) unfindable(how crowd.Corrupt) string {
	place := d.cast.Kind.Mark.Place
	if how == crowd.CorruptTopic || how == crowd.CorruptLarge || how == crowd.CorruptTypes ||
		place == crowd.MarkUserProperty || place == crowd.MarkHeader {
		return ""
	}
	if how == crowd.CorruptEmpty {
		return "it would carry no mark"
	}
	if place == crowd.MarkTime || place == crowd.MarkNone {
		return "without a mark it could not be told from others"
	}
	if place == crowd.MarkSequence {
		return "a mark that is a number cannot be told from others in a body that cannot be read"
	}
	for _, r := range d.cast.Readings {
		if r.Gzip || r.Payload.Form != "json" && r.Payload.Form != "template" {
			return fmt.Sprintf("the mark of the reading %q cannot be read in it", r.Name)
		}
	}
	return ""
}

func (d *actions) offline(n *yaml.Node, what string) {
	x := crowd.Action{Kind: crowd.ActionOffline}
	f := &x.Offline
	switch {
	case isTrue(n):
	case n.Kind == yaml.MappingNode:
		o := d.object(n, what, offlineMap)
		f.How = crowd.Leaving(slices.Index(crowd.LeavingNames, o.word("how")))
		f.Idle = o.word("measures") == "nothing"
		f.Keep = int(o.whole("keep"))
		f.Newest = o.word("drops") == "newest"
		f.Back = parse(d.reader, o.get("pace"), what+": pace", 0, quantity.ParseRate)
		f.NewestFirst = o.word("order") == "newest first"
		for _, name := range []string{"keep", "drops", "pace", "order"} {
			if v := o.get(name); v != nil && f.Idle {
				d.Add(pos(v), "%s: %s says what becomes of messages, but nothing is measured", what, name)
			}
		}
	default:
		f.Idle = d.word(n, what, "keep", "keep", "idle") == "idle"
	}
	d.add(x)
}

func (d *actions) restart(n *yaml.Node, what string) {
	x := crowd.Action{Kind: crowd.ActionRestart, Restart: crowd.Restart{Off: 5 * time.Second}}
	if !isTrue(n) {
		o := d.object(n, what, restartMap)
		x.Restart = crowd.Restart{Off: o.span("off"), End: o.word("session") == "end", Lose: o.word("backlog") == "lose",
			Counters: o.word("counters") == "anew"}
		if sn := o.get("set"); sn != nil {
			before := len(d.list)
			d.set(sn, what+": set")
			x.Restart.Set = slices.Clone(d.list[before:])
			d.list = d.list[:before]
		}
	}
	d.add(x)
}

// command reads a command that the platform is made to give: its name, or with values.
func (d *actions) command(n *yaml.Node, what string) {
	x := crowd.Action{Kind: crowd.ActionCommand}
	word := n
	if n.Kind == yaml.MappingNode {
		o := d.object(n, what, askActionMap)
		word = o.need("name", "set-rate")
		if wn := o.get("with"); wn != nil {
			for _, e := range d.entries(wn, what+": with") {
				if v, ok := d.plain(e.value, what+": with: "+e.key.Value); ok {
					x.Ask = append(x.Ask, crowd.Match{Name: e.key.Value, Value: v})
				}
			}
		}
		if ln := o.get("link"); ln != nil {
			x.Link = d.linkNamed(ln, what+": link")
		}
		if word == nil {
			return
		}
	}
	name, ok := d.scalar(word, what)
	if !ok {
		return
	}
	var names []string
	for _, c := range d.casts {
		for _, k := range c.Commands {
			names = append(names, k.Name)
			if c == d.cast && k.Name == name {
				x.Command = k
			}
		}
	}
	slices.Sort(names)
	if names = slices.Compact(names); len(names) == 0 {
		d.Add(pos(word), "%s: these devices have no commands; write some under commands: of their kind", what)
	} else if !contains(names, name) {
		d.noSuch(word, what, "command", name, names)
	}
	if x.Command == nil {
		return
	}
	x.Name = name
	if x.Command.Request == nil && d.cast.Link.Protocol == crowd.HTTP {
		d.Add(pos(n), "%s: the command %q does not say how the platform is asked to give it; write a request: beside it",
			what, name)
		return
	}
	d.add(x)
}
