package file

import (
	"maps"
	"strings"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// accessToken reads access_token of a link for a cast; nil where there is none.
func (r *reader) accessToken(l *crowd.Link, env formula.Env) *crowd.AccessToken {
	n := r.links[l].token
	if n == nil {
		return nil
	}
	what := crowd.TokenName
	o := r.object(n, what, tokenMap)
	t := &crowd.AccessToken{Pos: pos(n)}
	t.Valid = o.span("valid")
	t.Renew = o.span("renew")
	if t.Renew >= t.Valid && o.get("oauth") == nil {
		r.Add(pos(o.get("renew")), "%s: renew: %s before its end, but a token lasts %s", what,
			quantity.FormatDuration(t.Renew), quantity.FormatDuration(t.Valid))
	}
	env = maps.Clone(env)
	delete(env, crowd.TokenName)
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
		t.Text = r.text(text, what+": text", signed)
	case oauth != nil:
		r.oauth(t, oauth, env)
		if v := o.get("valid"); v != nil {
			r.Add(pos(v), "%s: valid does not go with oauth: the server says how long a token lasts", what)
		}
	case o.node.Kind == yaml.MappingNode:
		r.Add(pos(n), "%s does not say how a token is made; write jwt: {algorithm: ES256, key: FILE, claims: {sub: "+
			"\"${device}\"}}, text: …, or oauth: {…}", what)
	}
	return t
}

func (r *reader) jwt(t *crowd.AccessToken, n *yaml.Node, env, signed formula.Env) {
	what := crowd.TokenName + ": jwt"
	t.JWT = &crowd.JWT{}
	o := r.object(n, what, jwtMap)
	t.JWT.Algorithm = o.word("algorithm")
	key, secret := o.get("key"), o.get("secret")
	switch symmetric := credential.Symmetric(t.JWT.Algorithm); {
	case t.JWT.Algorithm == "":
	case symmetric && secret == nil:
		r.Add(pos(n), "%s: %s signs with a shared secret; write secret: ${env.NAME}", what, t.JWT.Algorithm)
	case symmetric && key != nil:
		r.Add(pos(key), "%s: %s signs with a shared secret, not with a key", what, t.JWT.Algorithm)
	case !symmetric && key == nil:
		r.Add(pos(n), "%s: %s signs with a private key; write key: keys/${device}.pem", what, t.JWT.Algorithm)
	case !symmetric && secret != nil:
		r.Add(pos(secret), "%s: %s signs with a private key, not with a secret", what, t.JWT.Algorithm)
	}
	t.JWT.Key, t.JWT.Secret = r.text(key, what+": key", env), r.text(secret, what+": secret", env)
	if secret != nil {
		r.secretText(secret, t.JWT.Secret)
	}
	for _, part := range []struct {
		name string
		into **formula.Text
	}{{"header", &t.JWT.Header}, {"claims", &t.JWT.Claims}} {
		if b := o.get(part.name); b != nil && !isNull(b) {
			if r.resolve(b).Kind != yaml.MappingNode {
				r.Add(pos(b), "%s: %s must be a mapping (key: value), not %s", what, part.name, describe(b))
				continue
			}
			*part.into = r.body(b, what+": "+part.name, signed)
		}
	}
}

func (r *reader) oauth(t *crowd.AccessToken, n *yaml.Node, env formula.Env) {
	what := crowd.TokenName + ": oauth"
	t.OAuth = &crowd.OAuth{}
	o := r.object(n, what, oauthMap)
	un := o.need("url", "https://HOST/token")
	if t.OAuth.URL = r.text(un, what+": url", env); t.OAuth.URL != nil {
		r.wholeAddress(un, what+": url", t.OAuth.URL)
	}
	t.OAuth.ClientID = r.text(o.need("client_id", "${device}"), what+": client_id", env)
	sn := o.need("client_secret", "${env.NAME}")
	if t.OAuth.ClientSecret = r.text(sn, what+": client_secret", env); sn != nil {
		r.secretText(sn, t.OAuth.ClientSecret)
	}
	for _, s := range r.list(o.get("scope"), what+": scope") {
		if v, ok := r.scalar(s, what+": scope"); ok {
			t.OAuth.Scopes = append(t.OAuth.Scopes, strings.Fields(v)...)
		}
	}
	if pn := o.get("params"); pn != nil {
		for _, e := range r.entries(pn, what+": params") {
			if v := r.text(e.value, what+": params: "+e.key.Value, env); v != nil {
				t.OAuth.Params = append(t.OAuth.Params, crowd.Header{Name: e.key.Value, Value: v})
			}
		}
	}
	t.OAuth.InBody = o.word("credentials_in") == "body"
}

// alone notes texts in which the access token is more than a placeholder of its own:
// it is put in at the moment of sending, when no formula is run any more.
func (r *reader) alone(n *yaml.Node, what string, t *formula.Text) {
	if t == nil {
		return
	}
	t.Walk(func(_ string, f *formula.Formula) {
		if f != nil && contains(f.Names(), crowd.TokenName) && strings.TrimSpace(f.Source()) != crowd.TokenName {
			r.Add(pos(n), "%s: ${%s} must stand alone in its placeholder; what is made of it belongs into access_token: "+
				"{text: …}", what, crowd.TokenName)
		}
	})
}
