package fleet

import (
	"errors"
	"maps"
	"slices"

	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/payload"
)

// Rekey gives a device what the platform gave it when it was registered: its properties, and
// the credentials and headers that are made of them. Nobody else may use the device meanwhile.
func (f *Fleet) Rekey(d *Device, kept map[string]string) error {
	env := maps.Clone(d.Env)
	for name, v := range kept {
		env[name] = v
		if d.Cast.Secrets[name] {
			f.Crowd.Secret(v)
		}
	}
	p := f.Crowd.Problems()
	n := f.device(&crowd.Member{Cast: d.Cast, Index: d.N - d.Cast.First, Name: d.Name, Env: env}, &formula.Machine{}, p,
		map[formKey]payload.Form{}, map[*crowd.Cast]bool{})
	if n == nil {
		return errors.New(f.Crowd.Redact(p.List[0].Text))
	}
	f.keys.Lock()
	defer f.keys.Unlock()
	d.Env, d.Username, d.Password, d.Cert, d.Path, d.Tokens, d.Will = n.Env, n.Username, n.Password, n.Cert, n.Path, n.Tokens, n.Will
	for i, s := range d.Streams {
		s.Values = n.Streams[i].Values
	}
	d.Asks = slices.Clone(d.Asks) // a connection that is just ending still reads the old ones
	for i := range d.Asks {
		if i < len(n.Asks) {
			d.Asks[i].Headers = n.Asks[i].Headers
		}
	}
	return nil
}
