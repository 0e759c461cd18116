package file

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/proof"
	"runcrowd/internal/quantity"
)

// pageParams reads what parameters the next page is asked with.
func (r *reader) pageParams(w *crowd.Witness, n *yaml.Node, what string) {
	if n == nil {
		return
	}
	for _, e := range r.entries(n, what) {
		if of := parse(r, e.value, what+": "+e.key.Value, "", checkPageJQ); of != "" {
			w.Page = append(w.Page, crowd.PageParam{Name: e.key.Value, Of: of})
		}
	}
}

// fieldRules reads what the platform does to fields.
func (r *reader) fieldRules(w *crowd.Witness, n *yaml.Node, what string) {
	if n == nil {
		return
	}
	known, closed := r.fieldNames()
	for _, e := range r.entries(n, what) {
		name, what := e.key.Value, what+": "+e.key.Value
		if first, _, _ := strings.Cut(name, "."); closed && !contains(known, name) && !contains(known, first) {
			if near := formula.Nearest(name, known); near != "" {
				r.Add(pos(e.key), "%s: no reading has this field; did you mean %q?", what, near)
			} else {
				r.Add(pos(e.key), "%s: no reading has this field", what)
			}
		}
		rule := crowd.FieldRule{Field: name}
		if v := r.resolve(e.value); v.Kind == yaml.ScalarNode {
			r.word(v, what, "", "ignored")
			rule.Ignored = true
		} else {
			o := r.object(e.value, what, fieldRuleMap)
			if o.node.Kind != yaml.MappingNode {
				continue
			}
			if as := o.get("as"); as != nil {
				rule.As, _ = r.scalar(as, what+": as")
			}
			if rule.Tolerance = r.number(o.get("tolerance"), what+": tolerance", 0); rule.Tolerance < 0 {
				r.Add(pos(o.get("tolerance")), "%s: tolerance: must not be below zero", what)
			}
			rule.Factor, rule.Offset = r.number(o.get("factor"), what+": factor", 0), r.number(o.get("offset"), what+": offset",
				0)
			if o.get("factor") != nil && rule.Factor == 0 {
				r.Add(pos(o.get("factor")), "%s: factor: zero keeps nothing of the value; write %s: ignored", what, name)
			}
		}
		w.Fields = append(w.Fields, rule)
	}
}

// fieldNames are the names of all fields; closed says that a body has no others.
func (r *reader) fieldNames() (list []string, closed bool) {
	closed = true
	for _, c := range r.crowd.Casts {
		for _, rd := range c.Readings {
			closed = closed && rd.Payload.Template == nil
			for i := range rd.Fields {
				list = append(list, rd.Fields[i].Name)
			}
		}
	}
	return list, closed && len(list) > 0
}

func (r *reader) misplaced(o *object, what, sort string, keys ...string) {
	for _, key := range keys {
		if n := o.get(key); n != nil {
			r.Add(pos(n), "%s: %q does not go with %s", what, key, sort)
		}
	}
}

// checkPageJQ takes what is said of a page and its answer.
func checkPageJQ(s string) (string, error) {
	if _, err := jq.Parse(s, crowd.PageVariables...); err != nil {
		return "", err
	}
	return s, nil
}

// checkAnswerJQ takes what is said of the answer to a message.
func checkAnswerJQ(s string) (string, error) {
	if _, err := jq.Parse(s, crowd.AnswerVariables...); err != nil {
		return "", err
	}
	return s, nil
}

func checkJQ(s string) (string, error) {
	if _, err := jq.Parse(s); err != nil {
		return "", err
	}
	return s, nil
}

