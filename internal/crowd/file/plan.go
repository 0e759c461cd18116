package file

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
)

func (r *reader) plan(n *yaml.Node) {
	p := &r.crowd.Plan
	o := r.object(n, "plan", planMap)
	p.Settle = o.span("settle")
	r.ends(p, o)
	p.Begin = parse(r, o.get("begin"), "plan: begin", crowd.Begin{}, ParseBegin)
	p.Speed = parse(r, o.get("speed"), "plan: speed", crowd.Speed{}, parseSpeed)
	p.Join = parse(r, o.get("join"), "plan: join", crowd.Join{}, parseJoin)
	if p.Join.Over > p.For && p.For > 0 {
		r.Add(pos(o.get("join")), "plan: join takes %s, longer than the %s of the plan",
			quantity.FormatDuration(p.Join.Over), quantity.FormatDuration(p.For))
	}
	r.rounds(p, o)
	if bn := o.get("begin"); bn != nil {
		if err := CheckBegin(p); err != nil {
			r.Add(pos(bn), "plan: begin: %s", err)
		}
	}
	if en := o.get("events"); en != nil {
		r.events(en)
	}
}

// ends reads when a round ends: one or several of for, until and messages.
func (r *reader) ends(p *crowd.Plan, o *object) {
	p.For = crowd.Forever
	fn, un, mn := o.get("for"), o.get("until"), o.get("messages")
	switch {
	case fn != nil && fn.Value == "ever":
	case fn != nil:
		p.For = o.span("for")
	case un == nil && mn == nil:
		o.need("for", "1m")
	}
	if un != nil {
		at, err := quantity.ParseClock(un.Value)
		if err != nil {
			r.Add(pos(un), "plan: until: %s", err)
		}
		p.Until = crowd.TimeOfDay{Is: err == nil, At: at}
	}
	p.Messages = int(o.whole("messages"))
	if mn == nil || p.Messages == 0 {
		return
	}
	for _, c := range r.crowd.Casts {
		for _, rd := range c.Readings {
			if p.Messages%rd.Batch != 0 {
				r.Add(pos(mn), "plan: messages: each device sends %d, but the reading %q sends %d at once; write a multiple of it",
					p.Messages, rd.Name, rd.Batch)
			}
		}
	}
}

func (r *reader) rounds(p *crowd.Plan, o *object) {
	p.Rounds = 1
	rn := o.get("rounds")
	if rn == nil {
		return
	}
	ro := r.object(rn, "plan: rounds", roundsMap)
	p.Rounds = int(ro.whole("count"))
	p.GiveUp = int(ro.whole("give_up"))
	p.Every = ro.span("every")
	en := ro.get("every")
	switch {
	case ro.get("count") == nil && en == nil:
		r.Add(pos(rn), "plan: rounds says neither how often nor at which interval; write, for example, {count: 3} or "+
			"{every: 24h}")
	case p.For == crowd.Forever && !p.Until.Is && p.Messages == 0 && p.Rounds != 1:
		r.Add(pos(rn), "plan: rounds: the first round has no end; write for, until or messages")
	case en != nil && p.For != crowd.Forever && p.Speed == crowd.Speed{} && p.Every < p.For:
		r.Add(pos(en), "plan: rounds: a round every %s, but each lasts %s: they would overlap", en.Value,
			quantity.FormatDuration(p.For))
	}
}

// CheckBegin tells what does not go with when a plan begins.
func CheckBegin(p *crowd.Plan) error {
	switch {
	case p.Begin.Past == 0:
	case p.Rounds != 1:
		return errors.New("rounds do not go with a beginning in the past: every round would begin at another time")
	case p.Speed != crowd.Speed{}:
		return errors.New("a speed does not go with a beginning in the past: that is sent as fast as it is acknowledged, " +
			"and what comes then at the time at which it is due")
	}
	return nil
}

