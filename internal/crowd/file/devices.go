package file

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
)

func (r *reader) mark(n *yaml.Node, def crowd.Mark) crowd.Mark {
	if n.Kind == yaml.ScalarNode && n.Value == "none" {
		return crowd.Mark{Place: crowd.MarkNone}
	}
	o := r.object(n, "mark", markMap)
	m, found := def, 0
	for i, key := range crowd.MarkPlaces {
		v := o.get(key)
		if v == nil {
			continue
		}
		if s, ok := r.scalar(v, "mark: "+key); ok {
			m = crowd.Mark{Place: crowd.MarkPlace(i), Name: s}
			bad := s == "" || strings.ContainsAny(s, "\r\n\x00")
			if (m.Place == crowd.MarkField || m.Place == crowd.MarkSequence) && !placePattern.MatchString(s) ||
				m.Place == crowd.MarkHeader && !tokenPattern.MatchString(s) || bad {
				r.Add(pos(v), "mark: %q cannot be the name of a %s", s, strings.ReplaceAll(key, "_", " "))
			}
		}
		found++
	}
	if found != 1 && o.node.Kind == yaml.MappingNode {
		r.Add(pos(o.node), "mark needs exactly one place: field, sequence, user_property, header or time; write, for "+
			"example, mark: {field: mark}, or mark: none")
	}
	return m
}

func (r *reader) readKinds(n *yaml.Node, mark crowd.Mark) {
	for _, e := range r.entries(n, "kinds") {
		name := r.name(e.key, "kinds", e.key.Value)
		what := fmt.Sprintf("the kind %q", name)
		o := r.object(e.value, what, kindMap)
		k := &crowd.Kind{Name: name, Pos: pos(e.key), Mark: mark}
		node := &kindNode{}
		r.kinds[k] = node
		node.presence, node.what = o.get("presence"), what
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
		r.markFits(k, k.Link, k.Pos, what)
		if wn := o.get("will"); wn != nil && !isNull(wn) {
			node.will = wn
		}
		if cn := o.get("commands"); cn != nil && !isNull(cn) {
			node.commands = r.entries(cn, what+": commands")
		}
		k.Tags = r.tags(o.get("tags"), what+": tags")
		if pn := o.get("properties"); pn != nil && !isNull(pn) {
			node.properties = r.entries(pn, what+": properties")
		}
		if rn := o.need("readings", "{state: {every: 5s, …}}"); rn != nil {
			node.readings = r.entries(rn, what+": readings")
			if len(node.readings) == 0 && rn.Kind == yaml.MappingNode {
				r.Add(pos(rn), "%s has no reading: it would never send anything", what)
			}
		}
	}
	for _, k := range r.crowd.Kinds {
		r.presence(k, r.kinds[k].presence, r.kinds[k].what+": presence")
	}
}

// markFits notes a mark that a link cannot carry.
func (r *reader) markFits(k *crowd.Kind, l *crowd.Link, at crowd.Pos, what string) {
	if l == nil {
		return
	}
	if k.Mark.Place == crowd.MarkUserProperty && (l.Protocol != crowd.MQTT || l.Version != 5) {
		r.Add(at, "%s: a mark in a user property needs a link of MQTT version 5", what)
	}
	if k.Mark.Place == crowd.MarkHeader && l.Protocol != crowd.HTTP {
		r.Add(at, "%s: a mark in a header needs an HTTP link", what)
	}
}

// tags reads a list of tags.
func (r *reader) tags(n *yaml.Node, what string) []string {
	var tags []string
	for _, tn := range r.list(n, what) {
		s, ok := r.scalar(tn, what)
		if ok && !crowd.IsTag(s) {
			r.Add(pos(tn), "%s: %q is not a tag; a tag has letters, digits, - _ and .", what, s)
			continue
		}
		if ok && !contains(tags, s) {
			tags = append(tags, s)
		}
	}
	return tags
}

// selections reads one selection or a list of them.
func (r *reader) selections(n *yaml.Node, what string) []*crowd.Selection {
	var list []*crowd.Selection
	for _, sn := range r.list(n, what) {
		if s := parse(r, sn, what, nil, crowd.ParseSelection); s != nil {
			s.Pos = pos(sn)
			list = append(list, s)
		}
	}
	return list
}