func (r *reader) subscription(w *crowd.Witness, o *object, what string) {
	for _, n := range r.list(o.get("subscribe"), what+": subscribe") {
		t := r.text(n, what+": subscribe", formula.Env{"crowd": "", "env": formula.Secrets{}})
		if t == nil {
			continue
		}
		s, err := t.Expand(&formula.Machine{}, formula.Env{"crowd": r.crowd.Name, "env": r.crowd.Env})
		if err == nil {
			err = crowd.CheckFilter(s)
		}
		if err != nil {
			r.Add(pos(n), "%s: subscribe: %s", what, err)
			continue
		}
		for _, other := range w.Filters {
			if crowd.FiltersOverlap(other, s) {
				r.Add(pos(n), "%s: subscribe: %q and %q can mean the same topic, and a broker may send what comes there twice (MQTT 5, "+
					"section 3.3.4): it would count as repeated; write one that means both, or another witness", what, other, s)
			}
		}
		w.Filters = append(w.Filters, s)
	}
	w.QoS = byte(o.whole("qos"))
	if ln := o.get("link"); ln != nil {
		if w.Link = r.linkNamed(ln, what+": link"); w.Link != nil && w.Link.Protocol != crowd.MQTT {
			r.Add(pos(ln), "%s: link: %q speaks %s; a subscription needs an MQTT link", what, w.Link.Name, w.Link.Protocol)
		}
	} else {
		for _, l := range r.crowd.Links {
			if l.Protocol != crowd.MQTT {
				continue
			}
			if w.Link != nil {
				o.need("link", l.Name)
				return
			}
			w.Link = l
		}
		if w.Link == nil {
			r.Add(w.Pos, "%s: a subscription needs an MQTT link, and the file has none", what)
			return
		}
	}
	if w.Link != nil {
		r.ownCredentials(w, o, what)
		r.witnessCredentials(w, what)
	}
	if tn := o.get("topic"); tn != nil {
		r.perCast(func(c *crowd.Cast, env formula.Env) { w.Topics[c] = r.whereTo(tn, what+": topic", env) })
	}
}

// ownCredentials gives a witness the link that it uses with credentials of its own.
func (r *reader) ownCredentials(w *crowd.Witness, o *object, what string) {
	un, pn, cn, kn := o.get("username"), o.get("password"), o.get("cert"), o.get("key")
	if un == nil && pn == nil && cn == nil && kn == nil {
		return
	}
	if un == nil && pn != nil {
		o.need("username", "watcher")
	}
	if cn != nil && w.Link.Scheme != "mqtts" && w.Link.Scheme != "wss" {
		r.Add(pos(cn), "%s: a certificate goes with mqtts:// and wss://, and the link %q has neither", what, w.Link.Name)
		return
	}
	env := crowd.GuestEnv("", formula.Secrets{}, "")
	user, password := r.text(un, what+": username", env), r.text(pn, what+": password", env)
	if un != nil && user == nil || pn != nil && password == nil {
		return
	}
	own, node := *w.Link, *r.links[w.Link]
	node.username, node.password, node.token = un, pn, nil
	if cn != nil {
		node.cert, node.key = cn, kn
	}
	r.links[&own] = &node
	r.own = append(r.own, &own)
	w.Link, w.OwnUser = &own, true
	if pn != nil {
		r.secretText(pn, password)
	}
}

// witnessCredentials checks that the link's credentials make sense for a witness.
func (r *reader) witnessCredentials(w *crowd.Witness, what string) {
	env, node := crowd.GuestEnv("", formula.Secrets{}, ""), r.links[w.Link]
	if node.token != nil {
		before := len(r.List)
		r.accessToken(w.Link, env)
		devices := slices.ContainsFunc(r.crowd.Casts, func(c *crowd.Cast) bool { return c.Link == w.Link })
		if len(r.List) > before && devices { // what is wrong for all was told for them
			r.List = r.List[:before]
			r.Add(w.Pos, "%s uses the link %q, whose access tokens are made of the properties of single devices; give the "+
				"witness a username and a password of its own, or a link", what, w.Link.Name)
			return
		}
		env[crowd.TokenName] = ""
	}
	for _, n := range []*yaml.Node{node.username, node.password, node.cert, node.key} {
		if n == nil {
			continue
		}
		t, err := formula.ParseText(n.Value, env)
		if err != nil {
			r.Add(w.Pos, "%s uses the link %q, whose credentials belong to single devices (%s); give the witness its own, "+
				"with username: and password:", what, w.Link.Name, n.Value)
			return
		}
		r.environment(pos(n), t.EnvNames())
	}
}

