package crowd

import (
	"fmt"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

type linkNode struct{ clientID, username, password, headers *yaml.Node }

type kindNode struct{ properties, readings []entry }

// Load reads the crowd file at path. The error is a *Problems when the file
// could be read but has mistakes.
func Load(path string) (*Crowd, error) {
	source, err := readSource(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, source, os.LookupEnv)
}

// Parse is Load for a text; getenv gives environment variables.
func Parse(path string, source []byte, getenv func(string) (string, bool)) (*Crowd, error) {
	c := &Crowd{Path: path, Source: source, Env: formula.Secrets{}, secrets: map[string]bool{}}
	r := &reader{Problems: NewProblems(path, source), missing: map[string]bool{}, open: map[string]bool{}, getenv: getenv, crowd: c}
	if root := r.document(source); root != nil {
		r.file(root)
	}
	r.Hide(c.Secrets())
	if err := r.Err(); err != nil {
		return nil, err
	}
	return c, nil
}

var (
	namePattern  = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._-]*$`)
	fieldPattern = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]*$`)
)

// name checks a name that appears in marks, paths of the run folder and reports.
func (r *reader) name(n *yaml.Node, what, name string) string {
	if !namePattern.MatchString(name) || len(name) > 100 {
		r.Add(pos(n), "%s: %q is not a name; a name has letters, digits, - _ and . and begins with a letter or digit", what, name)
	}
	return name
}

func (r *reader) file(root *yaml.Node) {
	c := r.crowd
	o := r.object(root, "the crowd file", "crowd", "seed", "links", "kinds", "devices", "plan", "mark", "witnesses", "require")
	if n := o.need("crowd", "my-crowd"); n != nil {
		if s, ok := r.scalar(n, "crowd"); ok {
			c.Name = r.name(n, "crowd", s)
		}
	}
	c.Seed = uint64(r.whole(o.get("seed"), "seed", 1, 0, 1<<53))
	if n := o.need("links", "{sea: {mqtt: mqtt://127.0.0.1:1883}}"); n != nil {
		r.links(n)
	}
	mark := Mark{Place: MarkField, Name: "mark"}
	if n := o.get("mark"); n != nil {
		mark = r.mark(n, mark)
	}
	if n := o.need("kinds", "{buoy: {link: sea, readings: {…}}}"); n != nil {
		r.kinds(n, mark)
	}
	if n := o.need("devices", "[{kind: buoy, count: 10}]"); n != nil {
		r.devices(n)
	}
	if n := o.need("plan", "{for: 1m}"); n != nil {
		r.plan(n)
	}
	r.sequencesFit()
	if n := o.get("witnesses"); n != nil {
		r.witnesses(n)
	}
	r.require(o.get("require"))
}

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

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

func (r *reader) links(n *yaml.Node) {
	for _, e := range r.entries(n, "links") {
		name := e.key.Value
		what := fmt.Sprintf("the link %q", name)
		r.name(e.key, "links", name)
		o := r.object(e.value, what, "mqtt", "http", "version", "client_id", "username", "password", "keep_alive", "clean_start",
			"session_expiry", "in_flight", "headers", "timeout", "connect_timeout", "back_off", "backlog", "connections")
		l := &Link{Name: name, Pos: pos(e.key), KeepAlive: time.Minute, CleanStart: true, Version: 5,
			ConnectTimeout: 5 * time.Second, BackOff: [2]time.Duration{500 * time.Millisecond, 30 * time.Second}}
		r.crowd.Links = append(r.crowd.Links, l)
		switch mqtt, http := o.get("mqtt"), o.get("http"); {
		case mqtt != nil && http != nil:
			r.Add(pos(http), "%s has both mqtt and http; make two links of it", what)
		case mqtt != nil:
			l.Protocol = MQTT
			l.Address = r.address(mqtt, what+": mqtt", r.mqttAddress)
		case http != nil:
			l.Protocol = HTTP
			l.Address = r.address(http, what+": http", r.httpAddress)
		case o.node.Kind == yaml.MappingNode:
			r.Add(pos(e.key), "%s has no address; write mqtt: mqtt://HOST:1883 or http: http://HOST:PORT", what)
		}
		if l.Protocol != 0 {
			other := map[Protocol][]string{
				HTTP: {"version", "client_id", "username", "password", "keep_alive", "clean_start", "session_expiry", "in_flight"},
				MQTT: {"headers", "timeout", "connections"}}[l.Protocol]
			for _, key := range other {
				if k := o.get(key); k != nil {
					r.Add(pos(k), "%s: %q is not for %s links", what, key, l.Protocol)
				}
			}
		}
		l.Version = r.version(o.get("version"), what+": version")
		l.KeepAlive = r.span(o.get("keep_alive"), what+": keep_alive", time.Minute, time.Second, 65535*time.Second)
		l.SessionExpiry = r.span(o.get("session_expiry"), what+": session_expiry", 5*time.Minute, 0, 136*365*quantity.Day)
		l.CleanStart = r.boolean(o.get("clean_start"), what+": clean_start", true)
		l.InFlight = int(r.whole(o.get("in_flight"), what+": in_flight", 20, 1, 65535))
		l.Timeout = r.span(o.get("timeout"), what+": timeout", 5*time.Second, time.Millisecond, time.Hour)
		l.ConnectTimeout = r.span(o.get("connect_timeout"), what+": connect_timeout", 5*time.Second, time.Millisecond, time.Hour)
		l.Backlog = int(r.whole(o.get("backlog"), what+": backlog", 1000, 1, 1_000_000))
		l.Connections = int(r.whole(o.get("connections"), what+": connections", 256, 1, 100_000))
		l.BackOff = parse(r, o.get("back_off"), what+": back_off", l.BackOff, backOff)
		l.node = linkNode{o.get("client_id"), o.get("username"), o.get("password"), o.get("headers")}
	}
}