// firstColumn is a column that could name the devices.
func firstColumn(ro *crowd.Roster) string {
	if len(ro.Columns) > 0 {
		return ro.Columns[0].Name
	}
	return "n"
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
		g = r.resolve(g)
		if g.Kind == yaml.MappingNode && r.has(g, "who") {
			r.change(g)
			continue
		}
		r.group(g)
	}
}

// has tells whether a mapping has a key.
func (r *reader) has(n *yaml.Node, key string) bool { return keyIndex(n, key) >= 0 }

func (r *reader) group(g *yaml.Node) {
	o := r.object(g, "a group of devices", groupMap)
	c := &crowd.Cast{Pos: pos(o.node), NamePos: pos(o.node)}
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
	c.Count = int(o.whole("count"))
	c.First = int(o.whole("first"))
	rosterNode := o.get("roster")
	if rosterNode != nil {
		if cn := o.get("count"); cn != nil {
			r.Add(pos(cn), "count does not go with roster: there is one device for each row")
		}
		var secret []string
		for _, sn := range r.list(o.get("secrets"), "secrets") {
			if s, ok := r.scalar(sn, "secrets"); ok {
				secret = append(secret, s)
			}
		}
		if c.Roster = r.roster(rosterNode, c.Kind, secret, o.get("secrets"), o.get("columns")); c.Roster == nil {
			return // what its columns would be is not known
		}
		c.Count = len(c.Roster.Lines)
	} else if rn := o.get("recording"); rn != nil {
		if cn := o.get("count"); cn != nil {
			r.Add(pos(cn), "count does not go with recording: there is one device for each in it")
		}
		if c.Recording = r.recorded(rn, c.Kind); c.Recording == nil {
			return // who is in it is not known
		}
		c.Count = len(c.Recording.Devices)
		c.Roster = &crowd.Roster{File: c.Recording.File, Devices: c.Recording.Devices}
		names := crowd.RosterColumn{Name: crowd.RecordedName, Type: signal.Text}
		for i, name := range c.Recording.Devices {
			c.Roster.Lines = append(c.Roster.Lines, i+1)
			names.Values = append(names.Values, signal.OfText(name))
		}
		c.Roster.Columns = []crowd.RosterColumn{names}
	} else {
		for _, key := range []string{"secrets", "columns"} {
			if kn := o.get(key); kn != nil {
				r.Add(pos(kn), "%s names columns of a roster, and this group has none", key)
			}
		}
	}
	r.groupName(c, o)
	if c.Kind == nil {
		return
	}
	r.layers[c] = []layer{r.layer(o)}
	r.cast(c)
	r.crowd.Casts = append(r.crowd.Casts, c)
}

// groupName reads the name of a group's devices: a text of their number and the
// roster's columns, or the roster's column "device".
func (r *reader) groupName(c *crowd.Cast, o *object) {
	env := formula.Env{"n": 1, "kind": "", "crowd": ""}
	own := []string{"n"}
	if c.Roster != nil {
		for _, col := range c.Roster.Columns {
			if !col.Secret && env[col.Name] == nil {
				env[col.Name] = sampleOf(zero(col.Type))
				own = append(own, col.Name)
			}
		}
	}
	nn := o.get("name")
	switch {
	case nn != nil:
		c.NamePos = pos(nn)
		c.Name = r.text(nn, "name", env)
		varies := false
		for _, name := range own {
			varies = varies || c.Name != nil && contains(c.Name.Names(), name)
		}
		if c.Name != nil && c.Count > 1 && !varies {
			r.Add(pos(nn), "name: %q gives all %d devices one name; put the number in, such as %s-${pad(n, 3)}", nn.Value,
				c.Count, nn.Value)
			c.Name = nil
		}
	case c.Roster != nil && c.Roster.Devices != nil:
		if c.NamePos = c.Pos; c.Recording == nil {
			c.NamePos = pos(o.get("roster"))
		}
		c.Name, _ = formula.ParseText("${device}", formula.Env{"device": ""})
	case c.Roster != nil:
		r.Add(pos(o.get("roster")), "roster: %s has no column %q to name its devices; add one, or say name: ${%s} here",
			c.Roster.File, "device", firstColumn(c.Roster))
	default:
		text := "${kind}-${pad(n, 3)}"
		if c.Count == 1 && o.get("first") == nil {
			text = "${kind}"
		}
		c.Name, _ = formula.ParseText(text, env)
	}
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
