package credential

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
)

// Store makes the credentials of a crowd's devices and of those who are none. Keys and
// certificates are read when they are first needed, once, from the crowd file's folder;
// none ever reaches the run folder. All methods may be called from any goroutine.
type Store struct {
	// Open reads a file by its name in the crowd file; nil: from that file's folder.
	// It is set before the store is used.
	Open func(name string) ([]byte, error)

	crowd *crowd.Crowd

	mu     sync.Mutex // never held while a file is read or a server is asked
	pairs  map[string]func() (*tls.Certificate, error)
	keys   map[string]func() (crypto.PrivateKey, error)
	shared map[string]*Token // of clients of an authorization server
}

// New makes a store for a crowd.
func New(c *crowd.Crowd) *Store {
	return &Store{crowd: c, pairs: map[string]func() (*tls.Certificate, error){},
		keys: map[string]func() (crypto.PrivateKey, error){}, shared: map[string]*Token{}}
}

func (s *Store) open(name string) ([]byte, error) {
	if s.Open != nil {
		return s.Open(name)
	}
	return folder.Read(s.crowd.Path, name)
}

// once gives what a map holds, or makes it; the making itself is not done under the lock.
func once[T any](mu *sync.Mutex, m map[string]func() (T, error), id string, make func() (T, error)) (T, error) {
	mu.Lock()
	f := m[id]
	if f == nil {
		f = sync.OnceValues(make)
		m[id] = f
	}
	mu.Unlock()
	return f()
}

// TLS is how a link secures its connections; nil without TLS.
func TLS(l *crowd.Link) *link.TLS {
	if l == nil || l.TLS == nil {
		return nil
	}
	t := &link.TLS{ServerName: l.TLS.ServerName, MinVersion: l.TLS.MinVersion, ALPN: l.TLS.ALPN, NoVerify: l.TLS.NoVerify}
	if l.TLS.CA != nil {
		t.Roots = x509.NewCertPool()
		t.Roots.AppendCertsFromPEM(l.TLS.CA) // checked when the file was read
	}
	return t
}

// Pair reads the certificate and the key of a device, in PEM; nil for no name.
func (s *Store) Pair(cert, key string) (*tls.Certificate, error) {
	if cert == "" {
		return nil, nil
	}
	return once(&s.mu, s.pairs, cert+"\x00"+key, func() (*tls.Certificate, error) {
		var pem [2][]byte
		for i, name := range []string{cert, key} {
			data, err := s.open(name)
			if err != nil {
				return nil, fmt.Errorf("%s cannot be read: %s (it is looked for from the crowd file's folder)", name,
					folder.Why(err))
			}
			pem[i] = data
		}
		pair, err := tls.X509KeyPair(pem[0], pem[1])
		if err != nil {
			return nil, fmt.Errorf("%s and %s are not a certificate and its key in PEM: %s", cert, key,
				strings.TrimPrefix(err.Error(), "tls: "))
		}
		return &pair, nil
	})
}

// signingKey reads a key that signs tokens.
func (s *Store) signingKey(algorithm, name string) (crypto.PrivateKey, error) {
	return once(&s.mu, s.keys, algorithm+"\x00"+name, func() (crypto.PrivateKey, error) {
		data, err := s.open(name)
		if err != nil {
			return nil, fmt.Errorf("the key %s cannot be read: %s (it is looked for from the crowd file's folder)", name,
				folder.Why(err))
		}
		key, err := PrivateKey(algorithm, bytes.TrimSpace(data))
		if err != nil {
			return nil, fmt.Errorf("the key %s: %w", name, err)
		}
		return key, nil
	})
}

// Token makes the access token of somebody with this environment, on a link. Try makes
// one at once, so that what is wrong is told now; a server is not asked for that.
func (s *Store) Token(l *crowd.Link, t *crowd.AccessToken, env formula.Env, try bool) (*Token, error) {
	m := &formula.Machine{}
	var failed error
	expand := func(x *formula.Text) string {
		if x == nil || failed != nil {
			return ""
		}
		var out string
		out, failed = x.Expand(m, env)
		return out
	}
	if o := t.OAuth; o != nil {
		g := &Grant{URL: expand(o.URL), ID: expand(o.ClientID), Secret: expand(o.ClientSecret), Scopes: o.Scopes,
			Params: url.Values{}, InBody: o.InBody,
			Redacted: s.crowd.Redact, Client: authorizationClient(l)}
		for _, p := range o.Params {
			g.Params.Set(p.Name, expand(p.Value))
		}
		if failed != nil {
			return nil, failed
		}
		s.crowd.Secret(g.Secret)
		// Devices that are one client to the server share what it gives that client.
		id := strings.Join([]string{l.Name, g.URL, g.ID, g.Secret, strings.Join(g.Scopes, " "), g.Params.Encode()}, "\x00")
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.shared[id] == nil {
			s.shared[id] = NewToken(g.Make, t.Renew, By{})
		}
		return s.shared[id], nil
	}
	maker, err := s.maker(t, env)
	if err != nil {
		return nil, err
	}
	if try {
		if _, _, err := maker(context.Background(), time.Now()); err != nil {
			return nil, errors.New(strings.TrimPrefix(err.Error(), "no access token: "))
		}
	}
	return NewToken(maker, t.Renew, By{}), nil
}

