package crowd

import (
	"fmt"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

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
