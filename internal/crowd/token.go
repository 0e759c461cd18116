package crowd

import (
	"bytes"
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/pass"
	"runcrowd/internal/quantity"
)

// TokenName is what texts call the access token of a link.
const TokenName = "access_token"

// AccessToken says how devices come to their access tokens; its texts are compiled
// for the devices of a cast.
type AccessToken struct {
	Pos          Pos
	Valid, Renew time.Duration

	algorithm   string        // jwt
	key, secret *formula.Text // of the two one
	header      *formula.Text
	claims      *formula.Text

	text *formula.Text // composed

	url, clientID, clientSecret *formula.Text // oauth
	scopes                      []string
	params                      []Header
	inBody                      bool
	tls                         *link.TLS
}

// accessToken reads access_token of a link for a cast; nil where there is none.
func (r *reader) accessToken(l *Link, env formula.Env) *AccessToken {
	n := l.node.token
	if n == nil {
		return nil
	}
	what := TokenName
	o := r.object(n, what, accessKeys...)
	t := &AccessToken{Pos: pos(n), tls: l.TLS}
	t.Valid = r.span(o.get("valid"), what+": valid", time.Hour, time.Second, 366*quantity.Day)
	t.Renew = r.span(o.get("renew"), what+": renew", 0, time.Millisecond, 366*quantity.Day)
	if t.Renew >= t.Valid && o.get("oauth") == nil {
		r.Add(pos(o.get("renew")), "%s: renew: %s before its end, but a token lasts %s", what, quantity.FormatDuration(t.Renew), quantity.FormatDuration(t.Valid))
	}
	env = maps.Clone(env)
	delete(env, TokenName)
	signed := maps.Clone(env)
	signed["issued"], signed["expiry"] = 1, 1
	jwt, text, oauth := o.get("jwt"), o.get("text"), o.get("oauth")
	count := 0
	for _, x := range []*yaml.Node{jwt, text, oauth} {
		if x != nil {
			count++
		}
	}
	switch {
	case count > 1:
		r.Add(pos(n), "%s has more than one of jwt, text and oauth; keep one", what)
	case jwt != nil:
		r.jwt(t, jwt, env, signed)
	case text != nil:
		t.text = r.text(text, what+": text", signed)
	case oauth != nil:
		r.oauth(t, oauth, env)
		if v := o.get("valid"); v != nil {
			r.Add(pos(v), "%s: valid does not go with oauth: the server says how long a token lasts", what)
		}
	case o.node.Kind == yaml.MappingNode:
		r.Add(pos(n), "%s does not say how a token is made; write jwt: {algorithm: ES256, key: FILE, claims: {sub: \"${device}\"}}, text: …, or oauth: {…}", what)
	}
	return t
}

func (r *reader) jwt(t *AccessToken, n *yaml.Node, env, signed formula.Env) {
	what := TokenName + ": jwt"
	o := r.object(n, what, jwtKeys...)
	t.algorithm = r.word(o.need("algorithm", "ES256"), what+": algorithm", "", pass.Algorithms...)
	key, secret := o.get("key"), o.get("secret")
	switch symmetric := pass.Symmetric(t.algorithm); {
	case t.algorithm == "":
	case symmetric && secret == nil:
		r.Add(pos(n), "%s: %s signs with a shared secret; write secret: ${env.NAME}", what, t.algorithm)
	case symmetric && key != nil:
		r.Add(pos(key), "%s: %s signs with a shared secret, not with a key", what, t.algorithm)
	case !symmetric && key == nil:
		r.Add(pos(n), "%s: %s signs with a private key; write key: keys/${device}.pem", what, t.algorithm)
	case !symmetric && secret != nil:
		r.Add(pos(secret), "%s: %s signs with a private key, not with a secret", what, t.algorithm)
	}
	t.key, t.secret = r.text(key, what+": key", env), r.text(secret, what+": secret", env)
	if secret != nil {
		r.secretText(secret, t.secret)
	}
	for _, part := range []struct {
		name string
		into **formula.Text
	}{{"header", &t.header}, {"claims", &t.claims}} {
		if b := o.get(part.name); b != nil && !isNull(b) {
			if r.resolve(b).Kind != yaml.MappingNode {
				r.Add(pos(b), "%s: %s must be a mapping (key: value), not %s", what, part.name, describe(b))
				continue
			}
			*part.into = r.body(b, what+": "+part.name, signed)
		}
	}
}

