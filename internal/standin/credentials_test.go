package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func part(v any) string {
	b, _ := json.Marshal(v)
	return base64.RawURLEncoding.EncodeToString(b)
}

// token is a JSON Web Token, made by hand as the standard says.
func token(algorithm string, claims map[string]any, sign func(signed []byte) []byte) string {
	signed := part(map[string]string{"alg": algorithm}) + "." + part(claims)
	return signed + "." + base64.RawURLEncoding.EncodeToString(sign([]byte(signed)))
}

func mac(secret string) func([]byte) []byte {
	return func(b []byte) []byte {
		h := hmac.New(sha256.New, []byte(secret))
		h.Write(b)
		return h.Sum(nil)
	}
}

func TestJWT(t *testing.T) {
	s := start(t, Config{JWTSecret: "secret-1"})
	in := func(d time.Duration) int64 { return time.Now().Add(d).Unix() }
	good := map[string]any{"sub": "buoy-1", "exp": in(time.Hour)}
	for _, c := range []struct {
		name, token, device, says string
	}{
		{"good", token("HS256", good, mac("secret-1")), "buoy-1", ""},
		{"of another device", token("HS256", good, mac("secret-1")), "buoy-2", "the token is that of buoy-1, not of buoy-2"},
		{"another secret", token("HS256", good, mac("secret-2")), "buoy-1", "the signature of the token does not hold"},
		{"no signature", token("none", good, func([]byte) []byte { return nil }), "buoy-1", "the signature of the token " +
			"does not hold"},
		{"an algorithm that is none", token("HS", good, mac("secret-1")), "buoy-1", "the signature of the token does not " +
			"hold"},
		{"run out", token("HS256", map[string]any{"sub": "buoy-1", "exp": in(-time.Minute)}, mac("secret-1")), "buoy-1",
			"the token has run out"},
		{"not yet", token("HS256", map[string]any{"sub": "buoy-1", "exp": in(time.Hour), "nbf": in(time.Minute)},
			mac("secret-1")), "buoy-1", "the token is good in"},
		{"for ever", token("HS256", map[string]any{"sub": "buoy-1"}, mac("secret-1")), "buoy-1", "never runs out"},
		{"of nobody", token("HS256", map[string]any{"exp": in(time.Hour)}, mac("secret-1")), "buoy-1",
			"does not name its subject"},
		{"of a path", token("HS256", map[string]any{"sub": "../x", "exp": in(time.Hour)}, mac("secret-1")), "",
			"does not name its subject"},
		{"a key that is not there", token("ES256", good, mac("secret-1")), "buoy-1", "the signature of the token does not " +
			"hold"},
		{"not a token", "a.b", "buoy-1", "missing or wrong"},
		{"not base64", "a.!.c", "buoy-1", "not a JSON Web Token"},
		{"nothing", "", "buoy-1", "missing or wrong"},
	} {
		v, err := s.admit(c.device, c.token)
		if c.says == "" {
			assert.NoError(t, err, c.name)
			assert.Equal(t, "buoy-1", v.name)
		} else {
			assert.ErrorContains(t, err, c.says, c.name)
		}
	}
}

func TestJWTKeys(t *testing.T) {
	dir := t.TempDir()
	save := func(name string, public any) {
		der, err := x509.MarshalPKIXPublicKey(public)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".pem"),
			pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), 0o600))
	}
	digest := func(b []byte) []byte { s := sha256.Sum256(b); return s[:] }
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	pub, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	save("ec", &ec.PublicKey)
	save("rs", &rs.PublicKey)
	save("ed", pub)
	s := start(t, Config{JWTKeys: dir})
	for algorithm, c := range map[string]struct {
		name string
		sign func([]byte) []byte
	}{
		"ES256": {"ec", func(b []byte) []byte {
			r, x, _ := ecdsa.Sign(rand.Reader, ec, digest(b))
			return append(r.FillBytes(make([]byte, 32)), x.FillBytes(make([]byte, 32))...)
		}},
		"RS256": {"rs", func(b []byte) []byte {
			x, _ := rsa.SignPKCS1v15(rand.Reader, rs, crypto.SHA256, digest(b))
			return x
		}},
		"PS256": {"rs", func(b []byte) []byte {
			x, _ := rsa.SignPSS(rand.Reader, rs, crypto.SHA256, digest(b), nil)
			return x
		}},
		"EdDSA": {"ed", func(b []byte) []byte { return ed25519.Sign(ed, b) }},
	} {
		claims := map[string]any{"sub": c.name, "exp": time.Now().Unix() + 60}
		_, err := s.admit(c.name, token(algorithm, claims, c.sign))
		assert.NoError(t, err, algorithm)
		_, err = s.admit(c.name, token(algorithm, claims, func(b []byte) []byte { x := c.sign(b); x[7] ^= 1; return x }))
		assert.Error(t, err, algorithm)
		_, err = s.admit(c.name, token("HS256", claims, mac("")))
		assert.Error(t, err, "a public key is no secret")
	}
	_, err = s.admit("nobody", token("ES256", map[string]any{"sub": "nobody", "exp": time.Now().Unix() + 60}, mac("")))
	assert.ErrorContains(t, err, "there is no key of nobody")
}

