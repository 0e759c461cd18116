package crowd

import (
	"crypto/tls"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
)

func (r *reader) witnesses(n *yaml.Node) {
	for _, e := range r.entries(n, "witnesses") {
		name := r.name(e.key, "witnesses", e.key.Value)
		what := fmt.Sprintf("the witness %q", name)
		o := r.object(e.value, what, witnessKeys...)
		if o.node.Kind != yaml.MappingNode {
			continue
		}
		w := &Witness{Name: name, Pos: pos(e.key), topics: map[*Cast]*formula.Text{}, gets: map[*Cast]*formula.Text{}}
		r.crowd.Witnesses = append(r.crowd.Witnesses, w)
		w.Proves = Received
		before := len(r.List)
		if r.word(o.need("proves", "received"), what+": proves", "received", "received", "stored") == "stored" {
			w.Proves = Stored
		}
		r.blind = r.blind || len(r.List) > before
		w.Of = r.selections(o.get("who"), what+": who")
		subscribe, get := o.get("subscribe"), o.get("get")
		switch {
		case subscribe != nil && get != nil:
			r.Add(pos(get), "%s has both subscribe and get; make two witnesses of it", what)
		case subscribe != nil:
			r.subscription(w, o, what)
			r.misplaced(o, what, "a subscription", "headers", "timeout", "rows", "next", "body")
		case get != nil:
			r.query(w, o, what)
			r.misplaced(o, what, "a query", "qos", "topic")
			if ln := o.get("link"); ln != nil {
				if w.Link = r.linkNamed(ln, what+": link"); w.Link != nil && w.Link.Protocol != HTTP {
					r.Add(pos(ln), "%s: link: %q speaks %s; a query may use the TLS of an HTTP link", what, w.Link.Name, w.Link.Protocol)
				} else if w.Link != nil {
					r.witnessCredentials(w, what)
				}
			}
		case !o.near["subscribe"] && !o.near["get"]:
			r.Add(w.Pos, "%s does not say where it looks; write subscribe: TOPIC-FILTER or get: ADDRESS", what)
		}
		for key, into := range map[string]*string{"rows": &w.Rows, "time": &w.Time, "mark": &w.Mark, "device": &w.Device,
			"reading": &w.Reading, "values": &w.Values, "body": &w.Body, "next": &w.Next} {
			if jn := o.get(key); jn != nil {
				*into = parse(r, jn, what+": "+key, "", checkJQ)
			}
		}
		w.Linger = r.span(o.get("linger"), what+": linger", time.Second, 0, time.Hour)
		w.Wait = r.span(o.get("wait"), what+": wait", 0, 0, 24*time.Hour)
	}
}

func (r *reader) misplaced(o *object, what, sort string, keys ...string) {
	for _, key := range keys {
		if n := o.get(key); n != nil {
			r.Add(pos(n), "%s: %q does not go with %s", what, key, sort)
		}
	}
}

func checkJQ(s string) (string, error) {
	if _, err := jq.Parse(s); err != nil {
		return "", err
	}
	return s, nil
}