func (r *reader) oauth(t *AccessToken, n *yaml.Node, env formula.Env) {
	what := TokenName + ": oauth"
	o := r.object(n, what, oauthKeys...)
	un := o.need("url", "https://HOST/token")
	if t.url = r.text(un, what+": url", env); t.url != nil {
		r.wholeAddress(un, what+": url", t.url)
	}
	t.clientID = r.text(o.need("client_id", "${device}"), what+": client_id", env)
	sn := o.need("client_secret", "${env.NAME}")
	if t.clientSecret = r.text(sn, what+": client_secret", env); sn != nil {
		r.secretText(sn, t.clientSecret)
	}
	for _, s := range r.list(o.get("scope"), what+": scope") {
		if v, ok := r.scalar(s, what+": scope"); ok {
			t.scopes = append(t.scopes, strings.Fields(v)...)
		}
	}
	if pn := o.get("params"); pn != nil {
		for _, e := range r.entries(pn, what+": params") {
			if v := r.text(e.value, what+": params: "+e.key.Value, env); v != nil {
				t.params = append(t.params, Header{e.key.Value, v})
			}
		}
	}
	t.inBody = r.word(o.get("credentials_in"), what+": credentials_in", "header", "header", "body") == "body"
}

// alone notes texts in which the access token is more than a placeholder of its own:
// it is put in at the moment of sending, when no formula is run any more.
func (r *reader) alone(n *yaml.Node, what string, t *formula.Text) {
	if t == nil {
		return
	}
	t.Walk(func(_ string, f *formula.Formula) {
		if f != nil && contains(f.Names(), TokenName) && strings.TrimSpace(f.Source()) != TokenName {
			r.Add(pos(n), "%s: ${%s} must stand alone in its placeholder; what is made of it belongs into access_token: {text: …}", what, TokenName)
		}
	})
}

// passes are the tokens that devices share, and the keys that sign.
type passes struct {
	mu     sync.Mutex
	shared map[string]link.Pass
	keys   map[string]crypto.PrivateKey
}

// Connects tells whether devices may connect: a crowd that is read to be judged, or to
// make its certificates, needs no credentials of theirs.
func (c *Crowd) Connects() bool {
	return !c.reader.from.WithoutValues && !c.reader.from.WithoutCertificates
}