// backOff reads "500ms to 30s".
func backOff(s string) ([2]time.Duration, error) {
	a, b, ok := strings.Cut(s, " to ")
	if !ok {
		return [2]time.Duration{}, fmt.Errorf("%q is not a back-off; write the first and the longest wait, such as 500ms to 30s", s)
	}
	from, err := quantity.ParseDuration(a)
	if err != nil {
		return [2]time.Duration{}, err
	}
	to, err := quantity.ParseDuration(b)
	if err != nil {
		return [2]time.Duration{}, err
	}
	if from <= 0 || to < from {
		return [2]time.Duration{}, fmt.Errorf("%q: the first wait must be above zero, and the longest not below it", s)
	}
	return [2]time.Duration{from, to}, nil
}

func (r *reader) version(n *yaml.Node, what string) int {
	return parse(r, n, what, 5, func(s string) (int, error) {
		switch s {
		case "5", "5.0":
			return 5, nil
		case "3.1.1", "3":
			return 4, nil
		}
		return 5, fmt.Errorf("%q is not known; write 5 or 3.1.1", s)
	})
}

// span reads a duration between two bounds.
func (r *reader) span(n *yaml.Node, what string, def, low, high time.Duration) time.Duration {
	return parse(r, n, what, def, func(s string) (time.Duration, error) {
		d, err := quantity.ParseDuration(s)
		if err != nil {
			return def, err
		}
		if d < low {
			if low <= time.Millisecond && d <= 0 {
				return def, fmt.Errorf("must be longer than zero, not %s", s)
			}
			return def, fmt.Errorf("%s is too short; the least is %s", s, quantity.FormatDuration(low))
		}
		if d > high {
			return def, fmt.Errorf("%s is too long; the most is %s", s, quantity.FormatDuration(high))
		}
		return d, nil
	})
}

// address expands environment variables and checks the result.
func (r *reader) address(n *yaml.Node, what string, check func(*yaml.Node, string, string) string) string {
	t := r.text(n, what, formula.Env{"env": formula.Secrets{}})
	if t == nil {
		return ""
	}
	for _, name := range t.EnvNames() {
		if _, set := r.crowd.Env[name]; !set {
			return "" // told already
		}
	}
	s, err := t.Expand(&formula.Machine{}, formula.Env{"env": r.crowd.Env})
	if err != nil {
		r.Add(pos(n), "%s: %s", what, err)
		return ""
	}
	// A host name from the environment is an address, not a secret.
	for _, name := range t.EnvNames() {
		r.open[name] = true
		delete(r.crowd.secrets, r.crowd.Env[name])
	}
	return check(n, what, s)
}