func (r *reader) subscription(w *Witness, o *object, what string) {
	if t := r.text(o.get("subscribe"), what+": subscribe", formula.Env{"crowd": "", "env": formula.Secrets{}}); t != nil {
		s, err := t.Expand(&formula.Machine{}, formula.Env{"crowd": r.crowd.Name, "env": r.crowd.Env})
		if err == nil {
			err = CheckFilter(s)
		}
		if err != nil {
			r.Add(pos(o.get("subscribe")), "%s: subscribe: %s", what, err)
		}
		w.Filter = s
	}
	w.QoS = byte(r.whole(o.get("qos"), what+": qos", 2, 0, 2))
	if ln := o.get("link"); ln != nil {
		if w.Link = r.linkNamed(ln, what+": link"); w.Link != nil && w.Link.Protocol != MQTT {
			r.Add(pos(ln), "%s: link: %q speaks %s; a subscription needs an MQTT link", what, w.Link.Name, w.Link.Protocol)
		}
	} else {
		for _, l := range r.crowd.Links {
			if l.Protocol != MQTT {
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
		r.witnessCredentials(w, what)
	}
	if tn := o.get("topic"); tn != nil {
		r.perCast(func(c *Cast, env formula.Env) { w.topics[c] = r.text(tn, what+": topic", env) })
	}
}

// witnessEnv is what credentials know of a witness, which is no device: its name
// stands for that of one.
func witnessEnv(name string, env formula.Secrets, crowd string) formula.Env {
	return formula.Env{"crowd": crowd, "env": env, "device": name, "kind": "witness", "n": 1}
}

// witnessCredentials checks that the link's credentials make sense for a witness.
func (r *reader) witnessCredentials(w *Witness, what string) {
	env := witnessEnv("", formula.Secrets{}, "")
	if w.Link.node.token != nil {
		before := len(r.List)
		r.accessToken(w.Link, env)
		devices := slices.ContainsFunc(r.crowd.Casts, func(c *Cast) bool { return c.Link == w.Link })
		if len(r.List) > before && devices { // what is wrong for all was told for them
			r.List = r.List[:before]
			r.Add(w.Pos, "%s uses the link %q, whose access tokens are made of the properties of single devices; give the witness a link of its own", what, w.Link.Name)
			return
		}
		env[TokenName] = ""
	}
	for _, n := range []*yaml.Node{w.Link.node.username, w.Link.node.password, w.Link.node.cert, w.Link.node.key} {
		if n == nil {
			continue
		}
		t, err := formula.ParseText(n.Value, env)
		if err != nil {
			r.Add(w.Pos, "%s uses the link %q, whose credentials belong to single devices (%s); give the witness a link of its own",
				what, w.Link.Name, n.Value)
			return
		}
		r.environment(pos(n), t.EnvNames())
	}
}

// Credentials are what a witness shows on its link.
type Credentials struct {
	Username, Password string
	Cert               *tls.Certificate
	Path               string    // of a WebSocket; empty: that of the address
	Pass               link.Pass // fills link.TokenPlace in the others; nil: none
}

// Authorize puts the credentials into a request that brings none of its own: as basic
// authentication (RFC 7617), or as a bearer token (RFC 6750, section 2.1).
func (cr *Credentials) Authorize(req *http.Request) error {
	if req.Header.Get("Authorization") != "" {
		return nil
	}
	token, _, err := link.TokenOf(req.Context(), cr.Pass)
	switch {
	case err != nil:
		return err
	case cr.Username != "":
		req.SetBasicAuth(link.Fill(cr.Username, token), link.Fill(cr.Password, token))
	case token != "":
		req.Header.Set("Authorization", "Bearer "+token)
	}
	return nil
}

// Credentials are those of the witness's link, with the witness's name for that of
// a device.
func (w *Witness) Credentials(c *Crowd) (Credentials, error) {
	return w.Link.Credentials(c, w.Name)
}

// Credentials are those of a link for somebody who is no device and has a name; none
// where there is no link.
func (l *Link) Credentials(c *Crowd, name string) (Credentials, error) {
	var cr Credentials
	if l == nil {
		return cr, nil
	}
	env := witnessEnv(name, c.Env, c.Name)
	// A link that no device uses has not been compiled before.
	r := &reader{Problems: NewProblems(c.Path, c.Source), from: c.reader.from, crowd: c, missing: map[string]bool{}, open: c.reader.open}
	var failed error
	expand := func(n *yaml.Node) string {
		if n == nil || failed != nil {
			return ""
		}
		t, err := formula.ParseText(n.Value, env)
		if err != nil {
			failed = err
			return ""
		}
		r.environment(pos(n), t.EnvNames())
		if failed = r.Err(); failed != nil {
			return ""
		}
		s, err := t.Expand(&formula.Machine{}, env)
		failed = err
		return s
	}
	node := &l.node
	if node.token != nil {
		t := r.accessToken(l, env)
		if err := r.Err(); err != nil {
			return cr, err
		}
		pass, err := t.Pass(c, env, true)
		if err != nil {
			return cr, fmt.Errorf("the access token of %q: %w", name, err)
		}
		cr.Pass = told{pass, c}
		env[TokenName] = link.TokenPlace
	}
	cr.Username, cr.Password, cr.Path = expand(node.username), expand(node.password), expand(node.path)
	cert, key := expand(node.cert), expand(node.key)
	if failed == nil && cert != "" {
		if cr.Cert, failed = c.KeyPair(cert, key); failed != nil {
			failed = fmt.Errorf("%q: %w", name, failed)
		}
	}
	return cr, failed
}

// perCast runs a step with the names of each group of devices, and later with
// those of groups that changes make.
func (r *reader) perCast(step castStep) {
	r.steps = append(r.steps, step)
	for _, c := range r.crowd.Casts {
		step(c, c.env())
	}
}

// env is what texts of witnesses know of the devices of a cast.
func (c *Cast) env() formula.Env {
	env := deviceEnv()
	env["reading"] = ""
	for _, p := range c.Properties {
		env[p.Name] = p.Sample
	}
	return env
}

// hostVariable finds the environment variable that stands for the host of an
// address: a host is no secret.
var hostVariable = regexp.MustCompile(`^(?:https?://)?\$\{\s*env\.(\w+)\s*\}`)

func (r *reader) query(w *Witness, o *object, what string) {
	get := o.get("get")
	if m := hostVariable.FindStringSubmatch(get.Value); m != nil {
		r.open[m[1]] = true
		r.crowd.noSecret(r.crowd.Env[m[1]])
	}
	names := map[string]bool{}
	r.perCast(func(c *Cast, env formula.Env) {
		delete(env, "reading")
		env["from"], env["to"] = time.Time{}, time.Time{}
		t := r.text(get, what+": get", env)
		w.gets[c] = t
		if t == nil {
			return
		}
		for _, n := range t.Names() {
			names[n] = true
		}
		if s := t.Source(); !strings.HasPrefix(s, "http://") && !strings.HasPrefix(s, "https://") && !strings.HasPrefix(s, "${env.") {
			r.Add(pos(get), "%s: get must be a whole address that begins with http:// or https://", what)
		}
	})
	w.Get = get.Value
	for name := range names {
		if !contains([]string{"from", "to", "crowd", "env", "unix", "unix_ms", "pad"}, name) {
			w.PerDevice = true
		}
	}
	w.Headers = r.headers(o.get("headers"), what+": headers", formula.Env{"crowd": "", "env": formula.Secrets{}})
	w.Timeout = r.span(o.get("timeout"), what+": timeout", 10*time.Second, time.Millisecond, time.Hour)
	o.need("rows", ".rows[]")
	if !w.PerDevice && o.get("device") == nil {
		r.Add(pos(get), "%s: the address asks for all devices at once; say where a row names its device, for example device: .device", what)
	}
}

// CheckText tells why a text cannot stand in a packet of MQTT (MQTT 5, section 1.5.4).
func CheckText(s string) error {
	switch {
	case strings.ContainsRune(s, 0) || !utf8.ValidString(s):
		return fmt.Errorf("it holds a null character, or is not UTF-8")
	case len(s) > 65535:
		return fmt.Errorf("it is %d bytes long; the most is 65535", len(s))
	}
	return nil
}

// CheckPath tells why a text cannot be the path of a request (RFC 3986, section 3.3).
func CheckPath(path string) error {
	if !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " \r\n\t\x00") {
		return fmt.Errorf("%q is not a path", path)
	}
	return nil
}

// CheckTopic tells why a text cannot be the topic of a message (MQTT 5,
// sections 1.5.4 and 4.7).
func CheckTopic(topic string) error {
	switch {
	case topic == "":
		return fmt.Errorf("the topic is empty")
	case strings.ContainsAny(topic, "+#"):
		return fmt.Errorf("the topic %q holds a wildcard; + and # are for subscriptions only", topic)
	case strings.ContainsRune(topic, 0):
		return fmt.Errorf("the topic %q holds a null character", topic)
	case len(topic) > 65535:
		return fmt.Errorf("the topic is %d bytes long; the most is 65535", len(topic))
	}
	return nil
}

// TopicMatches tells whether a topic is one of those that a filter means (MQTT 5,
// section 4.7).
func TopicMatches(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	if strings.HasPrefix(filter, "$share/") && len(f) > 2 {
		f = f[2:] // section 4.8.2
	}
	if strings.HasPrefix(topic, "$") && (f[0] == "+" || f[0] == "#") {
		return false
	}
	for i, level := range f {
		switch {
		case level == "#":
			return true
		case i >= len(t) || level != "+" && level != t[i]:
			return false
		}
	}
	return len(f) == len(t)
}

// CheckFilter tells why a text cannot be a topic filter (MQTT 5, section 4.7.1).
func CheckFilter(filter string) error {
	if filter == "" {
		return fmt.Errorf("the topic filter is empty")
	}
	if strings.ContainsRune(filter, 0) || len(filter) > 65535 {
		return fmt.Errorf("the topic filter holds a null character or is longer than 65535 bytes")
	}
	levels := strings.Split(filter, "/")
	for i, l := range levels {
		if strings.Contains(l, "#") && (l != "#" || i != len(levels)-1) {
			return fmt.Errorf("in %q the # must stand alone as the last level", filter)
		}
		if strings.Contains(l, "+") && l != "+" {
			return fmt.Errorf("in %q the + must stand alone in its level", filter)
		}
	}
	return nil
}

var requireKeys = func() []string {
	keys := []string{"proven", "acknowledged", "received", "stored"}
	for _, p := range []string{"acknowledged", "received", "stored"} {
		for _, m := range []string{"p50", "p90", "p99", "worst"} {
			keys = append(keys, p+"_"+m)
		}
	}
	return append(keys, "lag_p99", "unmatched", "out_of_order")
}()

func (r *reader) require(n *yaml.Node) {
	c := r.crowd
	if n == nil || isNull(n) {
		c.Require = []Requirement{{Key: "proven", Proven: true, Measure: "share", Share: 100, Text: "100%"}}
	} else {
		o := r.object(n, "require", requireKeys...)
		for _, e := range r.entries(n, "require") {
			if v := o.get(e.key.Value); v != nil {
				if q, ok := r.requirement(e.key, v); ok {
					c.Require = append(c.Require, q)
				}
			}
		}
		if len(c.Require) == 0 && o.node.Kind == yaml.MappingNode && len(o.node.Content) == 0 {
			r.Add(pos(n), "require is empty: every run would pass; leave it out to require proven: 100%%")
		}
	}
	for _, q := range c.Require {
		for _, w := range c.Witnesses {
			if q.Within > 0 && !q.Proven && w.Proves == q.Proof && w.Get != "" && w.Time == "" {
				r.Add(q.Pos, "require: %s: \"within\" cannot be measured, because the witness %q does not know when a row was stored; add time: to it, or leave out \"within\"", q.Key, w.Name)
			}
		}
	}
	for _, w := range c.Witnesses {
		if w.Wait == 0 {
			w.Wait = 10 * time.Second
			for _, q := range c.Require {
				if q.Within > 0 && (q.Proof == w.Proves || q.Proven) {
					// Longer than what is allowed, to tell the late from the lost.
					w.Wait = max(w.Wait, 2*q.Within)
				}
			}
		}
	}
}

func (r *reader) requirement(key, n *yaml.Node) (Requirement, bool) {
	s, ok := r.scalar(n, "require: "+key.Value)
	if !ok {
		return Requirement{}, false
	}
	q := Requirement{Key: key.Value, Pos: pos(key), Text: s}
	what := "require: " + q.Key
	before := len(r.List)
	base, measure, _ := strings.Cut(q.Key, "_")
	switch q.Key {
	case "unmatched", "out_of_order":
		q.Measure = q.Key
		q.Most = int(r.whole(n, what, 0, 0, 1<<40))
		return q, len(r.List) == before
	case "lag_p99":
		q.Measure = q.Key
		q.Limit = r.span(n, what, 0, time.Microsecond, time.Hour)
		return q, len(r.List) == before
	case "proven":
		q.Proven = true
	default:
		q.Proof = map[string]Proof{"acknowledged": Acknowledged, "received": Received, "stored": Stored}[base]
		r.canBeProven(q, what)
	}
	if measure != "" {
		q.Measure = measure
		q.Limit = r.span(n, what, 0, time.Microsecond, 24*time.Hour)
		return q, len(r.List) == before
	}
	q.Measure = "share"
	share, within, timed := strings.Cut(s, " within ")
	p, err := quantity.ParsePercent(share)
	if err == nil && timed {
		if q.Within, err = quantity.ParseDuration(within); err == nil && q.Within <= 0 {
			err = fmt.Errorf("the time after \"within\" must be longer than zero")
		}
	}
	if err == nil && timed && (q.Proven || q.Proof == Acknowledged) {
		err = fmt.Errorf("\"within\" goes with received and stored; for acknowledgements write acknowledged_worst: %s", within)
	}
	if err != nil {
		r.Add(pos(n), "%s: %s", what, err)
	}
	q.Share = p
	return q, len(r.List) == before
}

// canBeProven notes a requirement that nothing in the file can fulfil.
func (r *reader) canBeProven(q Requirement, what string) {
	if q.Proof == Acknowledged {
		for _, c := range r.crowd.Casts {
			for _, rd := range c.Readings {
				if c.Kind.Link == nil || c.Kind.Link.Protocol == HTTP || rd.QoS > 0 {
					return
				}
			}
		}
		if len(r.crowd.Casts) > 0 {
			r.Add(q.Pos, "%s: no reading asks for acknowledgements (all are QoS 0); use qos: 1, or leave this out", what)
		}
		return
	}
	for _, w := range r.crowd.Witnesses {
		if w.Proves == q.Proof {
			return
		}
	}
	if r.blind {
		return
	}
	r.Add(q.Pos, "%s: no witness proves that messages are %s; add one under witnesses:, or leave this out", what, q.Proof)
}