// ParseBegin reads when the clock of a plan begins: a time of day for which the run waits,
// a time to which the clock is set, or how long ago.
func ParseBegin(s string) (crowd.Begin, error) {
	s = strings.TrimSpace(s)
	if ago, is := strings.CutPrefix(s, "-"); is {
		d, err := quantity.ParseDuration(ago)
		if err == nil && (d <= 0 || d > 10*year) {
			err = fmt.Errorf("%s is not between now and ten years ago", s)
		}
		return crowd.Begin{Past: d}, err
	}
	if at, is := quantity.ParseInstant(s); is {
		if at.Year() < 1970 || at.Year() > 2200 {
			return crowd.Begin{}, fmt.Errorf("%s is not between 1970 and 2200", s)
		}
		return crowd.Begin{At: at.UTC()}, nil
	}
	if at, err := quantity.ParseClock(s); err == nil {
		return crowd.Begin{Day: crowd.TimeOfDay{Is: true, At: at}}, nil
	}
	return crowd.Begin{}, fmt.Errorf("%q is no beginning; write a time of day (\"02:00\", UTC), a time "+
		"(2026-01-15T02:00:00Z), or how long ago (-7d)", s)
}

// parseSpeed reads "60" or "max".
func parseSpeed(s string) (crowd.Speed, error) {
	if s == "max" {
		return crowd.Speed{Max: true}, nil
	}
	v, err := parsePositive(s)
	if err == nil && (v < 0.001 || v > 100_000) {
		err = fmt.Errorf("%s is not between 0.001 and 100000", s)
	}
	return crowd.Speed{Factor: v}, err
}

func parsePositive(s string) (float64, error) {
	n, ok := crowd.Number(s)
	if !ok || n.Float() <= 0 {
		return 0, fmt.Errorf("%q is not a number above zero, or max", s)
	}
	return n.Float(), nil
}

// events reads what happens on the way.
func (r *reader) events(n *yaml.Node) {
	if n = r.resolve(n); n.Kind != yaml.SequenceNode {
		r.Add(pos(n), "plan: events must be a list: - {at: 2m, for: 30s, who: buoy-007, do: {offline: keep}}, not %s",
			describe(n))
		return
	}
	p := &r.crowd.Plan
	objects := make([]*object, len(n.Content))
	names := map[string]int{}
	for i, en := range n.Content {
		o := r.object(en, fmt.Sprintf("the event %d", i+1), eventMap)
		e := &crowd.Event{Pos: pos(r.resolve(en)), After: -1}
		if nn := o.get("name"); nn != nil {
			if s, ok := r.scalar(nn, o.what+": name"); ok {
				if e.Name = r.name(nn, "events", s); e.Name != "" {
					o.what = fmt.Sprintf("the event %q", e.Name)
				}
				if _, twice := names[e.Name]; twice {
					r.Add(pos(nn), "two events have the name %q", e.Name)
				}
				names[e.Name] = i
			}
		}
		objects[i] = o
		p.Events = append(p.Events, e)
	}
	for i, o := range objects {
		r.when(p, i, o, names)
	}
	for i, o := range objects {
		if r.circle(p, i) {
			r.Add(pos(o.get("after")), "%s follows itself, directly or by way of others", o.what)
			return
		}
	}
	r.happens = objects
	for i, o := range objects {
		r.event(p.Events[i], o)
	}
	for i, o := range objects {
		if e := p.Events[i]; e.After >= 0 && e.Ended && p.Events[e.After].Lasts(0, 0) == 0 && len(p.Events[e.After].Do) > 0 {
			r.Add(pos(o.get("after")), "%s: the event that it follows has no end; write for: there, or after: … begins", o.what)
		}
	}
}

// befall reads the events again when the devices are known: whom they befall.
func (r *reader) befall() {
	events := r.crowd.Plan.Events
	for i, o := range r.happens {
		r.event(events[i], o)
	}
	seen := map[string]int{}
	for _, e := range events {
		seen[e.Name]++
	}
	for _, e := range events {
		e.Label = "event"
		for _, list := range e.Do {
			if len(list) > 0 {
				e.Label = list[0].Kind.String()
			}
		}
		if e.Name != "" {
			continue
		}
		if seen[e.Label]++; seen[e.Label] > 1 {
			e.Label += fmt.Sprintf(" %d", seen[e.Label])
		}
	}
	for i := range r.crowd.Require {
		for _, e := range events {
			q := &r.crowd.Require[i]
			negative := e.Expect == crowd.ExpectRefused || e.Expect == crowd.ExpectDiscarded
			if q.Measure == proof.Events || q.Measure == proof.LetIn && negative {
				q.Events = append(q.Events, e.Title())
			}
		}
	}
}