func (r *reader) mqttAddress(n *yaml.Node, what, s string) string {
	u, err := url.Parse(s)
	switch {
	case err != nil || u.Host == "" && !strings.Contains(s, "://"):
		r.Add(pos(n), "%s: %q is not an address; write one such as mqtt://127.0.0.1:1883", what, s)
		return ""
	case u.Scheme == "mqtts" || u.Scheme == "ws" || u.Scheme == "wss":
		r.Add(pos(n), "%s: %s:// is not spoken by this version; it speaks mqtt:// (TCP without TLS)", what, u.Scheme)
		return ""
	case u.Scheme != "mqtt":
		r.Add(pos(n), "%s: %q does not begin with mqtt://", what, s)
		return ""
	case u.User != nil:
		if pw, set := u.User.Password(); set {
			r.literalSecret(n, pw)
		}
		r.Add(pos(n), "%s: user name and password do not belong into the address; write username: and password: ${env.NAME} beside it", what)
		return ""
	case u.Hostname() == "":
		r.Add(pos(n), "%s: the host is missing; write one such as mqtt://127.0.0.1:1883", what)
		return ""
	case u.Path != "" && u.Path != "/":
		r.Add(pos(n), "%s: an MQTT address has no path %q; topics belong to the readings", what, u.Path)
		return ""
	}
	return hostPort(u, "1883")
}

func hostPort(u *url.URL, port string) string {
	if p := u.Port(); p != "" {
		port = p
	}
	host := u.Hostname()
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + port
}

func (r *reader) httpAddress(n *yaml.Node, what, s string) string {
	u, err := url.Parse(s)
	switch {
	case err != nil:
		r.Add(pos(n), "%s: %q is not an address; write one such as http://127.0.0.1:8080", what, s)
		return ""
	case u.Scheme != "http" && u.Scheme != "https":
		r.Add(pos(n), "%s: %q does not begin with http:// or https://", what, s)
		return ""
	case u.Hostname() == "":
		r.Add(pos(n), "%s: the host is missing; write one such as http://127.0.0.1:8080", what)
		return ""
	case u.User != nil:
		if pw, set := u.User.Password(); set {
			r.literalSecret(n, pw)
		}
		r.Add(pos(n), "%s: user name and password do not belong into the address; write headers: {Authorization: …} beside it", what)
		return ""
	}
	return strings.TrimRight(s, "/")
}

func (r *reader) literalSecret(n *yaml.Node, value string) {
	r.crowd.Secret(value)
	r.crowd.literal = append(r.crowd.literal, literal{n.Line, value})
}

var secretName = regexp.MustCompile(`(?i)(^|[-_])(password|passwd|secret|token|authorization|cookie|api-?key|key)($|[-_])`)

// secretText registers a text as secret where it has no placeholder.
func (r *reader) secretText(n *yaml.Node, t *formula.Text) {
	if t != nil && t.Fixed() && t.Source() != "" {
		r.literalSecret(n, t.Source())
	}
}

func (r *reader) mark(n *yaml.Node, def Mark) Mark {
	o := r.object(n, "mark", markKeys...)
	m, found := def, 0
	for i, key := range markKeys {
		v := o.get(key)
		if v == nil {
			continue
		}
		if s, ok := r.scalar(v, "mark: "+key); ok {
			m = Mark{MarkPlace(i), s}
			bad := s == "" || strings.ContainsAny(s, "\r\n\x00")
			if (m.Place == MarkField || m.Place == MarkSequence) && !fieldPattern.MatchString(s) || m.Place == MarkHeader && !tokenPattern.MatchString(s) || bad {
				r.Add(pos(v), "mark: %q cannot be the name of a %s", s, strings.ReplaceAll(key, "_", " "))
			}
		}
		found++
	}
	if found != 1 && o.node.Kind == yaml.MappingNode {
		r.Add(pos(o.node), "mark needs exactly one place: field, sequence, user_property or header; write, for example, mark: {field: mark}")
	}
	return m
}

// tokenPattern is the token of RFC 9110, section 5.6.2.
var tokenPattern = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")

