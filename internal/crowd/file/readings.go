package file

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
)

// sequencesFit notes readings that send more often than a whole-number mark can
// count in one run.
func (r *reader) sequencesFit(c *crowd.Cast) {
	p := &r.crowd.Plan
	for _, rd := range c.Readings {
		if rd.OnConnect {
			continue
		}
		if n := float64(p.Rounds) * float64(p.For) / float64(rd.Every); c.Kind.Mark.Place == crowd.MarkSequence &&
			n > ledger.MaxSequence {
			r.Add(rd.Pos, "the reading %q is due %.0f times in this plan; a mark that is a sequence can tell %d apart; use "+
				"mark: {field: NAME}", rd.Name, n, ledger.MaxSequence)
		}
	}
}

// jitter reads by how much messages may be early or late: a share of the interval, or a
// time.
func (r *reader) jitter(rd *crowd.Reading, n *yaml.Node, what string) {
	if n == nil {
		return
	}
	if s, ok := r.scalar(n, what+": jitter"); ok && !strings.Contains(s, "%") {
		var err error
		if rd.Shake, err = quantity.ParseDuration(s); err != nil || rd.Shake < 0 {
			r.Add(pos(n), "%s: jitter: %q is neither a percentage nor a time; write one such as 10%% or 200ms", what, s)
		}
	} else if ok {
		rd.Jitter = parse(r, n, what+": jitter", 0, quantity.ParsePercent).Share()
	}
	if rd.Jitter > 0.5 || rd.Shake > rd.Every/2 && rd.Every > 0 {
		r.Add(pos(n), "%s: jitter above 50%% of the interval would let messages overtake each other", what)
	}
}

// interval reads how often a reading is sent.
func (r *reader) interval(rd *crowd.Reading, o *object, what string) {
	n := o.value("every")
	if rd.OnConnect = n != nil && n.Kind == yaml.ScalarNode && n.Value == "connect"; rd.OnConnect {
		rd.Every = 0
		return
	}
	rd.Every = r.span(n, o.told("every"), time.Second, time.Millisecond, year)
}

// readings reads the readings of a group. One that is sent field by field becomes as many as it
// has fields, each named as its field; they share the measurement and its time.
func (r *reader) readings(entries []entry, c *crowd.Cast, env formula.Env) (list []*crowd.Reading) {
	from := map[string]string{}
	for _, e := range entries {
		only := r.fieldByField(e.value)
		if only == nil {
			only = []string{""}
		}
		for _, field := range only {
			rd := r.reading(e, c, env, field)
			if rd == nil {
				continue
			}
			if other, twice := from[rd.Name]; twice {
				r.Add(pos(e.key), "the readings %q and %q are both sent as %q, one by the name of its field; rename one", other,
					e.key.Value, rd.Name)
			}
			from[rd.Name] = e.key.Value
			list = append(list, rd)
		}
	}
	return list
}

// perField is what the topic or path of a reading holds that is sent field by field.
var perField = regexp.MustCompile(`\$\{\s*field\s*\}`)

// fieldByField are the fields of a reading whose topic or path names the field; nil: it is sent
// whole.
func (r *reader) fieldByField(n *yaml.Node) (names []string) {
	split := false
	for _, key := range []string{"topic", "path"} {
		if i := keyIndex(n, key); i >= 0 {
			split = split || perField.MatchString(n.Content[i+1].Value)
		}
	}
	if i := keyIndex(n, "fields"); split && i >= 0 {
		if f := r.resolve(n.Content[i+1]); f.Kind == yaml.MappingNode {
			for k := 0; k < len(f.Content); k += 2 {
				names = append(names, f.Content[k].Value)
			}
		}
	}
	return names
}