// maker makes tokens that are signed or composed.
func (s *Store) maker(t *crowd.AccessToken, env formula.Env) (Maker, error) {
	m := &formula.Machine{}
	var failed error
	expand := func(x *formula.Text) string {
		var out string
		out, failed = x.Expand(m, env)
		return out
	}
	var key any
	if t.JWT != nil {
		if t.JWT.Secret != nil {
			secret := expand(t.JWT.Secret)
			s.crowd.Secret(secret)
			key = []byte(secret)
		} else if name := expand(t.JWT.Key); failed == nil {
			key, failed = s.signingKey(t.JWT.Algorithm, name)
		}
	}
	if failed != nil {
		return nil, failed
	}
	// The device's own may change while tokens are made.
	own := maps.Clone(env)
	return func(_ context.Context, now time.Time) (string, time.Time, error) {
		expiry := now.Add(t.Valid).Truncate(time.Second) // as it will stand in the token
		own["issued"], own["expiry"] = int(now.Unix()), int(expiry.Unix())
		token, err := sign(t, key, m, own, now, expiry)
		if err != nil {
			return "", time.Time{}, &link.TokenError{What: "no access token: " + s.crowd.Redact(err.Error()),
				Try: "see access_token of the link"}
		}
		return token, expiry, nil
	}, nil
}

// Expired makes access tokens that have run out: they are signed or composed as good ones
// are, and were good until a minute ago.
func (s *Store) Expired(l *crowd.Link, t *crowd.AccessToken, env formula.Env) (link.TokenSource, error) {
	if t.OAuth != nil {
		return nil, errors.New("a token of an authorization server cannot be made one that has expired")
	}
	good, err := s.maker(t, env)
	if err != nil {
		return nil, err
	}
	return expired(good), nil
}

// expired gives tokens of another time.
type expired Maker

func (e expired) Token(ctx context.Context) (string, time.Time, error) {
	// It was made so long ago that it ran out a minute ago.
	_, until, err := e(ctx, time.Now())
	if err != nil {
		return "", time.Time{}, err
	}
	lasts := time.Until(until)
	token, _, err := e(ctx, time.Now().Add(-lasts-time.Minute))
	return token, time.Time{}, err
}

// Stranger makes a certificate that nobody has signed but its owner.
func Stranger(name string) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(24 * time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}

func sign(t *crowd.AccessToken, key any, m *formula.Machine, env formula.Env, now, expiry time.Time) (string, error) {
	if t.Text != nil {
		return t.Text.Expand(m, env)
	}
	var parts [2]map[string]any
	for i, x := range []*formula.Text{t.JWT.Header, t.JWT.Claims} {
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
	return Sign(t.JWT.Algorithm, key, parts[0], Complete(parts[1], now, expiry))
}

// authorizationClient is the client that asks an authorization server: it trusts whom
// the link trusts.
func authorizationClient(l *crowd.Link) *http.Client {
	return &http.Client{Transport: link.Transport(TLS(l).Elsewhere(), nil, nil), Timeout: 15 * time.Second,
		CheckRedirect: link.StayOnHost}
}

// Guest is what somebody shows on a link who is no device: a witness, a registration.
type Guest struct {
	Username, Password string
	Cert               *tls.Certificate
	Path               string           // of a WebSocket; empty: that of the address
	Tokens             link.TokenSource // fills link.TokenPlace in the others; nil: none
}

// Guest makes the credentials of somebody with a name; none where there is no link.
func (s *Store) Guest(l *crowd.Link, name string) (Guest, error) {
	var g Guest
	if l == nil {
		return g, nil
	}
	if l.GuestErr != nil {
		return g, l.GuestErr
	}
	env := crowd.GuestEnv(name, s.crowd.Env, s.crowd.Name)
	if t := l.Guest.Token; t != nil {
		token, err := s.Token(l, t, env, true)
		if err != nil {
			return g, fmt.Errorf("the access token of %q: %w", name, err)
		}
		g.Tokens = told{token, s.crowd}
		env[crowd.TokenName] = link.TokenPlace
	}
	var failed error
	m := &formula.Machine{}
	expand := func(t *formula.Text) string {
		if t == nil || failed != nil {
			return ""
		}
		var out string
		out, failed = t.Expand(m, env)
		return out
	}
	g.Username, g.Password, g.Path = expand(l.Guest.Username), expand(l.Guest.Password), expand(l.Guest.Path)
	cert, key := expand(l.Guest.Cert), expand(l.Guest.Key)
	if failed == nil {
		if g.Cert, failed = s.Pair(cert, key); failed != nil {
			failed = fmt.Errorf("%q: %w", name, failed)
		}
	}
	return g, failed
}

// Authorize puts the credentials into a request that brings none of its own: as basic
// authentication (RFC 7617), or as a bearer token (RFC 6750, section 2.1).
func (g *Guest) Authorize(req *http.Request) error {
	if req.Header.Get("Authorization") != "" {
		return nil
	}
	token, _, err := link.TokenOf(req.Context(), g.Tokens)
	switch {
	case err != nil:
		return err
	case g.Username != "":
		req.SetBasicAuth(link.Fill(g.Username, token), link.Fill(g.Password, token))
	case token != "":
		req.Header.Set("Authorization", "Bearer "+token)
	}
	return nil
}

// told is a token that is a secret of the crowd: for the few that belong to no device,
// whose platform may say them in any answer.
type told struct {
	link.TokenSource
	crowd *crowd.Crowd
}

func (p told) Token(ctx context.Context) (string, time.Time, error) {
	token, renew, err := p.TokenSource.Token(ctx)
	p.crowd.Secret(token)
	return token, renew, err
}
