package file

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
)

// layer is one layer of what is said of devices: that of a group, or of a change.
type layer struct {
	properties []entry
	link       *yaml.Node // the name of another link
	settings   *yaml.Node
	readings   []entry
	tags       []string
}

func (r *reader) layer(o *object) layer {
	l := layer{link: o.get("link"), settings: o.get("settings"), tags: r.tags(o.get("tags"), "tags")}
	if n := o.get("properties"); n != nil && !isNull(n) {
		l.properties = r.entries(n, "properties")
	}
	if n := o.get("readings"); n != nil && !isNull(n) {
		l.readings = r.entries(n, "readings")
	}
	return l
}

func (r *reader) change(g *yaml.Node) {
	o := r.object(g, "a change of devices", changeMap)
	c := &change{pos: pos(g), who: r.selections(o.get("who"), "who"), layer: r.layer(o)}
	if len(r.crowd.Casts) == 0 {
		r.Add(pos(g), "a change of devices stands before the groups that it changes; put it below them")
	}
	if l := &c.layer; l.link == nil && l.settings == nil && l.tags == nil && l.properties == nil && l.readings == nil &&
		len(o.vals) < 2 {
		r.Add(pos(g), "this changes nothing; beside who: give properties, tags, link, settings or readings")
	}
	r.changes = append(r.changes, c)
}

// change is an entry of devices that changes some devices of the groups above it.
type change struct {
	who   []*crowd.Selection
	pos   crowd.Pos
	layer layer
}

// derive is the cast of devices for which a change is made; it is compiled when it is
// first asked for.
func (r *reader) derive(c *crowd.Cast, ch *change) *crowd.Cast {
	if d := r.changed[c][ch]; d != nil {
		return d
	}
	d := *c
	d.Pos = ch.pos
	r.layers[&d] = append(slices.Clone(r.layers[c]), ch.layer)
	r.cast(&d)
	for _, step := range r.steps {
		step(&d, castEnv(&d))
	}
	r.sequencesFit(&d)
	if r.changed[c] == nil {
		r.changed[c] = map[*change]*crowd.Cast{}
	}
	r.changed[c][ch] = &d
	return &d
}

// mergeEntries lays the entries of a nearer layer over those of a farther one. A
// null takes an entry back to what the kind says.
func mergeEntries(far, near, kind []entry) []entry {
	list := slices.Clone(far)
	for _, e := range near {
		if isNull(e.value) {
			for i := range kind {
				if kind[i].key.Value == e.key.Value {
					e = kind[i]
				}
			}
		}
		at := slices.IndexFunc(list, func(x entry) bool { return x.key.Value == e.key.Value })
		switch {
		case at >= 0:
			list[at] = e
		default:
			list = append(list, e)
		}
	}
	return slices.DeleteFunc(list, func(e entry) bool { return isNull(e.value) })
}

// cast compiles a kind for one group of devices, with all its layers.
func (r *reader) cast(c *crowd.Cast) {
	env := crowd.DeviceEnv()
	secrets := map[string]bool{"env": true} // names whose values must not be recorded
	r.castLink(c)
	c.Tags = slices.Clone(c.Kind.Tags)
	props := slices.Clone(r.kinds[c.Kind].properties)
	readings := slices.Clone(r.kinds[c.Kind].readings)
	for _, l := range r.layers[c] {
		for _, t := range l.tags {
			if !contains(c.Tags, t) {
				c.Tags = append(c.Tags, t)
			}
		}
		props = mergeEntries(props, l.properties, r.kinds[c.Kind].properties)
		readings = r.mergeReadings(readings, l.readings, c.Kind)
	}
	c.Properties, c.Readings = nil, nil
	r.properties(c, props, env, secrets)
	c.Secrets = secrets
	r.credentials(c, env)
	secrets[crowd.TokenName] = c.Token != nil
	r.will(c, env)
	for _, rd := range r.readings(readings, c, env) {
		for _, f := range rd.Fields {
			if f.Formula != nil && usesSecret(f.Formula.Names(), secrets) {
				r.Add(f.Pos, "the field %q carries a secret, and what a message carries is recorded in the run folder; send it "+
					"as a header, user name or password", f.Name)
			}
		}
		c.Readings = append(c.Readings, rd)
	}
	r.commands(c, env)
}