func (r *reader) kinds(n *yaml.Node, mark Mark) {
	for _, e := range r.entries(n, "kinds") {
		name := r.name(e.key, "kinds", e.key.Value)
		what := fmt.Sprintf("the kind %q", name)
		o := r.object(e.value, what, "link", "properties", "readings", "mark")
		k := &Kind{Name: name, Pos: pos(e.key), Mark: mark}
		r.crowd.Kinds = append(r.crowd.Kinds, k)
		if ln := o.get("link"); ln != nil {
			k.Link = r.linkNamed(ln, what+": link")
		} else if o.node.Kind == yaml.MappingNode {
			if len(r.crowd.Links) == 1 {
				k.Link = r.crowd.Links[0]
			} else {
				o.need("link", "sea")
			}
		}
		if mn := o.get("mark"); mn != nil {
			k.Mark = r.mark(mn, mark)
		}
		if k.Link != nil {
			if k.Mark.Place == MarkUserProperty && (k.Link.Protocol != MQTT || k.Link.Version != 5) {
				r.Add(k.Pos, "%s: a mark in a user property needs a link of MQTT version 5", what)
			}
			if k.Mark.Place == MarkHeader && k.Link.Protocol != HTTP {
				r.Add(k.Pos, "%s: a mark in a header needs an HTTP link", what)
			}
		}
		if pn := o.get("properties"); pn != nil && !isNull(pn) {
			k.node.properties = r.entries(pn, what+": properties")
		}
		if rn := o.need("readings", "{state: {every: 5s, …}}"); rn != nil {
			k.node.readings = r.entries(rn, what+": readings")
			if len(k.node.readings) == 0 && rn.Kind == yaml.MappingNode {
				r.Add(pos(rn), "%s has no reading: it would never send anything", what)
			}
		}
	}
}

func (r *reader) linkNamed(n *yaml.Node, what string) *Link {
	s, ok := r.scalar(n, what)
	if !ok {
		return nil
	}
	if l := r.crowd.Link(s); l != nil {
		return l
	}
	var names []string
	for _, l := range r.crowd.Links {
		names = append(names, l.Name)
	}
	r.noSuch(n, what, "link", s, names)
	return nil
}

func (r *reader) noSuch(n *yaml.Node, what, sort, name string, known []string) {
	text := fmt.Sprintf("%s: there is no %s %q", what, sort, name)
	if near := formula.Nearest(name, known); near != "" {
		text += fmt.Sprintf("; did you mean %q?", near)
	} else if len(known) > 0 {
		text += "; there is " + formula.List(known)
	}
	r.Add(pos(n), "%s", text)
}

// maxCount is the most devices in one group.
const maxCount = 1_000_000

func (r *reader) devices(n *yaml.Node) {
	if n.Kind != yaml.SequenceNode {
		r.Add(pos(n), "devices must be a list of groups, such as - {kind: buoy, count: 10}, not %s", describe(n))
		return
	}
	if len(n.Content) == 0 {
		r.Add(pos(n), "devices is empty: there is nobody to send")
	}
	for _, g := range n.Content {
		o := r.object(g, "a group of devices", "kind", "count", "first", "name", "properties")
		c := &Cast{Pos: pos(o.node), NamePos: pos(o.node)}
		if kn := o.need("kind", "buoy"); kn != nil {
			if s, ok := r.scalar(kn, "kind"); ok {
				if c.Kind = r.crowd.Kind(s); c.Kind == nil {
					var names []string
					for _, k := range r.crowd.Kinds {
						names = append(names, k.Name)
					}
					r.noSuch(kn, "devices", "kind", s, names)
				}
			}
		}
		c.Count = int(r.whole(o.get("count"), "count", 1, 1, maxCount))
		c.First = int(r.whole(o.get("first"), "first", 1, 0, 1_000_000_000))
		env := formula.Env{"n": 1, "kind": "", "crowd": ""}
		if nn := o.get("name"); nn != nil {
			c.NamePos = pos(nn)
			c.Name = r.text(nn, "name", env)
			if c.Name != nil && c.Count > 1 && !contains(c.Name.Names(), "n") {
				r.Add(pos(nn), "name: %q gives all %d devices one name; put the number in, such as %s-${pad(n, 3)}", nn.Value, c.Count, nn.Value)
				c.Name = nil
			}
		} else {
			text := "${kind}-${pad(n, 3)}"
			if c.Count == 1 && o.get("first") == nil {
				text = "${kind}"
			}
			c.Name, _ = formula.ParseText(text, env)
		}
		if c.Kind == nil {
			continue
		}
		r.cast(c, o.get("properties"))
		r.crowd.Casts = append(r.crowd.Casts, c)
	}
}

// reserved are the names that formulas know without any property.
func deviceEnv() formula.Env {
	return formula.Env{"n": 1, "kind": "", "crowd": "", "device": "", "env": formula.Secrets{}}
}

