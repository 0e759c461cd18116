package fleet

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
)

// signer computes what of the requests of a device depends on them.
type signer struct {
	fleet   *Fleet
	shown   *Device        // whose credentials are shown: the device, its gateway, or another
	more    []crowd.Header // beside those of the link
	own     func() formula.Env
	without bool                // credentials are left out
	wrong   func(string) string // makes another credential of one; nil: they are right
}

// machines run the formulas of signers.
var machines = sync.Pool{New: func() any { return &formula.Machine{} }}

// signer makes that of a device for headers beside the link's; nil: there is nothing to compute.
// Own is what those know.
func (f *Fleet) signer(d *Device, more []crowd.Header, own func() formula.Env) link.Signer {
	if s := &d.Cast.Signing; len(s.Headers)+len(s.Query)+len(more) == 0 {
		return nil
	}
	return &signer{fleet: f, shown: d, more: more, own: own}
}

// Signer makes the signer of an answer to a command, whose headers know what it does; nil: there
// is nothing to compute.
func (f *Fleet) Signer(d *Device, a *crowd.Answer, known formula.Env) link.Signer {
	return f.signer(d, a.Signed, func() formula.Env { return known })
}

// env is what the texts of a device know.
func (f *Fleet) env(d *Device) formula.Env {
	f.keys.Lock()
	defer f.keys.Unlock()
	return d.Env
}

// streamEnv is what the headers of a stream know.
func (f *Fleet) streamEnv(s *Stream) func() formula.Env {
	return func() formula.Env {
		env := maps.Clone(f.env(s.Device))
		env["reading"] = s.Reading.Name
		if s.Reading.Only != "" {
			env["field"] = s.Reading.Only
		}
		return env
	}
}

// Sign implements link.Signer.
func (s *signer) Sign(r *link.ToSign) (*link.Signature, error) {
	env := maps.Clone(s.fleet.env(s.shown))
	if s.wrong != nil {
		for name := range s.shown.Cast.Secrets {
			env[name] = wrongly(env[name], s.wrong)
		}
	}
	out, err := s.sign(r, env)
	if err != nil || s.wrong == nil {
		return out, err
	}
	// A secret that stands in the file itself is in no name.
	right, err := s.sign(r, s.fleet.env(s.shown))
	if err != nil {
		return nil, err
	}
	secret := s.shown.Cast.Signing.Secret(s.shown.Cast.Secrets)
	for i, h := range append(slices.Clone(s.shown.Cast.Signing.Headers), s.more...) {
		if crowd.ShowsSecret(&h, secret) && out.Headers[i].Value == right.Headers[i].Value {
			v := out.Headers[i].Value
			scheme := strings.Index(v, " ") + 1 // without it, the header could not be read at all
			out.Headers[i].Value = v[:scheme] + s.wrong(v[scheme:])
		}
	}
	for i, q := range s.shown.Cast.Signing.Query {
		if crowd.ShowsSecret(&q, secret) && out.Query[i].Value == right.Query[i].Value {
			out.Query[i].Value = s.wrong(out.Query[i].Value)
		}
	}
	return out, nil
}

// sign computes it all of what a device knows.
func (s *signer) sign(r *link.ToSign, env formula.Env) (*link.Signature, error) {
	how := &s.shown.Cast.Signing
	c := &crowd.Computing{Machine: machines.Get().(*formula.Machine), Secret: how.Secret(s.shown.Cast.Secrets)}
	defer machines.Put(c.Machine)
	env = maps.Clone(env)
	if s.shown.Cast.Token != nil {
		env[crowd.TokenName] = r.Token
	}
	known, err := how.Known(c, formula.Request{Method: r.Method, Host: r.Host, Path: r.Path, Query: r.Query, Body: string(r.Body),
		Time: r.Time}, env)
	if err != nil {
		return nil, err
	}
	maps.Copy(env, known)
	out := &link.Signature{}
	put := func(list *[]link.Header, from []crowd.Header, env formula.Env) {
		for i := range from {
			if h := &from[i]; err == nil && !(s.without && crowd.ShowsSecret(h, c.Secret)) {
				x := link.Header{Name: h.Name}
				x.Value, err = c.Expand(h, env)
				*list = append(*list, x)
			}
		}
	}
	put(&out.Query, how.Query, env)
	put(&out.Headers, how.Headers, env)
	if len(s.more) > 0 {
		own := maps.Clone(s.own())
		if s.shown.Cast.Token != nil {
			own[crowd.TokenName] = r.Token
		}
		maps.Copy(own, known)
		put(&out.Headers, s.more, own)
	}
	out.Secrets = c.Secrets
	return out, err
}

// shows tells whether a signer puts a credential into requests.
func (s *signer) shows() bool {
	how := &s.shown.Cast.Signing
	secret := how.Secret(s.shown.Cast.Secrets)
	return slices.ContainsFunc(slices.Concat(how.Headers, how.Query, s.more),
		func(h crowd.Header) bool { return crowd.ShowsSecret(&h, secret) })
}

// variant is the signer of a device with other credentials; differs tells whether the platform
// could see that.
func (s *signer) variant(how crowd.Credential, another *Device, wrong func(string) string) (v link.Signer, differs bool) {
	x := *s
	switch how {
	case crowd.NoCredential:
		x.without = true
		return &x, s.shows()
	case crowd.WrongCredential:
		x.wrong = wrong
		return &x, s.shows()
	case crowd.AnothersCredential:
		x.shown = another
		trial := &link.ToSign{Method: "POST", Path: "/", Time: time.Unix(0, 0)}
		a, errA := s.Sign(trial)
		b, errB := x.Sign(trial)
		return &x, errA == nil && errB == nil && (!slices.Equal(a.Headers, b.Headers) || !slices.Equal(a.Query, b.Query))
	}
	return s, false
}

// wrongly is the value of a secret name with other secrets.
func wrongly(v any, wrong func(string) string) any {
	switch x := v.(type) {
	case string:
		return wrong(x)
	case formula.Secrets:
		other := formula.Secrets{}
		for k, s := range x {
			other[k] = wrong(s)
		}
		return other
	}
	return v
}