// Pass makes the pass of somebody with this environment. Try makes a token at once, so
// that what is wrong is told now.
func (t *AccessToken) Pass(c *Crowd, env formula.Env, try bool) (link.Pass, error) {
	m := &formula.Machine{}
	var failed error
	expand := func(x *formula.Text) string {
		if x == nil || failed != nil {
			return ""
		}
		var s string
		s, failed = x.Expand(m, env)
		return s
	}
	if t.url != nil {
		g := &pass.Grant{URL: expand(t.url), ID: expand(t.clientID), Secret: expand(t.clientSecret), Scopes: t.scopes, Params: url.Values{}, InBody: t.inBody,
			Redacted: c.Redact, Client: t.client()}
		for _, p := range t.params {
			g.Params.Set(p.Name, expand(p.Value))
		}
		if failed != nil {
			return nil, failed
		}
		c.Secret(g.Secret)
		// Devices that are one client to the server share what it gives that client.
		id := strings.Join([]string{g.URL, g.ID, g.Secret, strings.Join(g.Scopes, " "), g.Params.Encode()}, "\x00")
		c.passes.mu.Lock()
		defer c.passes.mu.Unlock()
		if c.passes.shared == nil {
			c.passes.shared = map[string]link.Pass{}
		}
		if c.passes.shared[id] == nil {
			c.passes.shared[id] = pass.New(g.Make, t.Renew, pass.By{})
		}
		return c.passes.shared[id], nil
	}
	var key any
	if t.algorithm != "" {
		if t.secret != nil {
			secret := expand(t.secret)
			c.Secret(secret)
			key = []byte(secret)
		} else if name := expand(t.key); failed == nil {
			key, failed = c.signingKey(t.algorithm, name)
		}
	}
	if failed != nil {
		return nil, failed
	}
	// The device's own may change while tokens are made.
	own := maps.Clone(env)
	maker := func(_ context.Context, now time.Time) (string, time.Time, error) {
		expiry := now.Add(t.Valid).Truncate(time.Second) // as it will stand in the token
		own["issued"], own["expiry"] = int(now.Unix()), int(expiry.Unix())
		token, err := t.sign(key, m, own, now, expiry)
		if err != nil {
			return "", time.Time{}, &link.PassError{What: "no access token: " + c.Redact(err.Error()), Try: "see access_token of the link"}
		}
		return token, expiry, nil
	}
	if try {
		if _, _, err := maker(context.Background(), time.Now()); err != nil {
			return nil, errors.New(strings.TrimPrefix(err.Error(), "no access token: "))
		}
	}
	return pass.New(maker, t.Renew, pass.By{}), nil
}

func (t *AccessToken) sign(key any, m *formula.Machine, env formula.Env, now, expiry time.Time) (string, error) {
	if t.text != nil {
		return t.text.Expand(m, env)
	}
	var parts [2]map[string]any
	for i, x := range []*formula.Text{t.header, t.claims} {
		parts[i] = map[string]any{}
		if x == nil {
			continue
		}
		s, err := x.Expand(m, env)
		if err != nil {
			return "", err
		}
		d := json.NewDecoder(strings.NewReader(s))
		d.UseNumber()
		if err := d.Decode(&parts[i]); err != nil {
			return "", fmt.Errorf("the header or the claims are not JSON: %w", err)
		}
	}
	return pass.Sign(t.algorithm, key, parts[0], pass.Complete(parts[1], now, expiry))
}

// client is the client that asks an authorization server: it trusts whom the link
// trusts.
func (t *AccessToken) client() *http.Client {
	return &http.Client{Transport: link.Transport(t.tls.Elsewhere(), nil), Timeout: 15 * time.Second, CheckRedirect: link.StayOnHost}
}

// told is a pass whose tokens are secrets of the crowd: for the few that belong to no
// device, whose platform may say them in any answer.
type told struct {
	link.Pass
	crowd *Crowd
}

func (p told) Token(ctx context.Context) (string, time.Time, error) {
	token, renew, err := p.Pass.Token(ctx)
	p.crowd.Secret(token)
	return token, renew, err
}

// signingKey reads a key that signs tokens. It never reaches the run folder.
func (c *Crowd) signingKey(algorithm, name string) (crypto.PrivateKey, error) {
	c.passes.mu.Lock()
	defer c.passes.mu.Unlock()
	id := algorithm + "\x00" + name
	if key := c.passes.keys[id]; key != nil {
		return key, nil
	}
	data, err := c.reader.read(name)
	if err != nil {
		return nil, fmt.Errorf("the key %s cannot be read: %s (it is looked for from the crowd file's folder)", name, whyNot(err))
	}
	key, err := pass.PrivateKey(algorithm, bytes.TrimSpace(data))
	if err != nil {
		return nil, fmt.Errorf("the key %s: %w", name, err)
	}
	if c.passes.keys == nil {
		c.passes.keys = map[string]crypto.PrivateKey{}
	}
	c.passes.keys[id] = key
	return key, nil
}
