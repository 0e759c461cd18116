package fleet

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/signal"
)

// Variant is a device with other credentials than its own. Its name, client id and topics
// stay.
type Variant struct {
	Identity link.Identity
	// Values are those of the headers, by stream; NoHeader leaves one out.
	Values map[int][]string
	// Signers compute what depends on a request, by stream.
	Signers map[int]link.Signer
}

// NoHeader is the value of a header that is left out.
const NoHeader = "\uf8ffnone"

// Variant makes one. The error says why there is none.
func (f *Fleet) Variant(d *Device, how crowd.Credential) (*Variant, error) {
	id := d.Identity()
	id.Stranger, id.Asks = true, slices.Clone(id.Asks)
	g := &Variant{Identity: id, Values: map[int][]string{}, Signers: map[int]link.Signer{}}
	env := maps.Clone(d.Env)
	if d.Cast.Token != nil {
		env[crowd.TokenName] = link.TokenPlace
	}
	anothers := map[[2]string]string{} // headers, by reading and name
	switch how {
	case crowd.NoCredential:
		g.Identity.Username, g.Identity.Password, g.Identity.Cert, g.Identity.Tokens = "", "", nil, nil
		env[crowd.TokenName] = ""
	case crowd.AnothersCredential:
		o := f.another(d)
		if o == nil {
			return nil, fmt.Errorf("there is no other device of the kind %q on the link %q", d.Cast.Kind.Name, d.Cast.Link.Name)
		}
		f.keys.Lock()
		x := o.Identity()
		for _, s := range o.Streams {
			for i, h := range s.Headers {
				anothers[[2]string{s.Reading.Name, h.Name}] = s.Values[i]
			}
		}
		f.keys.Unlock()
		g.Identity.Username, g.Identity.Password, g.Identity.Cert, g.Identity.Tokens, g.Identity.Path = x.Username, x.Password, x.Cert, x.Tokens, x.Path
	case crowd.ExpiredCredential:
		if why := lacksCredentials(d.Cast, how); why != "" {
			return nil, errors.New(why)
		}
		if d.Cast.Token != nil {
			token, err := f.expired(d)
			if err != nil {
				return nil, err
			}
			g.Identity.Tokens = token
		}
		if d.Cast.ExpiredCert != nil {
			cert, err := f.expiredCert(d)
			if err != nil {
				return nil, err
			}
			g.Identity.Cert = cert
		}
	case crowd.WrongCredential:
		for name := range d.Cast.Secrets {
			if name != crowd.TokenName {
				env[name] = wrongly(env[name], f.wrong)
			}
		}
		if id.Tokens != nil {
			g.Identity.Tokens = falsified{id.Tokens}
		}
		if id.Password != "" && id.Password != link.TokenPlace {
			g.Identity.Password = f.wrong(id.Password)
		}
		if id.Cert != nil {
			cert, err := credential.Stranger(d.Name)
			if err != nil {
				return nil, err
			}
			g.Identity.Cert = cert
		}
	}
	m := &formula.Machine{}
	for _, s := range d.Streams {
		var list []string
		for i, h := range s.Headers {
			list = append(list, s.Values[i])
			if !secretHeader(&h, d.Cast) {
				continue
			}
			switch how {
			case crowd.NoCredential:
				list[i] = NoHeader
				continue
			case crowd.AnothersCredential:
				if v, has := anothers[[2]string{s.Reading.Name, h.Name}]; has {
					list[i] = v
				}
				continue
			}
			env["reading"], env["field"] = s.Reading.Name, s.Reading.Only
			v, err := h.Value.Expand(m, env)
			if err != nil {
				return nil, err
			}
			if how == crowd.WrongCredential && v == s.Values[i] && !strings.Contains(v, link.TokenPlace) {
				scheme := strings.Index(v, " ") + 1 // without it, the header could not be read at all
				v = v[:scheme] + f.wrong(v[scheme:])
			}
			list[i] = v
		}
		g.Values[s.Index] = list
	}
	own := d.Identity()
	x, differs := &g.Identity, false
	differs = x.Username != own.Username || x.Password != own.Password || x.Cert != own.Cert || x.Tokens != own.Tokens ||
		x.Path != own.Path
	for _, s := range d.Streams {
		differs = differs || !slices.Equal(g.Values[s.Index], s.Values)
		if own, is := s.Signer.(*signer); is {
			other, shown := own.variant(how, f.another(d), f.wrong)
			g.Signers[s.Index], differs = other, differs || shown
		}
	}
	switch {
	case differs:
	case how == crowd.AnothersCredential:
		return nil, errors.New("all devices of its kind show the same, so that another's are its own")
	default:
		return nil, errors.New(cmp.Or(lacksCredentials(d.Cast, how), "it shows none of its own just now"))
	}
	for i := range g.Identity.Asks {
		a := &g.Identity.Asks[i]
		if own, is := a.Signer.(*signer); is {
			a.Signer, _ = own.variant(how, f.another(d), f.wrong)
		}
		a.Headers = nil // those of commands follow the messages'
		for _, s := range d.Streams {
			for k, h := range s.Headers {
				if v := g.Values[s.Index][k]; v != NoHeader {
					a.Headers = append(a.Headers, link.Header{Name: h.Name, Value: v})
				}
			}
			break
		}
	}
	return g, nil
}