// perCast runs a step with the names of each group of devices, and later with
// those of groups that changes make.
func (r *reader) perCast(step castStep) {
	r.steps = append(r.steps, step)
	for _, c := range r.crowd.Casts {
		step(c, castEnv(c))
	}
}

// castEnv is what texts of witnesses know of the devices of a cast.
func castEnv(c *crowd.Cast) formula.Env {
	env := crowd.DeviceEnv()
	env["reading"] = ""
	for _, p := range c.Properties {
		env[p.Name] = p.Sample
	}
	return env
}

// hostVariable finds the environment variable that stands for the host of an
// address: a host is no secret.
var hostVariable = regexp.MustCompile(`^(?:https?://)?\$\{\s*env\.(\w+)\s*\}`)

func (r *reader) require(n *yaml.Node) {
	c, at := r.crowd, map[string]crowd.Pos{}
	if n == nil || isNull(n) {
		c.Require = []proof.Requirement{{Key: "proven", Proven: true, Measure: proof.Share, Percent: 100, Text: "100%"}}
	} else {
		o := r.object(n, "require", requireMap)
		for _, e := range r.entries(n, "require") {
			if e.key.Value == "rounds" {
				r.requireRounds(o.vals["rounds"])
				continue
			}
			if strings.HasPrefix(e.key.Value, "alerts") && o.vals[e.key.Value] != nil {
				r.requireAlerts(o, e.key.Value)
				continue
			}
			if v := o.vals[e.key.Value]; v != nil {
				if q, ok := r.requirement(o, e.key, v); ok {
					c.Require = append(c.Require, q)
					at[q.Key] = pos(e.key)
				}
			}
		}
		if len(c.Require) == 0 && o.node.Kind == yaml.MappingNode && len(o.node.Content) == 0 {
			r.Add(pos(n), "require is empty: every run would pass; leave it out to require proven: 100%%")
		}
	}
	if slices.ContainsFunc(c.Plan.Events, func(e *crowd.Event) bool {
		return e.Expect == crowd.ExpectRefused ||
			e.Expect == crowd.ExpectDiscarded
	}) &&
		!slices.ContainsFunc(c.Require, func(q proof.Requirement) bool { return q.Measure == proof.LetIn }) {
		c.Require = append(c.Require, proof.Requirement{Key: "let_in", Text: "0", Measure: proof.LetIn})
	}
	if slices.ContainsFunc(c.Plan.Events, outside) && !slices.ContainsFunc(c.Require,
		func(q proof.Requirement) bool { return q.Measure == proof.Failed }) {
		c.Require = append(c.Require, proof.Requirement{Key: "actions_failed", Text: "0", Measure: proof.Failed})
	}
	if len(c.Alerts) > 0 && !slices.ContainsFunc(c.Require,
		func(q proof.Requirement) bool { return q.Measure == proof.Alerts }) {
		c.Require = append(c.Require, proof.Requirement{Key: "alerts", Text: "exact", Measure: proof.Alerts, Exact: true})
	}
	if slices.ContainsFunc(c.Witnesses, func(w *crowd.Witness) bool { return w.Counts }) &&
		!slices.ContainsFunc(c.Require, func(q proof.Requirement) bool { return q.Measure == proof.Counted }) {
		c.Require = append(c.Require, proof.Requirement{Key: "counts", Text: "exact", Measure: proof.Counted, Exact: true})
	}
	for _, q := range c.Require {
		for _, w := range c.Witnesses {
			if q.Within > 0 && !q.Proven && w.Proves == q.Proof && w.Sees() && w.Asks() && w.Time == "" {
				r.Add(at[q.Key], "require: %s: \"within\" cannot be measured, because the witness %q does not know when a row "+
					"was stored; add time: to it, or leave out \"within\"", q.Key, w.Name)
			}
		}
	}
	for _, w := range c.Witnesses {
		if w.Wait == 0 && w.OnlyHears() {
			for _, n := range c.AlertsOf(w) {
				w.Wait = max(w.Wait, n.Within)
			}
		}
		for _, n := range c.AlertsOf(w) {
			if w.Wait > 0 && w.Wait < n.Within {
				r.Add(w.Pos, "the witness %q waits %s, and the alert %q may take %s; raise wait, or leave it out", w.Name,
					quantity.FormatDuration(w.Wait), n.Name, quantity.FormatDuration(n.Within))
			}
		}
		if w.Wait == 0 {
			w.Wait = 10 * time.Second
			for _, n := range c.AlertsOf(w) { // of one that hears messages, too
				w.Wait = max(w.Wait, n.Within)
			}
			for _, q := range c.Require {
				if q.Within > 0 && (!w.Sees() || q.Proof == w.Proves || q.Proven) {
					// Longer than what is allowed, to tell the late from the lost.
					w.Wait = max(w.Wait, 2*q.Within)
				}
			}
		}
	}
}

