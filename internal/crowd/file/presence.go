package file

import (
	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
)

// presence reads how the devices of a kind are there.
func (r *reader) presence(k *crowd.Kind, n *yaml.Node, what string) {
	if n == nil {
		return
	}
	p := &k.Presence
	if n = r.resolve(n); n.Kind == yaml.ScalarNode {
		if r.word(n, what, "always", "always", "sleeps") == "sleeps" {
			p.Sleeps, p.After = true, 1
		}
		return
	}
	o := r.object(n, what, presenceMap)
	sn, tn := o.get("sleeps"), o.get("through")
	switch {
	case sn != nil && tn != nil:
		r.Add(pos(tn), "%s: a device sleeps, or is behind a gateway; keep one of sleeps and through", what)
		return
	case sn == nil && tn == nil:
		r.Add(pos(n), "%s needs sleeps or through; write, for example, presence: {sleeps: {after: 5}}", what)
	}
	if bn := o.get("by"); bn != nil {
		if tn == nil {
			r.Add(pos(bn), "%s: by goes with through", what)
		}
		p.By, _ = r.scalar(bn, what+": by")
	}
	if sn != nil {
		if p.Sleeps, p.After = true, 1; sn.Kind == yaml.MappingNode {
			so := r.object(sn, what+": sleeps", sleepMap)
			p.After, p.Listens, p.End = int(so.whole("after")), so.span("listens"), so.word("session") == "end"
		} else {
			p.Sleeps = r.boolean(sn, what+": sleeps", true)
		}
	}
	if tn == nil {
		return
	}
	name, ok := r.scalar(tn, what+": through")
	if !ok {
		return
	}
	var names []string
	for _, x := range r.crowd.Kinds {
		if x != k {
			names = append(names, x.Name)
		}
		if x.Name == name {
			p.Through = x
		}
	}
	switch {
	case p.Through == nil:
		r.noSuch(tn, what+": through", "kind", name, names)
	case p.Through == k || r.kinds[p.Through].presence != nil && r.has(r.resolve(r.kinds[p.Through].presence), "through"):
		r.Add(pos(tn), "%s: through: devices of the kind %q are behind a gateway themselves", what, name)
		p.Through = nil
	case p.Through.Link != k.Link && k.Link != nil && p.Through.Link != nil:
		r.Add(pos(tn), "%s: through: the kind %q is on the link %q, and this one on %q; both must be on one", what, name,
			p.Through.Link.Name, k.Link.Name)
	}
}

// behind tells that a device behind a gateway has no connection to which something could be
// done.
func (d *actions) behind(n *yaml.Node, what string) bool {
	k := d.cast.Kind
	if k.Presence.Through == nil {
		return false
	}
	d.Add(pos(n), "%s: devices of the kind %q are behind a gateway and have no connection of their own; do it to the "+
		"gateway (%s)", what, k.Name, k.Presence.Through.Name)
	return true
}
