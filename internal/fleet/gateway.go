package fleet

import (
	"maps"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
)

// gateways finds the gateway of each device that is behind one.
func (f *Fleet) gateways(m *formula.Machine, p *crowd.Problems) {
	of, names := map[*crowd.Kind][]*Device{}, map[string]*Device{}
	behind := map[*crowd.Kind]int{}
	for _, d := range f.Devices {
		of[d.Cast.Kind] = append(of[d.Cast.Kind], d)
		names[d.Name] = d
	}
	for _, d := range f.Devices {
		k := d.Cast.Kind
		way := &k.Presence
		if way.Through == nil {
			continue
		}
		list := of[way.Through]
		if len(list) == 0 {
			p.Add(k.Pos, "the kind %q: presence: through: there is no device of the kind %q", k.Name, way.Through.Name)
			return
		}
		g := list[behind[k]*len(list)/len(of[k])]
		behind[k]++
		if way.By != "" {
			name := formula.String(d.Env[way.By])
			if g = names[name]; g == nil || g.Cast.Kind != way.Through {
				p.Add(k.Pos, "the kind %q: presence: by: %s of %s is %q, which is no device of the kind %q", k.Name, way.By,
					d.Name, name, way.Through.Name)
				return
			}
		}
		if g.Cast.Link != d.Cast.Link {
			p.Add(k.Pos, "the kind %q: presence: through: %s is on the link %q and its gateway %s on %q; both must be on one",
				k.Name, d.Name, d.Cast.Link.Name, g.Name, g.Cast.Link.Name)
			return
		}
		d.Gateway, g.Behind = g, append(g.Behind, d)
		f.throughHeaders(d, g, m, p)
		g.Asks = append(g.Asks, d.Asks...)
	}
}

// throughHeaders gives the messages of a device the headers of its link as the gateway has
// them: it is the gateway's credentials that the platform sees.
func (f *Fleet) throughHeaders(d, g *Device, m *formula.Machine, p *crowd.Problems) {
	if d.Cast.Link.Protocol != crowd.HTTP {
		return
	}
	for _, s := range d.Streams {
		if x, is := s.Signer.(*signer); is {
			x.shown = g
		}
	}
	for _, a := range d.Asks {
		if x, is := a.Signer.(*signer); is {
			x.shown = g
		}
	}
	if len(d.Cast.Headers) == 0 {
		return
	}
	env := maps.Clone(g.Env)
	if g.Cast.Token != nil {
		env[crowd.TokenName] = link.TokenPlace
	}
	for _, s := range d.Streams {
		env["reading"] = s.Reading.Name
		for i := range d.Cast.Headers { // they stand in front
			v, err := s.Headers[i].Value.Expand(m, env)
			if err != nil {
				p.Add(d.Cast.Link.Pos, "the header %s of %s, which is the gateway of %s: %s", s.Headers[i].Name, g.Name, d.Name,
					err)
			}
			s.Values[i] = v
		}
	}
}
