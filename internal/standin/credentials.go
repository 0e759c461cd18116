package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	_ "crypto/sha512" // the longer digests of signatures
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// visitor is who showed credentials, as far as they were good.
type visitor struct {
	name  string    // device, or client of the authorization server
	admin bool      // showed the platform's own token: may do everything
	until time.Time // when the credentials run out; zero: never
}

// errNobody is the error for credentials that are missing or wrong.
var errNobody = errors.New("the credentials are missing or wrong")

// open tells whether the stand-in wants no credentials at all.
func (s *StandIn) open() bool {
	c := &s.cfg
	return c.Token == "" && c.JWTKeys == "" && c.JWTSecret == "" && c.OAuthSecret == "" && s.known == nil
}

// admit finds out who shows a token, who says to be called name; name may be empty.
func (s *StandIn) admit(name, token string) (visitor, error) {
	switch {
	case s.open():
		return visitor{name: name}, nil
	case s.cfg.Token != "" && subtle.ConstantTimeCompare([]byte(token), []byte(s.cfg.Token)) == 1:
		return visitor{name: name, admin: true}, nil
	case s.known != nil && s.known.admits(name, token):
		return visitor{name: name}, nil
	}
	if s.cfg.OAuthSecret != "" {
		if v, ok := s.grants.admits(token); ok {
			return v, nil
		}
	}
	if s.cfg.JWTKeys != "" || s.cfg.JWTSecret != "" {
		return s.checkJWT(name, token)
	}
	if s.chance.has("admit") {
		return visitor{name: name}, nil
	}
	return visitor{}, errNobody
}