func (r *reader) requirement(o *object, key, n *yaml.Node) (proof.Requirement, bool) {
	s, ok := r.scalar(n, "require: "+key.Value)
	if !ok {
		return proof.Requirement{}, false
	}
	q := proof.Requirement{Key: key.Value, Text: s}
	what := "require: " + q.Key
	before := len(r.List)
	base, measure, _ := strings.Cut(q.Key, "_")
	switch q.Key {
	case "counts":
		q.Measure, q.Exact = proof.Counted, o.word(q.Key) == "exact"
		if !slices.ContainsFunc(r.crowd.Witnesses, func(w *crowd.Witness) bool { return w.Counts }) && !r.blind {
			r.Add(pos(key), "%s: no witness tells a count; add one with proves: counts, or leave this out", what)
		}
		return q, len(r.List) == before
	case "events":
		q.Measure = proof.Events
		o.word(q.Key)
		if len(r.crowd.Plan.Events) == 0 {
			r.Add(pos(key), "%s: the plan has no events; add some, or leave this out", what)
		}
		return q, len(r.List) == before
	case "unmatched", "out_of_order", "let_in", "actions_failed":
		q.Measure = proof.Measure(q.Key)
		q.Most = int(o.whole(q.Key))
		return q, len(r.List) == before
	case "lag_p99":
		q.Measure = proof.Measure(q.Key)
		q.Limit = o.span(q.Key)
		return q, len(r.List) == before
	case "proven":
		q.Proven = true
	default:
		q.Proof, _ = proof.Named(base)
		r.canBeProven(q, pos(key), what)
	}
	if measure != "" {
		q.Measure = proof.Measure(measure)
		q.Limit = o.span(q.Key)
		return q, len(r.List) == before
	}
	q.Measure = proof.Share
	share, within, timed := strings.Cut(s, " within ")
	p, err := quantity.ParsePercent(share)
	if err == nil && timed {
		if q.Within, err = quantity.ParseDuration(within); err == nil && q.Within <= 0 {
			err = fmt.Errorf("the time after \"within\" must be longer than zero")
		}
	}
	if err == nil && timed && (q.Proven || q.Proof == proof.Acknowledged) {
		err = fmt.Errorf("\"within\" goes with received and stored; for acknowledgements write acknowledged_worst: %s",
			within)
	}
	if err != nil {
		r.Add(pos(n), "%s: %s", what, err)
	}
	q.Percent = float64(p)
	return q, len(r.List) == before
}

var resultPattern = regexp.MustCompile(resultRE)

// results reads which files a run leaves.
func (r *reader) results(n *yaml.Node) {
	if n == nil || isNull(n) {
		return
	}
	for _, x := range r.list(n, "results") {
		s, ok := r.scalar(x, "results")
		switch {
		case !ok:
		case !resultPattern.MatchString(s):
			r.Add(pos(x), "results: %q is no name of a result; write one that ends in .html, .xml (JUnit), .md, .csv, .jsonl "+
				"or .db, followed by .zst to compress it; it is made in the run folder", s)
		case contains(r.crowd.Results, s):
			r.Add(pos(x), "results: %q stands twice", s)
		default:
			r.crowd.Results = append(r.crowd.Results, s)
		}
	}
}

// outside tells whether an event needs the platform's side.
func outside(e *crowd.Event) bool {
	return e.Does(crowd.ActionRegister, crowd.ActionUnregister, crowd.ActionCommand)
}