// circle tells whether an event follows itself in the end.
func (r *reader) circle(p *crowd.Plan, i int) bool {
	at := i
	for range p.Events {
		if at = p.Events[at].After; at < 0 {
			return false
		}
	}
	return true
}

// when reads what an event waits for.
func (r *reader) when(p *crowd.Plan, i int, o *object, names map[string]int) {
	e := p.Events[i]
	e.Fresh = o.truth("fresh")
	e.Delay = o.span("delay")
	if dn := o.get("delay"); dn != nil && o.get("after") == nil {
		r.Add(pos(dn), "%s: delay goes with after", o.what)
	}
	var given []string
	for _, name := range []string{"at", "every", "after", "chance"} {
		if o.get(name) != nil && (name != "at" || o.get("every") == nil) {
			given = append(given, name)
		}
	}
	if len(given) != 1 {
		what := "does not say when; write at: 2m, every: 3m, after: NAME or chance: 2% per minute"
		if len(given) > 1 {
			what = "says when more than once: " + strings.Join(given, " and ")
		}
		r.Add(pos(o.node), "%s %s", o.what, what)
		return
	}
	switch given[0] {
	case "at":
		e.At = o.span("at")
	case "every":
		e.When, e.Every = crowd.EveryTime, o.span("every")
		if e.At = e.Every; o.get("at") != nil {
			e.At = o.span("at")
		}
	case "chance":
		e.When = crowd.ByChance
		e.Chance, e.Per = 0, time.Minute
		parse(r, o.get("chance"), o.what+": chance", 0, func(s string) (int, error) {
			share, per, found := strings.Cut(s, " per ")
			if !found {
				return 0, fmt.Errorf("%q is no chance; write, for example, 2%% per minute", s)
			}
			percent, err := quantity.ParsePercent(share)
			if err != nil {
				return 0, err
			}
			e.Chance = percent.Share()
			if e.Chance == 0 {
				return 0, fmt.Errorf("%q never comes", s)
			}
			e.Per, err = parsePer(per)
			return 0, err
		})
	case "after":
		e.When = crowd.AfterEvent
		an := o.get("after")
		s, ok := r.scalar(an, o.what+": after")
		if !ok {
			return
		}
		name, begins := strings.CutSuffix(s, " begins")
		name = strings.TrimSuffix(name, " ends")
		e.Ended = !begins
		at, known := names[name]
		if !known {
			var list []string
			for n := range names {
				list = append(list, n)
			}
			slices.Sort(list)
			if len(list) == 0 {
				r.Add(pos(an), "%s: no event has a name; give a name to the event that it follows", o.what)
				return
			}
			r.noSuch(an, o.what+": after", "event", name, list)
			return
		}
		e.After = at
	}
}