// castLink finds the link of a cast: the kind's, another, or one with settings of
// its own.
func (r *reader) castLink(c *crowd.Cast) {
	c.Link = c.Kind.Link
	for _, l := range r.layers[c] {
		if l.link != nil && !isNull(l.link) {
			if other := r.linkNamed(l.link, "link"); other != nil {
				c.Link = other
				r.markFits(c.Kind, other, pos(l.link), fmt.Sprintf("the kind %q", c.Kind.Name))
			}
		}
		if l.settings == nil || isNull(l.settings) || c.Link == nil {
			continue
		}
		what := fmt.Sprintf("settings of the link %q", c.Link.Name)
		over := r.entries(l.settings, what)
		n := mergeNode(r.links[c.Link].source, over)
		// The other protocol's address takes the place of the first.
		for _, e := range over {
			if e.key.Value == "mqtt" || e.key.Value == "http" {
				n = withoutKey(n, map[string]string{"mqtt": "http", "http": "mqtt"}[e.key.Value])
			}
		}
		link := r.link(&yaml.Node{Kind: yaml.ScalarNode, Value: c.Link.Name, Line: l.settings.Line,
			Column: l.settings.Column}, n, what)
		r.markFits(c.Kind, link, pos(l.settings), fmt.Sprintf("the kind %q", c.Kind.Name))
		r.crowd.Derived = append(r.crowd.Derived, link)
		c.Link = link
	}
}

// otherLink says where a cast's link was changed, for mistakes that come of it.
func (r *reader) otherLink(c *crowd.Cast) string {
	for _, l := range r.layers[c] {
		for _, n := range []*yaml.Node{l.link, l.settings} {
			if n != nil && c.Link != c.Kind.Link {
				return fmt.Sprintf(" (the link is changed in line %d; change the reading there, too)", n.Line)
			}
		}
	}
	return ""
}

// mergeNode is a mapping with some entries laid over it; a null takes one away.
func mergeNode(base *yaml.Node, over []entry) *yaml.Node {
	n := *base
	n.Content = slices.Clone(base.Content)
	for _, e := range over {
		if i := keyIndex(&n, e.key.Value); i >= 0 {
			n.Content[i], n.Content[i+1] = e.key, e.value
		} else {
			n.Content = append(n.Content, e.key, e.value)
		}
	}
	for i := 0; i+1 < len(n.Content); {
		if isNull(n.Content[i+1]) {
			n.Content = slices.Delete(n.Content, i, i+2)
		} else {
			i += 2
		}
	}
	return &n
}

func withoutKey(n *yaml.Node, key string) *yaml.Node {
	m := *n
	if i := keyIndex(n, key); i >= 0 {
		m.Content = slices.Delete(slices.Clone(n.Content), i, i+2)
	}
	return &m
}

func keyIndex(n *yaml.Node, key string) int {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return i
		}
	}
	return -1
}

// mergeReadings lays readings over others: key by key, and within fields field
// by field. A null takes a reading, a key or a field back.
func (r *reader) mergeReadings(far, near []entry, k *crowd.Kind) []entry {
	list := slices.Clone(far)
	for _, e := range near {
		at := slices.IndexFunc(list, func(x entry) bool { return x.key.Value == e.key.Value })
		value := r.resolve(e.value)
		if at < 0 || isNull(value) || value.Kind != yaml.MappingNode {
			if at < 0 && !isNull(value) && value.Kind == yaml.MappingNode && !r.has(value, "every") {
				var names []string
				for _, x := range list {
					names = append(names, x.key.Value)
				}
				if near := formula.Nearest(e.key.Value, names); near != "" {
					r.Add(pos(e.key), "readings: the kind %q has no reading %q; did you mean %q?", k.Name, e.key.Value, near)
					continue
				}
			}
			list = mergeEntries(list, []entry{{e.key, value}}, nil)
			continue
		}
		base := r.resolve(list[at].value)
		over := r.entries(value, "readings: "+e.key.Value)
		for i := range over {
			if over[i].key.Value != "fields" {
				continue
			}
			if j := keyIndex(base, "fields"); j >= 0 && r.resolve(over[i].value).Kind == yaml.MappingNode &&
				r.resolve(base.Content[j+1]).Kind == yaml.MappingNode {
				over[i].value = mergeNode(r.resolve(base.Content[j+1]), r.entries(over[i].value, "fields"))
			}
		}
		list[at] = entry{list[at].key, mergeNode(base, over)}
	}
	return list
}