// messageEnv adds what is known for one message.
func messageEnv(env formula.Env) formula.Env {
	full := formula.Env{"reading": "", "seq": 1, "elapsed": 0.0, "time": time.Time{}}
	for k, v := range env {
		full[k] = v
	}
	return full
}

// cast compiles a kind for one group of devices.
func (r *reader) cast(c *Cast, own *yaml.Node) {
	env := deviceEnv()
	secrets := map[string]bool{"env": true} // names whose values must not be recorded
	merged := append([]entry(nil), c.Kind.node.properties...)
	if own != nil && !isNull(own) {
		for _, e := range r.entries(own, "properties") {
			replaced := false
			for i := range merged {
				if merged[i].key.Value == e.key.Value {
					merged[i], replaced = e, true
				}
			}
			if !replaced {
				merged = append(merged, e)
			}
		}
	}
	for _, e := range merged {
		if _, taken := messageEnv(env)[e.key.Value]; taken {
			r.Add(pos(e.key), "the property %q has a name that every device knows already; choose another", e.key.Value)
			continue
		}
		if !fieldPattern.MatchString(e.key.Value) {
			r.Add(pos(e.key), "the property %q must have a name of letters, digits and _, so that formulas can use it", e.key.Value)
			continue
		}
		p, sample := r.property(e, env)
		c.Properties = append(c.Properties, p)
		env[p.Name] = sample
		if p.Text != nil && usesSecret(p.Text.Names(), secrets) {
			secrets[p.Name] = true
		}
	}
	if l := c.Kind.Link; l != nil {
		c.ClientID = r.text(l.node.clientID, "client_id", env)
		if l.node.clientID == nil {
			c.ClientID, _ = formula.ParseText("${device}", env)
		}
		c.Username = r.text(l.node.username, "username", env)
		c.Password = r.text(l.node.password, "password", env)
		if l.node.password != nil {
			r.secretText(l.node.password, c.Password)
			if l.node.username == nil && l.Version == 4 {
				r.Add(pos(l.node.password), "a password without a username is not allowed in MQTT 3.1.1 (section 3.1.2.9)")
			}
		}
		c.Headers = r.headers(l.node.headers, "headers", env)
	}
	for _, e := range c.Kind.node.readings {
		if rd := r.reading(e, c, env); rd != nil {
			for _, f := range rd.Fields {
				if f.Formula != nil && usesSecret(f.Formula.Names(), secrets) {
					r.Add(f.Pos, "the field %q carries a secret from the environment, and what a message carries is recorded in the run folder; send it as a header, user name or password", f.Name)
				}
			}
			c.Readings = append(c.Readings, rd)
		}
	}
}

// secret tells whether a text or formula that uses these names gives a secret.
func usesSecret(names []string, secrets map[string]bool) bool {
	for _, n := range names {
		if secrets[n] {
			return true
		}
	}
	return false
}

func (r *reader) headers(n *yaml.Node, what string, env formula.Env) []Header {
	if n == nil || isNull(n) {
		return nil
	}
	var list []Header
	for _, e := range r.entries(n, what) {
		if !tokenPattern.MatchString(e.key.Value) {
			r.Add(pos(e.key), "%s: %q is not the name of a header (RFC 9110, section 5.1)", what, e.key.Value)
			continue
		}
		if t := r.text(e.value, what+": "+e.key.Value, env); t != nil {
			if secretName.MatchString(e.key.Value) {
				r.secretText(r.resolve(e.value), t)
			}
			list = append(list, Header{e.key.Value, t})
		}
	}
	return list
}

// property reads one property and a sample of its type.
func (r *reader) property(e entry, env formula.Env) (Property, any) {
	n := r.resolve(e.value)
	p := Property{Name: e.key.Value, Pos: pos(e.key)}
	what := fmt.Sprintf("the property %q", p.Name)
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" {
		p.Text = r.text(n, what, env)
		if p.Text != nil && secretName.MatchString(p.Name) {
			r.secretText(n, p.Text)
		}
		return p, ""
	}
	if n.Kind != yaml.MappingNode {
		v, ok := r.plain(n, what)
		if !ok {
			return p, ""
		}
		p.Value = v
		return p, sampleOf(v)
	}
	o := r.object(n, what, "pick", "position")
	pick, position := o.get("pick"), o.get("position")
	switch {
	case pick != nil && position != nil || pick == nil && position == nil:
		if len(o.vals) > 0 || len(n.Content) == 0 {
			r.Add(pos(n), "%s must be a value, {pick: […]} or {position: …}", what)
		}
	case pick != nil:
		p.Pick = r.values(pick, what+": pick")
		if len(p.Pick) > 0 {
			return p, commonSample(p.Pick)
		}
	default:
		s, ok := r.scalar(position, what+": position")
		if !ok {
			break
		}
		if box, isBox := strings.CutPrefix(s, "within "); isBox {
			p.Box = parse(r, position, what+": position", &[2]quantity.Position{}, func(string) (*[2]quantity.Position, error) { return parseBox(box) })
		} else {
			p.Value = signal.OfPlace(parse(r, position, what+": position", quantity.Position{}, quantity.ParsePosition))
		}
		return p, quantity.Position{}
	}
	return p, ""
}

