package file

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
)

// alerts reads what the platform must say by itself.
func (r *reader) alerts(n *yaml.Node) {
	for _, e := range r.entries(n, "alerts") {
		name := r.name(e.key, "alerts", e.key.Value)
		what := fmt.Sprintf("the alert %q", name)
		o := r.object(e.value, what, alertMap)
		if o.node.Kind != yaml.MappingNode {
			continue
		}
		x := &crowd.Alert{Name: name, Pos: pos(e.key), Within: o.span("within"), Calls: map[*crowd.Reading]*crowd.Call{}}
		r.crowd.Alerts = append(r.crowd.Alerts, x)
		if len(r.crowd.Alerts) == crowd.MostAlerts+1 {
			r.Add(x.Pos, "alerts: there are more than %d", crowd.MostAlerts)
		}
		x.About = parse(r, o.value("about"), what+": about", "", checkHeard)
		x.Match = parse(r, o.get("match"), what+": match", "", checkHeard)
		if by := o.value("heard_by"); by != nil {
			r.heardBy(x, by, what)
		}
		if called := o.get("device_name"); called != nil {
			x.DeviceName = map[*crowd.Cast]*formula.Text{}
			r.perCast(func(c *crowd.Cast, env formula.Env) {
				delete(env, "reading")
				x.DeviceName[c] = r.text(called, what+": device_name", env)
			})
		}
		r.calls(x, o, what)
	}
}

// checkHeard checks an expression on what was heard.
func checkHeard(s string) (string, error) {
	_, err := jq.Parse(s, "$topic")
	return s, err
}

// heardBy finds the witness that hears an alert.
func (r *reader) heardBy(x *crowd.Alert, n *yaml.Node, what string) {
	name, ok := r.scalar(n, what+": heard_by")
	if !ok {
		return
	}
	var known []string
	for _, w := range r.crowd.Witnesses {
		if w.Name == name {
			x.HeardBy = w
		}
		if w.Hears {
			known = append(known, w.Name)
		}
	}
	switch {
	case x.HeardBy == nil:
		r.noSuch(n, what+": heard_by", "witness", name, known)
	case !x.HeardBy.Hears:
		r.Add(pos(n), "%s: heard_by: the witness %q does not hear alerts; write proves: alerts there, or proves: "+
			"[received, alerts]", what, name)
	case x.HeardBy.Sees() && x.Match == "":
		r.Add(x.Pos, "%s: the witness %q hears messages too; say with match: which of what it hears is this alert, such as "+
			".rule == \"%s\"", what, name, x.Name)
	}
}

// calls finds the readings whose values call for an alert.
func (r *reader) calls(x *crowd.Alert, o *object, what string) {
	wn, un := o.value("when"), o.get("until")
	if wn == nil {
		return
	}
	when, ok := r.scalar(wn, what+": when")
	until, set := "", un != nil
	if set {
		var is bool
		until, is = r.scalar(un, what+": until")
		ok = ok && is
	}
	if !ok {
		return
	}
	only := ""
	if rn := o.get("reading"); rn != nil {
		only, _ = r.scalar(rn, what+": reading")
	}
	var first error
	at, known := wn, []string{}
	look := func(c *crowd.Cast) {
		var fits []string
		for _, rd := range c.Readings {
			known = append(known, rd.Name)
			if only != "" && rd.Name != only {
				continue
			}
			env := crowd.DeviceEnv()
			for _, p := range c.Properties {
				env[p.Name] = p.Sample
			}
			fields := make([]string, len(rd.Fields))
			for i := range rd.Fields {
				if rd.Only != "" && rd.Only != rd.Fields[i].Name { // another message has it
					continue
				}
				fields[i] = strings.ReplaceAll(rd.Fields[i].Name, ".", "_")
				env[fields[i]] = rd.Fields[i].Sample
			}
			call, place, err := r.call(when, until, set, env, fields)
			if err != nil {
				if first == nil {
					if at = wn; place != "when" {
						at = un
					}
					first = fmt.Errorf("%s: %s: %w", what, place, err)
				}
				continue
			}
			if usesSecret(append(call.When.Names(), names(call.Until)...), c.Secrets) {
				r.Add(pos(wn), "%s uses a secret, and what it finds is recorded in the run folder", what)
				return
			}
			for i := range rd.Fields {
				if slices.Contains(call.When.Names(), fields[i]) || slices.Contains(names(call.Until), fields[i]) {
					call.Fields = append(call.Fields, rd.Fields[i].Name)
				}
			}
			fits = append(fits, rd.Name)
			x.Calls[rd] = call
		}
		if len(fits) > 1 {
			r.Add(pos(wn), "%s: several readings of the kind %q have these fields (%s); say which: reading: %s", what,
				c.Kind.Name, strings.Join(fits, ", "), fits[0])
		}
	}
	before := len(r.List)
	for _, c := range r.crowd.Casts {
		if look(c); len(r.List) > before {
			return
		}
	}
	r.steps = append(r.steps, func(c *crowd.Cast, _ formula.Env) { look(c) }) // of those that changes make
	switch {
	case len(x.Calls) > 0:
	case only != "" && !slices.Contains(known, only):
		r.noSuch(o.get("reading"), what, "reading", only, known)
	case first != nil:
		r.Add(pos(at), "%s", first)
	}
}