// lacksCredentials says why a device of a cast cannot show other credentials; empty: it can.
func lacksCredentials(c *crowd.Cast, how crowd.Credential) string {
	switch {
	case how == crowd.ExpiredCredential && c.Token == nil && c.ExpiredCert == nil:
		return fmt.Sprintf("the link %q has no access_token that could expire, and tls: has no expired_cert", c.Link.Name)
	case (how == crowd.NoCredential || how == crowd.AnothersCredential) && c.Username != nil:
	case !HasCredentials(c):
		return fmt.Sprintf("the devices of the kind %q show no credentials on the link %q, which therefore cannot be wrong "+
			"or left out; give the link a password, a token, a certificate or an Authorization header", c.Kind.Name, c.Link.Name)
	}
	return ""
}

// unarmed notes events that are to show other credentials of devices that show none.
func (f *Fleet) unarmed(p *crowd.Problems) {
	for _, e := range f.Crowd.Plan.Events {
		if !e.Does(crowd.ActionCredential) {
			continue
		}
		for _, d := range f.befalls(e) {
			i := slices.IndexFunc(e.Do[d.Cast], func(x crowd.Action) bool { return x.Kind == crowd.ActionCredential })
			if i < 0 {
				continue
			}
			if why := lacksCredentials(d.Cast, e.Do[d.Cast][i].Credential); why != "" {
				p.Add(e.Pos, "the event %q: credential: %s, or choose other devices with who", e.Title(), why)
				break
			}
		}
	}
}

// befalls are the devices that an event may be done to, all of them where it is drawn.
func (f *Fleet) befalls(e *crowd.Event) []*Device {
	for e.Who == nil {
		if e.When != crowd.AfterEvent {
			return f.Devices
		}
		e = f.Crowd.Plan.Events[e.After] // its devices
	}
	pool, err := e.Who.Pool(f.Candidates())
	if err != nil {
		return nil // told elsewhere
	}
	var list []*Device
	for _, i := range pool.All() {
		list = append(list, f.Devices[i])
	}
	return list
}

// secretHeader tells whether a header shows who a device is.
func secretHeader(h *crowd.Header, c *crowd.Cast) bool {
	return crowd.ShowsSecret(h, c.Signing.Secret(c.Secrets))
}

// HasCredentials tells whether the devices of a cast show anything.
func HasCredentials(c *crowd.Cast) bool {
	if c.Password != nil || c.Cert != nil || c.Token != nil {
		return true
	}
	for i := range c.Headers {
		if secretHeader(&c.Headers[i], c) {
			return true
		}
	}
	list := slices.Concat(c.Signing.Headers, c.Signing.Query)
	for _, r := range c.Readings {
		list = append(append(list, r.Headers...), r.Signed...)
	}
	return slices.ContainsFunc(list, func(h crowd.Header) bool { return secretHeader(&h, c) })
}

// wrong is a wrong credential. It is kept as secret as the right one.
func (f *Fleet) wrong(s string) string {
	w := wrong(s)
	f.Crowd.Secret(w)
	return w
}

// another is the next device of the same kind on the same link.
func (f *Fleet) another(d *Device) *Device {
	for k := 1; k < len(f.Devices); k++ {
		if o := f.Devices[(d.Index+k)%len(f.Devices)]; o.Cast.Kind == d.Cast.Kind && o.Cast.Link == d.Cast.Link {
			return o
		}
	}
	return nil
}

// wrong is a credential like another, and not it. The other cannot be told from it.
func wrong(s string) string {
	key := signal.Key(0, "wrong credential", s)
	b := []rune(s)
	for i, r := range b {
		n := rune(signal.Uniform(key, uint64(i), 0) * 25)
		switch {
		case r >= 'a' && r <= 'z':
			b[i] = 'a' + (r-'a'+1+n)%26
		case r >= 'A' && r <= 'Z':
			b[i] = 'A' + (r-'A'+1+n)%26
		case r >= '0' && r <= '9':
			b[i] = '0' + (r-'0'+1+n%9)%10
		}
	}
	if string(b) == s {
		return s + "0"
	}
	return string(b)
}

// falsified gives tokens that nobody has made.
type falsified struct{ link.TokenSource }

func (t falsified) Token(ctx context.Context) (string, time.Time, error) {
	token, renew, err := t.TokenSource.Token(ctx)
	if n := len(token); err == nil && n > 0 {
		// The end of a signature: what stands before it is still read.
		at := max(0, n-12)
		token = token[:at] + wrong(token[at:])
	}
	return token, renew, err
}

// expiredCert is the certificate of a device that has expired: another one shows nothing.
func (f *Fleet) expiredCert(d *Device) (*tls.Certificate, error) {
	if f.Credentials == nil {
		return nil, errors.New("nothing reads certificates here")
	}
	m := &formula.Machine{}
	name, err := d.Cast.ExpiredCert.Expand(m, d.Env)
	if err != nil {
		return nil, err
	}
	key, err := d.Cast.ExpiredKey.Expand(m, d.Env)
	if err != nil {
		return nil, err
	}
	pair, err := f.Credentials.Pair(name, key)
	if err != nil {
		return nil, err
	}
	if leaf := pair.Leaf; leaf == nil || time.Now().Before(leaf.NotAfter) {
		return nil, fmt.Errorf("the certificate %s has not expired", name)
	}
	return pair, nil
}

// expired gives tokens that are over.
func (f *Fleet) expired(d *Device) (link.TokenSource, error) {
	if f.Credentials == nil {
		return nil, errors.New("nothing makes tokens here")
	}
	env := maps.Clone(d.Env)
	return f.Credentials.Expired(d.Cast.Link, d.Cast.Token, env)
}