func parseBox(s string) (*[2]quantity.Position, error) {
	a, b, ok := strings.Cut(s, " and ")
	if !ok {
		return &[2]quantity.Position{}, fmt.Errorf("%q is not an area; write two corners, such as within 58.02,-6.41 and 58.06,-6.35", s)
	}
	p, err := quantity.ParsePosition(a)
	if err != nil {
		return &[2]quantity.Position{}, err
	}
	q, err := quantity.ParsePosition(b)
	if err != nil {
		return &[2]quantity.Position{}, err
	}
	return &[2]quantity.Position{{Lat: min(p.Lat, q.Lat), Lon: min(p.Lon, q.Lon)}, {Lat: max(p.Lat, q.Lat), Lon: max(p.Lon, q.Lon)}}, nil
}

func (r *reader) values(n *yaml.Node, what string) []signal.Value {
	items := r.list(n, what)
	if items != nil && len(items) == 0 {
		r.Add(pos(n), "%s is empty: there is nothing to choose from", what)
	}
	var list []signal.Value
	for _, item := range items {
		if v, ok := r.plain(item, what); ok {
			list = append(list, v)
		}
	}
	return list
}

func sampleOf(v signal.Value) any {
	if i, ok := v.Any().(int64); ok {
		return int(i)
	}
	return v.Any()
}

// commonSample is a sample of the type that serves all values of a list.
func commonSample(list []signal.Value) any {
	sample := sampleOf(list[0])
	for _, v := range list {
		if v.Type() == signal.Float {
			if _, whole := sample.(int); whole {
				sample = v.Float()
			}
		}
	}
	return sample
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

func (r *reader) plan(n *yaml.Node) {
	p := &r.crowd.Plan
	o := r.object(n, "plan", "join", "for", "rounds", "settle")
	p.For = r.span(o.need("for", "1m"), "plan: for", time.Minute, time.Millisecond, 366*quantity.Day)
	p.Settle = r.span(o.get("settle"), "plan: settle", 5*time.Second, 0, time.Hour)
	p.Join = parse(r, o.get("join"), "plan: join", Join{}, parseJoin)
	if p.Join.Over > p.For {
		r.Add(pos(o.get("join")), "plan: join takes %s, longer than the %s of the plan", quantity.FormatDuration(p.Join.Over), quantity.FormatDuration(p.For))
	}
	p.Rounds = 1
	if rn := o.get("rounds"); rn != nil {
		ro := r.object(rn, "plan: rounds", "count", "every")
		p.Rounds = int(r.whole(ro.need("count", "3"), "plan: rounds: count", 1, 1, 1_000_000))
		p.Every = r.span(ro.get("every"), "plan: rounds: every", p.For, time.Millisecond, 366*quantity.Day)
		if en := ro.get("every"); en != nil && p.Every < p.For {
			r.Add(pos(en), "plan: rounds: a round every %s, but each lasts %s: they would overlap", en.Value, quantity.FormatDuration(p.For))
		}
	}
}

// parseJoin reads "at once", "spread over 10s" or "20/s".
func parseJoin(s string) (Join, error) {
	if s == "at once" {
		return Join{}, nil
	}
	if d, ok := strings.CutPrefix(s, "spread over "); ok {
		over, err := quantity.ParseDuration(d)
		if err == nil && over < 0 {
			err = fmt.Errorf("%q is negative", d)
		}
		return Join{Over: over}, err
	}
	if strings.Contains(s, "/") {
		rate, err := quantity.ParseRate(s)
		return Join{Rate: rate}, err
	}
	return Join{}, fmt.Errorf("%q is not known; write at once, spread over 10s, or a rate such as 20/s", s)
}