func names(f *formula.Formula) []string {
	if f == nil {
		return nil
	}
	return f.Names()
}

// call compiles what calls for an alert, where a reading has its fields.
func (r *reader) call(when, until string, set bool, env formula.Env,
	fields []string) (_ *crowd.Call, place string, err error) {
	compile := func(s string) (*formula.Formula, error) {
		f, err := formula.Compile(s, env)
		if err == nil {
			if _, is := f.Sample().(bool); !is {
				err = fmt.Errorf("%s is no question; write one such as battery_v < 11", s)
			}
		}
		return f, err
	}
	x := &crowd.Call{}
	if x.When, err = compile(when); err != nil {
		return nil, "when", err
	}
	if !slices.ContainsFunc(x.When.Names(), func(name string) bool { return slices.Contains(fields, name) }) {
		return nil, "when", fmt.Errorf("%s uses no field: what is never sent calls for nothing", when)
	}
	if set {
		if x.Until, err = compile(until); err != nil {
			return nil, "until", err
		}
	}
	return x, "", nil
}

// callback reads where the platform calls us.
func (r *reader) callback(w *crowd.Witness, o *object, what string) {
	n := o.get("callback")
	t := r.text(n, what+": callback", formula.Env{"crowd": "", "env": formula.Secrets{}})
	if t == nil {
		return
	}
	s, err := t.Expand(&formula.Machine{}, formula.Env{"crowd": r.crowd.Name, "env": r.crowd.Env})
	if err != nil {
		r.Add(pos(n), "%s: callback: %s", what, err)
		return
	}
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Port() == "" || u.User != nil || u.RawQuery != "" {
		r.Add(pos(n), "%s: callback: %q is no address to listen on; write one with its port, such as "+
			"http://127.0.0.1:9099/from-platform", what, s)
		return
	}
	c := &crowd.Callback{URL: s, Address: net.JoinHostPort(u.Hostname(), u.Port()), Path: u.Path}
	if c.Path == "" {
		c.Path = "/"
	}
	w.Callback = c
	c.RequireHeaders = r.headers(o.get("require_headers"), what+": require_headers",
		formula.Env{"crowd": "", "env": formula.Secrets{}, "body": ""})
	for key, into := range map[string]*[]byte{"cert": &c.Cert, "key": &c.Key} {
		if fn := o.get(key); fn != nil && !r.from.WithoutCertificates {
			if name, ok := r.scalar(fn, what+": "+key); ok {
				if *into, err = r.read(name); err != nil {
					r.Add(pos(fn), "%s: %s: %s", what, key, err)
				}
			}
		}
	}
	if secure := o.get("cert") != nil; secure != (u.Scheme == "https") {
		if secure {
			r.Add(pos(o.get("cert")), "%s: a certificate goes with https://", what)
		} else {
			r.Add(pos(n), "%s: https needs a certificate: cert: hook.pem and key: hook-key.pem beside it", what)
		}
	}
	if an := o.get("respond"); an != nil {
		a := r.object(an, what+": respond", respondMap)
		c.Status, c.Times, c.For, c.Delay = int(a.whole("status")), int(a.whole("times")), a.span("for"), a.span("delay")
		if c.Times > 0 && c.For > 0 {
			r.Add(pos(an), "%s: answer has both times and for; keep one", what)
		}
	}
}

// requireAlerts reads what a run must show of alerts.
func (r *reader) requireAlerts(o *object, key string) {
	n := o.vals[key]
	add := func(q proof.Requirement, at crowd.Pos) {
		if len(r.crowd.Alerts) == 0 {
			r.Add(at, "require: %s: the file has no alerts; add some under alerts:, or leave this out", key)
			return
		}
		r.crowd.Require = append(r.crowd.Require, q)
	}
	if measure, is := strings.CutPrefix(key, "alerts_"); is {
		before := len(r.List)
		q := proof.Requirement{Key: key, Text: r.resolve(n).Value, Measure: proof.Alerts, Delay: proof.Measure(measure),
			Limit: o.span(key)}
		if len(r.List) == before {
			add(q, pos(n))
		}
		return
	}
	one := func(n *yaml.Node, name string) {
		q := proof.Requirement{Key: key, Measure: proof.Alerts, Alert: name}
		if name != "" {
			q.Key = key + ": " + name
		}
		what := "require: " + q.Key
		s, ok := r.scalar(n, what)
		if !ok {
			return
		}
		q.Text = s
		if q.Exact = s == "exact"; !q.Exact {
			p, err := quantity.ParsePercent(s)
			if err != nil {
				r.Add(pos(n), "%s: write exact, or a percentage such as 99%%, not %q", what, s)
				return
			}
			q.Percent = float64(p)
		}
		add(q, pos(n))
	}
	if v := r.resolve(n); v.Kind != yaml.MappingNode {
		one(n, "")
		return
	}
	var known []string
	for _, x := range r.crowd.Alerts {
		known = append(known, x.Name)
	}
	for _, e := range r.entries(n, "require: alerts") {
		if !slices.Contains(known, e.key.Value) && len(known) > 0 {
			r.noSuch(e.key, "require: alerts", "alert", e.key.Value, known)
			continue
		}
		one(e.value, e.key.Value)
	}
}