// Devices that speak HTTP fetch what they are asked, each its own, once.
func TestAsks(t *testing.T) {
	s := start(t, Config{Token: "platform-1", OAuthSecret: "secret-1"})
	url := "http://" + s.HTTPAddr
	code, body := do(t, "POST", url+"/token", "grant_type=client_credentials&client_id=gauge-1&client_secret=secret-1",
		"Content-Type", "application/x-www-form-urlencoded")
	require.Equal(t, 200, code)
	var grant struct {
		AccessToken string `json:"access_token"`
		ExpiresIn   int    `json:"expires_in"`
	}
	require.NoError(t, json.Unmarshal([]byte(body), &grant))
	assert.Equal(t, 3600, grant.ExpiresIn)
	for form, want := range map[string]string{
		"grant_type=client_credentials&client_id=gauge-1&client_secret=wrong": `401 {"error":"invalid_client"}`,
		"grant_type=password&client_id=gauge-1&client_secret=secret-1":        `400 {"error":"unsupported_grant_type"}`,
	} {
		code, body := do(t, "POST", url+"/token", form, "Content-Type", "application/x-www-form-urlencoded")
		assert.Equal(t, want, fmt.Sprintf("%d %s", code, body[:len(body)-1]))
	}
	own := []string{"Authorization", "Bearer " + grant.AccessToken}
	for method, target := range map[string]string{"GET": "/commands/gauge-1", "POST": "/in/harbour/gauge-1/level"} {
		code, _ = do(t, method, url+target, "{}")
		assert.Equal(t, 401, code)
		code, _ = do(t, method, url+target, "{}", own...)
		assert.Contains(t, []int{202, 204}, code)
	}
	for i := range 2 {
		code, _ = do(t, "POST", url+"/commands/gauge-1", fmt.Sprintf(`{"n":%d}`, i), "Authorization", "Bearer platform-1")
		assert.Equal(t, 202, code)
	}
	code, _ = do(t, "POST", url+"/commands/gauge-1", `no`, own...)
	assert.Equal(t, 400, code)
	_, body = do(t, "GET", url+"/commands/gauge-1", "", own...)
	assert.JSONEq(t, `{"commands":[{"n":0},{"n":1}]}`, body)
	code, _ = do(t, "GET", url+"/commands/gauge-1", "", own...)
	assert.Equal(t, 204, code)
	do(t, "POST", url+"/answers/gauge-1", `{"ok":true}`, own...)
	_, body = do(t, "GET", url+"/answers/gauge-1", "", own...)
	assert.JSONEq(t, `{"answers":[{"ok":true}]}`, body)
}

// A token is taken for a user name only where the stand-in was told so.
func TestTokenAsUser(t *testing.T) {
	for _, told := range []bool{false, true} {
		s := start(t, Config{Token: "platform-1", TokenAsUser: told})
		h := &hook{s: s}
		cl := s.broker.NewClient(nil, "test", "buoy-1", true)
		pk := packets.Packet{Connect: packets.ConnectParams{ClientIdentifier: "buoy-1", Username: []byte("platform-1")}}
		assert.Equal(t, told, h.OnConnectAuthenticate(cl, pk))
	}
}