// credentials compiles what a link needs to know of each device.
func (r *reader) credentials(c *crowd.Cast, env formula.Env) {
	l := c.Link
	if l == nil {
		return
	}
	node := r.links[l]
	if c.Token = r.accessToken(l, env); c.Token != nil {
		for i := range c.Properties {
			if c.Properties[i].Name == crowd.TokenName {
				r.Add(c.Properties[i].Pos, "the property %q has the name of the access token of the link %q; rename one: ${%s} "+
					"could be either", crowd.TokenName, l.Name, crowd.TokenName)
			}
		}
		env[crowd.TokenName] = ""
	}
	c.Path = r.text(node.path, "path", env)
	if c.Path != nil {
		r.addressSecrets(node.path, "path", c.Path.Source())
	}
	if c.Path != nil && !strings.HasPrefix(c.Path.Source(), "/") {
		r.Add(pos(node.path), "path must begin with /")
	}
	c.ClientID = r.whereTo(node.clientID, "client_id", env)
	if node.clientID == nil && l.Protocol == crowd.MQTT {
		c.ClientID, _ = formula.ParseText("${device}", env)
	}
	c.Username = r.text(node.username, "username", env)
	c.Password = r.text(node.password, "password", env)
	if node.password != nil {
		r.secretText(node.password, c.Password)
		if node.username == nil && l.Protocol == crowd.MQTT && l.Version == 4 {
			r.Add(pos(node.password), "a password without a username is not allowed in MQTT 3.1.1 (section 3.1.2.9)")
		}
	}
	c.Signing = r.signing(node.signing, node.query, env)
	c.Headers = r.signed(r.headers(node.headers, "headers", c.Signing.Env(env)), &c.Signing, &c.Signing.Headers)
	r.alone(node.clientID, "client_id", c.ClientID)
	r.alone(node.username, "username", c.Username)
	r.alone(node.password, "password", c.Password)
	r.alone(node.path, "path", c.Path)
	c.Cert, c.Key = r.text(node.cert, "tls: cert", env), r.text(node.key, "tls: key", env)
	c.ExpiredCert, c.ExpiredKey = r.text(node.expiredCert, "tls: expired_cert", env), r.text(node.expiredKey, "tls: expired_key", env)
}

// will reads the will of a kind for a cast.
func (r *reader) will(c *crowd.Cast, env formula.Env) {
	n, l := r.kinds[c.Kind].will, c.Link
	if n == nil || l == nil {
		return
	}
	what := fmt.Sprintf("the will of the kind %q", c.Kind.Name)
	if l.Protocol != crowd.MQTT {
		r.Add(pos(n), "%s does not go with the HTTP link %q: the broker publishes it%s", what, l.Name, r.otherLink(c))
		return
	}
	o := r.object(n, what, willMap)
	w := &crowd.Will{Pos: pos(n), ContentType: "application/json"}
	env = maps.Clone(env)
	delete(env, crowd.TokenName)
	w.Topic = r.whereTo(o.need("topic", "harbour/${device}/gone"), what+": topic", env)
	if b := o.need("body", "{state: gone}"); b != nil {
		if w.Body = r.body(b, what+": body", env); r.resolve(b).Kind == yaml.ScalarNode {
			w.ContentType = ""
		}
		if w.Body != nil && usesSecret(w.Body.Names(), c.Secrets) {
			r.Add(pos(b), "%s carries a secret, and everybody who may subscribe would see it", what)
		}
	}
	w.QoS = byte(o.whole("qos"))
	w.Retain = o.truth("retain")
	w.Delay = o.span("delay")
	if tn := o.get("content_type"); tn != nil {
		w.ContentType, _ = r.scalar(tn, what+": content_type")
	}
	if l.Version != 5 {
		w.ContentType = ""
		if dn := o.get("delay"); dn != nil {
			r.Add(pos(dn), "%s: delay is of MQTT version 5", what)
		}
	}
	c.Will = w
}

// usesSecret tells whether a text or formula that uses these names gives a secret.
func usesSecret(names []string, secrets map[string]bool) bool {
	for _, n := range names {
		if secrets[n] {
			return true
		}
	}
	return false
}