// requireRounds reads what single rounds must show.
func (r *reader) requireRounds(n *yaml.Node) {
	if n == nil {
		return
	}
	for _, e := range r.entries(n, "require: rounds") {
		name := e.key.Value
		what := "require: rounds: " + name
		rounds, err := parseRounds(name)
		if p := r.crowd.Plan.Rounds; err == nil && p > 0 && max(rounds.From, rounds.To) > p {
			err = fmt.Errorf("the plan has only %d", p)
		}
		if err != nil {
			r.Add(pos(e.key), "%s: %s", what, err)
			continue
		}
		o := r.object(e.value, what, requireRoundMap)
		for _, x := range r.entries(e.value, what) {
			if v := o.vals[x.key.Value]; v != nil {
				if q, ok := r.requirement(o, x.key, v); ok {
					q.Rounds = rounds
					r.crowd.Require = append(r.crowd.Require, q)
				}
			}
		}
	}
}

// parseRounds reads "each", "first", "last", "3", "2 to 5" and "2 on".
func parseRounds(s string) (proof.Rounds, error) {
	x := proof.Rounds{Name: "round " + s}
	from, to, isRange := strings.Cut(s, " to ")
	open, isOpen := strings.CutSuffix(s, " on")
	var err error
	switch {
	case s == "each":
		x.Name, x.From = "each round", 1
	case s == "first":
		x.Name, x.From, x.To = "first round", 1, 1
	case s == "last":
		x.Name, x.From = "last round", -1
	case isRange:
		x.Name = "rounds " + s
		if x.From, err = strconv.Atoi(from); err == nil {
			x.To, err = strconv.Atoi(to)
		}
	case isOpen:
		x.From, err = strconv.Atoi(open)
	default:
		x.From, err = strconv.Atoi(s)
		x.To = x.From
	}
	if err != nil || x.From == 0 || x.From < -1 || x.To < 0 || x.To > 0 && x.To < x.From {
		return x, fmt.Errorf("%q names no rounds; write each, first, last, 3, \"2 to 5\" or \"2 on\"", s)
	}
	return x, nil
}

// canBeProven notes a requirement that nothing in the file can fulfil.
func (r *reader) canBeProven(q proof.Requirement, at crowd.Pos, what string) {
	if q.Proof == proof.Acknowledged {
		for _, c := range r.crowd.Casts {
			for _, rd := range c.Readings {
				if c.Kind.Link == nil || c.Kind.Link.Protocol == crowd.HTTP || rd.QoS > 0 {
					return
				}
			}
		}
		if len(r.crowd.Casts) > 0 {
			r.Add(at, "%s: no reading asks for acknowledgements (all are QoS 0); use qos: 1, or leave this out", what)
		}
		return
	}
	for _, w := range r.crowd.Witnesses {
		if w.Proves == q.Proof && w.Sees() {
			return
		}
	}
	if r.blind {
		return
	}
	r.Add(at, "%s: no witness proves that messages are %s; add one under witnesses:, or leave this out", what, q.Proof)
}

// guests compiles what those show on a link who are no devices. What is wrong is no
// mistake yet: perhaps nobody but devices uses the link.
func (r *reader) guests() {
	for _, l := range slices.Concat(r.crowd.Links, r.own) {
		before, missing := r.Problems, r.missing
		r.Problems, r.missing = crowd.NewProblems(r.crowd.Path, r.crowd.Source), map[string]bool{}
		env, node, g := crowd.GuestEnv("", formula.Secrets{}, ""), r.links[l], &l.Guest
		if g.Token = r.accessToken(l, env); g.Token != nil {
			env[crowd.TokenName] = ""
		}
		g.Username, g.Password, g.Path = r.text(node.username, "username", env), r.text(node.password, "password",
			env), r.text(node.path, "path", env)
		g.Cert, g.Key = r.text(node.cert, "tls: cert", env), r.text(node.key, "tls: key", env)
		if len(r.List) > 0 {
			l.GuestErr = errors.New(r.List[0].Text)
		}
		r.Problems, r.missing = before, missing
	}
}