// reading reads a reading, or only one field of it.
func (r *reader) reading(e entry, c *crowd.Cast, env formula.Env, only string) *crowd.Reading {
	what := fmt.Sprintf("the reading %q", e.key.Value)
	rd := &crowd.Reading{Name: r.name(e.key, "readings", e.key.Value), Pos: pos(e.key), Method: "POST"}
	if only != "" {
		rd.Name, rd.Of, rd.Only = only, rd.Name, only
		if strings.ContainsAny(only, "/+#$") {
			r.Add(rd.Pos, "%s is sent field by field, and a field %q cannot stand in a topic; rename it", what, only)
		}
		if m := c.Kind.Mark; m.Place == crowd.MarkTime {
			r.Add(rd.Pos, "%s is sent field by field, and the mark of the kind is the time in another field; choose another mark, "+
				"such as mark: {user_property: mark} or none", what)
		}
	}
	o := r.object(e.value, what, readingMap)
	if o.node.Kind != yaml.MappingNode {
		return nil
	}
	if rd.Every = time.Second; c.Recording == nil || o.get("every") != nil {
		r.interval(rd, o, what)
	}
	r.jitter(rd, o.get("jitter"), what)
	rd.Turns = parse(r, o.get("turns"), what+": turns", crowd.Turns{}, parseTurns)
	rd.Batch = int(o.whole("batch"))
	if rd.OnConnect {
		for _, key := range []string{"jitter", "turns", "batch"} {
			if n := o.get(key); n != nil {
				r.Add(pos(n), "%s: %q goes with an interval; with every: connect there is none", what, key)
			}
		}
		if c.Recording != nil {
			r.Add(pos(o.get("every")), "%s: every: connect does not go with a recording, which says when", what)
		}
	}
	env = crowd.MessageEnv(env)
	streamEnv := formula.Env{}
	for k, v := range env {
		if k != "seq" && k != "elapsed" && k != "time" && k != "previous" {
			streamEnv[k] = v
		}
	}
	if only != "" {
		streamEnv["field"] = ""
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
			rd.Target = r.whereTo(o.need("topic", "harbour/${device}/"+rd.Name), what+": topic", streamEnv)
		case l.Protocol == crowd.HTTP && o.get("topic") == nil:
			rd.Target = r.whereTo(o.need("path", "/in/${device}/"+rd.Name), what+": path", streamEnv)
			if rd.Target != nil {
				r.addressSecrets(o.get("path"), what+": path", rd.Target.Source())
			}
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
	signEnv := c.Signing.Env(streamEnv)
	rd.Headers = append(append([]crowd.Header(nil), c.Headers...),
		r.signed(r.headers(o.get("headers"), what+": headers", signEnv), &c.Signing, &rd.Signed)...)
	if gn := o.get("gzip"); gn != nil {
		if rd.Gzip = o.truth("gzip"); rd.Gzip && l != nil && l.Protocol == crowd.MQTT {
			r.Add(pos(gn), "%s: MQTT has no way to say that a body is compressed; gzip goes with HTTP links", what)
		}
	}
	defer func() {
		if m := c.Kind.Mark; m.Place == crowd.MarkTime && c.Recording == nil &&
			!slices.ContainsFunc(rd.Fields, func(f crowd.Field) bool { return f.Name == m.Name }) {
			r.Add(rd.Pos, "%s has no field %q, whose time is the mark of the kind %q; add it, for example %s: {signal: clock, "+
				"as: ms}", what, m.Name, c.Kind.Name, m.Name)
		}
	}()
	var fn *yaml.Node
	if c.Recording == nil && (o.get("fields") != nil || !templated(o.get("payload"))) { // else the recording has them
		fn = o.need("fields", "{wave_m: {signal: swell}}")
	}
	if fn != nil {
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
	if c.Recording != nil {
		rd.Payload.Form = "json"
		rd.Raw = c.Recording.Raw[rd.Name]
		if q, known := c.Recording.QoS[rd.Name]; known && o.get("qos") == nil {
			rd.QoS = q[1]
		}
		return rd
	}
	if only != "" {
		env["field"] = ""
		if _, is := env["value"]; !is {
			for _, f := range rd.Fields {
				if f.Name == only {
					env["value"] = f.Sample
				}
			}
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
	return crowd.Turns{}, fmt.Errorf("%q is not known; write staggered, together, in order, 3 at random or 10%% at "+
		"random", s)
}

// templated tells whether a body is made of a template, which needs no fields.
func templated(payload *yaml.Node) bool { return payload != nil && keyIndex(payload, "template") >= 0 }