// checkJWT checks a JSON Web Token (RFC 7519, section 7.2): its signature (RFC 7515),
// that it runs out and has not yet, and whose it is.
func (s *StandIn) checkJWT(name, token string) (visitor, error) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return visitor{}, errNobody
	}
	var head struct{ Alg string }
	var claims struct {
		Sub string
		Exp *float64
		Nbf *float64
	}
	signature, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil || decodePart(parts[0], &head) != nil || decodePart(parts[1], &claims) != nil {
		return visitor{}, errors.New("the token is not a JSON Web Token")
	}
	subject := claims.Sub
	switch {
	case subject == "" || strings.ContainsAny(subject, `/\`) || strings.HasPrefix(subject, "."):
		return visitor{}, errors.New("the token does not name its subject (sub)")
	case name != "" && subject != name:
		return visitor{}, fmt.Errorf("the token is that of %s, not of %s", subject, name)
	}
	if err := s.verify(head.Alg, subject, []byte(parts[0]+"."+parts[1]), signature); err != nil {
		return visitor{}, err
	}
	now := float64(time.Now().UnixMilli()) / 1000
	switch {
	case claims.Exp == nil:
		return visitor{}, errors.New("the token never runs out (exp is missing)")
	case now >= *claims.Exp:
		return visitor{}, fmt.Errorf("the token has run out %.0f s ago", now-*claims.Exp)
	case claims.Nbf != nil && now < *claims.Nbf:
		return visitor{}, fmt.Errorf("the token is good in %.0f s only", *claims.Nbf-now)
	}
	return visitor{name: subject, until: time.UnixMilli(int64(*claims.Exp * 1000))}, nil
}

func decodePart(part string, v any) error {
	b, err := base64.RawURLEncoding.DecodeString(part)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}

var errSignature = errors.New("the signature of the token does not hold")

// verify checks a signature (RFC 7518, section 3; RFC 8037, section 3.1).
func (s *StandIn) verify(algorithm, subject string, signed, signature []byte) error {
	hashes := map[string]crypto.Hash{"256": crypto.SHA256, "384": crypto.SHA384, "512": crypto.SHA512}
	digest := func() (crypto.Hash, []byte) {
		h := hashes[algorithm[max(0, len(algorithm)-3):]]
		if h == 0 {
			return 0, nil
		}
		w := h.New()
		w.Write(signed)
		return h, w.Sum(nil)
	}
	if strings.HasPrefix(algorithm, "HS") {
		h, _ := digest()
		if h == 0 || s.cfg.JWTSecret == "" {
			return errSignature
		}
		m := hmac.New(h.New, []byte(s.cfg.JWTSecret))
		m.Write(signed)
		if !hmac.Equal(m.Sum(nil), signature) {
			return errSignature
		}
		return nil
	}
	key, err := s.publicKey(subject)
	if err != nil {
		return err
	}
	switch k := key.(type) {
	case *rsa.PublicKey:
		h, sum := digest()
		switch {
		case h != 0 && strings.HasPrefix(algorithm, "RS") && rsa.VerifyPKCS1v15(k, h, sum, signature) == nil:
			return nil
		case h != 0 && strings.HasPrefix(algorithm, "PS") && rsa.VerifyPSS(k, h, sum, signature, nil) == nil:
			return nil
		}
	case *ecdsa.PublicKey:
		_, sum := digest()
		half := (k.Curve.Params().BitSize + 7) / 8
		if strings.HasPrefix(algorithm, "ES") && sum != nil && len(signature) == 2*half &&
			ecdsa.Verify(k, sum, new(big.Int).SetBytes(signature[:half]), new(big.Int).SetBytes(signature[half:])) {
			return nil
		}
	case ed25519.PublicKey:
		if algorithm == "EdDSA" && ed25519.Verify(k, signed, signature) {
			return nil
		}
	}
	return errSignature
}

// publicKey reads the key of a device: a certificate or a public key, in PEM.
func (s *StandIn) publicKey(name string) (any, error) {
	if s.cfg.JWTKeys == "" {
		return nil, errSignature
	}
	data, err := os.ReadFile(filepath.Join(s.cfg.JWTKeys, name+".pem"))
	block, _ := pem.Decode(data)
	if err != nil || block == nil {
		return nil, fmt.Errorf("there is no key of %s", name)
	}
	if block.Type == "CERTIFICATE" {
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("the certificate of %s cannot be read", name)
		}
		return c.PublicKey, nil
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the key of %s cannot be read", name)
	}
	return key, nil
}

// grants are the tokens that the authorization server gave out.
type grants struct {
	mu     sync.Mutex
	tokens map[[sha256.Size]byte]visitor
}

func (g *grants) admits(token string) (visitor, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	v, known := g.tokens[sha256.Sum256([]byte(token))]
	return v, known && time.Now().Before(v.until)
}

// defaultTokenLife is how long a token of the authorization server is good.
const defaultTokenLife = time.Hour

// grant serves POST /token: client credentials (RFC 6749, section 4.4). Any client id
// is known, and they all have one secret.
func (s *StandIn) grant(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	id, secret, basic := r.BasicAuth()
	if err := r.ParseForm(); err == nil && !basic {
		id, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case id == "" || subtle.ConstantTimeCompare([]byte(secret), []byte(s.cfg.OAuthSecret)) != 1:
		answer(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client"})
		return
	case r.PostForm.Get("grant_type") != "client_credentials":
		answer(w, http.StatusBadRequest, map[string]any{"error": "unsupported_grant_type"})
		return
	}
	life := s.cfg.TokenLife
	if life == 0 {
		life = defaultTokenLife
	}
	token := rand.Text()
	s.grants.mu.Lock()
	now := time.Now()
	for k, v := range s.grants.tokens {
		if now.After(v.until) {
			delete(s.grants.tokens, k)
		}
	}
	s.grants.tokens[sha256.Sum256([]byte(token))] = visitor{name: id, until: now.Add(life)}
	s.grants.mu.Unlock()
	body := map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(life / time.Second)}
	if scope := r.PostForm.Get("scope"); scope != "" {
		body["scope"] = scope
	}
	answer(w, http.StatusOK, body)
}

// shown is the token of a request: in a header (RFC 6750, section 2.1; RFC 7617), or
// in the address (RFC 6750, section 2.3).
func shown(r *http.Request) string {
	if token, is := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); is {
		return token
	}
	if _, password, is := r.BasicAuth(); is {
		return password
	}
	return r.URL.Query().Get("access_token")
}

// orders are the commands for devices that speak HTTP, and their answers.
type orders struct {
	mu       sync.Mutex
	commands map[string][]json.RawMessage
	answers  map[string][]json.RawMessage
}

// maxOrders is how many commands, and answers, are kept for one device.
const maxOrders = 1000

// put serves POST /commands/DEVICE and POST /answers/DEVICE.
func (a *orders) put(list *map[string][]json.RawMessage) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var body json.RawMessage
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody)).Decode(&body); err != nil {
			answer(w, http.StatusBadRequest, map[string]any{"error": "this is not JSON"})
			return
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		name := r.PathValue("device")
		if len((*list)[name]) >= maxOrders {
			answer(w, http.StatusTooManyRequests, map[string]any{"error": "too many wait for this device"})
			return
		}
		(*list)[name] = append((*list)[name], body)
		w.WriteHeader(http.StatusAccepted)
	}
}

// get serves GET /commands/DEVICE and GET /answers/DEVICE; what was given is gone.
func (a *orders) get(list *map[string][]json.RawMessage, key string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		name := r.PathValue("device")
		found := (*list)[name]
		delete(*list, name)
		a.mu.Unlock()
		if len(found) == 0 {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		answer(w, http.StatusOK, map[string]any{key: found})
	}
}