// event reads whom an event befalls, how long, and what is done.
func (r *reader) event(e *crowd.Event, o *object) {
	p := &r.crowd.Plan
	e.For = parse(r, o.get("for"), o.what+": for", e.For, parseFor)
	if fn := o.get("for"); fn != nil && e.For[1] == 0 {
		r.Add(pos(fn), "%s: for must be longer than zero", o.what)
	}
	if e.When == crowd.AtTime && e.At >= p.For {
		r.Add(pos(o.get("at")), "%s: at %s the plan is over: it ends after %s", o.what, o.get("at").Value,
			quantity.FormatDuration(p.For))
	}
	if x := slices.Index(crowd.ExpectNames, o.word("expect")); x >= 0 {
		e.Expect = crowd.Expect(x + 1)
	}
	var members []crowd.Candidate
	for _, mb := range r.crowd.Members {
		members = append(members, crowd.Candidate{Name: mb.Name, Kind: mb.Cast.Kind.Name, Tags: mb.Cast.Tags, Env: mb.Env,
			Group: mb.Cast})
	}
	casts := r.crowd.Casts
	if wn := o.get("who"); wn != nil {
		if e.Who = parse(r, wn, o.what+": who", nil, crowd.ParseSelection); e.Who != nil {
			e.Who.Pos = pos(wn)
		}
		if e.When == crowd.AfterEvent && e.After >= 0 && r.byItself(p, e.After) {
			r.Add(pos(wn), "%s: the event that it follows comes by chance, to each device at a time of its own; leave who "+
				"out: it then acts on the same device", o.what)
		}
	}
	if len(members) > 0 {
		seen := map[*crowd.Cast]bool{}
		in := members
		if e.Who != nil {
			pool, err := e.Who.Pool(members)
			if err != nil {
				r.Add(e.Who.Pos, "%s: who: %s", o.what, err)
				return
			}
			in = nil
			for _, i := range pool.All() {
				in = append(in, members[i])
			}
		}
		casts = nil
		for _, m := range in {
			if c, is := m.Group.(*crowd.Cast); is && !seen[c] {
				seen[c] = true
				casts = append(casts, c)
			}
		}
	}
	e.Do = map[*crowd.Cast][]crowd.Action{}
	dn := o.need("do", "{offline: keep}")
	if dn == nil {
		return
	}
	before, first, fits := len(r.List), []crowd.Problem(nil), false
	for i, c := range casts {
		if list := r.actions(dn, o.what+": do", c, casts, castEnv(c), true); len(list) > 0 {
			e.Do[c] = list
		}
		if len(members) > 0 || e.Who == nil {
			continue
		}
		// Whom it befalls is not known yet: a mistake is one of all groups.
		if i == 0 {
			first = slices.Clone(r.List[before:])
		}
		fits = fits || len(r.List) == before
		r.List = r.List[:before]
	}
	if !fits {
		r.List = append(r.List, first...)
	}
	r.expected(e, o, dn)
}

// byItself tells whether an event comes to each device at a time of its own.
func (r *reader) byItself(p *crowd.Plan, i int) bool {
	e := p.Events[i]
	return e.When == crowd.ByChance || e.When == crowd.AfterEvent && e.Who == nil && e.After >= 0 && r.byItself(p, e.After)
}

// expected notes what cannot be expected of an event, and what has to be.
func (r *reader) expected(e *crowd.Event, o *object, dn *yaml.Node) {
	var kinds []crowd.ActionKind
	for _, list := range e.Do {
		for _, x := range list {
			kinds = append(kinds, x.Kind)
		}
	}
	has := func(k crowd.ActionKind) bool { return slices.Contains(kinds, k) }
	if len(kinds) == 0 {
		return
	}
	xn := o.get("expect")
	if fn := o.get("for"); fn != nil && !slices.ContainsFunc(kinds,
		func(k crowd.ActionKind) bool { return !k.Momentary() && k != crowd.ActionUnregister }) {
		r.Add(pos(fn), "%s: for says how long, but what is done (%s) is done at once, and cannot be undone", o.what, kinds[0])
	}
	switch {
	case xn == nil && has(crowd.ActionCorrupt):
		r.Add(pos(dn), "%s: say what the platform must do with a corrupted message: expect: refused, or expect: discarded",
			o.what)
	case xn == nil && has(crowd.ActionCredential):
		r.Add(pos(dn), "%s: say what the platform must do: expect: refused, or expect: discarded", o.what)
	case e.Expect == crowd.ExpectOnce && !has(crowd.ActionRepeat):
		r.Add(pos(xn), "%s: once goes with repeat", o.what)
	case e.Expect != crowd.ExpectProven && e.Expect != crowd.ExpectOnce && !has(crowd.ActionCorrupt) &&
		!has(crowd.ActionCredential) && !has(crowd.ActionUnregister):
		r.Add(pos(xn), "%s: nothing is done that a platform could refuse; %s goes with credential, corrupt and unregister",
			o.what, e.Expect)
	}
}
