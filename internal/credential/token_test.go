package credential_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/link"
)

var start = time.Unix(1_900_000_000, 0)

func never() float64 { return 0 }

// A token is kept until it is to be renewed; while it cannot be renewed, it is used as
// long as it is good.
func TestRenewal(t *testing.T) {
	now, n, asleep := start, 0, false
	p := credential.NewToken(func(_ context.Context, at time.Time) (string, time.Time, error) {
		if asleep {
			return "", time.Time{}, errors.New("asleep")
		}
		n++
		return fmt.Sprint("t", n), at.Add(time.Hour), nil
	}, 0, credential.By{Now: func() time.Time { return now }, Chance: never})
	at := func(after time.Duration) string {
		now = start.Add(after)
		token, renew, err := p.Token(t.Context())
		if err != nil {
			return err.Error()
		}
		assert.True(t, renew.After(now))
		return token + " until " + renew.Sub(start).String()
	}
	assert.Equal(t, "t1 until 54m0s", at(0))
	assert.Equal(t, "t1 until 54m0s", at(53*time.Minute))
	assert.Equal(t, "t2 until 1h48m0s", at(54*time.Minute))
	asleep = true
	assert.Equal(t, "t2 until 1h50m5s", at(110*time.Minute), "good for four more minutes")
	assert.Equal(t, "asleep", at(115*time.Minute))
	asleep = false
	assert.Equal(t, "t3 until 2h50m0s", at(116*time.Minute))
}

func TestRenewalAhead(t *testing.T) {
	for ahead, want := range map[time.Duration]time.Duration{0: 9 * time.Second, 3 * time.Second: 7 * time.Second,
		time.Minute: 9 * time.Second} {
		for chance, earlier := range map[float64]time.Duration{0: 0, 0.5: time.Second / 2} {
			p := credential.NewToken(func(_ context.Context, at time.Time) (string, time.Time, error) {
				return "t", at.Add(10 * time.Second), nil
			}, ahead, credential.By{Now: func() time.Time { return start }, Chance: func() float64 { return chance }})
			_, renew, err := p.Token(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want-earlier, renew.Sub(start), ahead)
		}
	}
	ever := credential.NewToken(func(context.Context,
		time.Time) (string, time.Time, error) {
		return "t", time.Time{}, nil
	}, 0, credential.By{})
	_, renew, err := ever.Token(t.Context())
	require.NoError(t, err)
	assert.Zero(t, renew)
}

// What is signed holds with the other half of the key, as a verifier of the standard's
// sees it.
func TestSignatures(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	curves := map[string]elliptic.Curve{"ES256": elliptic.P256(), "ES384": elliptic.P384(), "ES512": elliptic.P521()}
	for _, algorithm := range credential.Algorithms {
		var key, public any = []byte("a shared secret"), []byte("a shared secret")
		if !credential.Symmetric(algorithm) {
			var pkcs8 any
			switch algorithm[:2] {
			case "ES":
				k, err := ecdsa.GenerateKey(curves[algorithm], rand.Reader)
				require.NoError(t, err)
				pkcs8, public = k, &k.PublicKey
			case "Ed":
				pkcs8, public = edKey, edKey.Public()
			default:
				pkcs8, public = rsaKey, &rsaKey.PublicKey
			}
			der, err := x509.MarshalPKCS8PrivateKey(pkcs8)
			require.NoError(t, err)
			key, err = credential.PrivateKey(algorithm, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
			require.NoError(t, err, algorithm)
		}
		claims := credential.Complete(map[string]any{"sub": "buoy-1", "nbf": nil}, start, start.Add(time.Hour))
		token, err := credential.Sign(algorithm, key, map[string]any{"kid": "k1"}, claims)
		require.NoError(t, err, algorithm)
		got, err := jwt.Parse(token, func(*jwt.Token) (any, error) { return public, nil },
			jwt.WithValidMethods([]string{algorithm}), jwt.WithTimeFunc(func() time.Time { return start }))
		require.NoError(t, err, algorithm)
		assert.Equal(t, jwt.MapClaims{"sub": "buoy-1", "iat": 1.9e9, "exp": 1.9e9 + 3600}, got.Claims)
		assert.Equal(t, "k1", got.Header["kid"])
	}
}

func TestKeysThatDoNotFit(t *testing.T) {
	k, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	for algorithm, want := range map[string]string{"ES256": "ES256 cannot sign with this key", "RS256": "it is not an " +
		"RSA key in PEM, which RS256 wants", "EdDSA": "it is not an Ed25519 key in PEM, which EdDSA wants"} {
		_, err := credential.PrivateKey(algorithm, text)
		assert.ErrorContains(t, err, want)
	}
	_, err = credential.Sign("none", nil, nil, nil)
	assert.Error(t, err, "a token without a signature proves nothing")
}

func TestGrant(t *testing.T) {
	answer, status := `{"access_token":"abc","token_type":"bearer","expires_in":60}`, 200
	var asked string
	p := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		id, secret, _ := r.BasicAuth()
		asked = id + ":" + secret + " " + r.PostForm.Encode()
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		w.Write([]byte(answer))
	}))
	defer p.Close()
	g := &credential.Grant{URL: p.URL, ID: "me", Secret: "s3cret", Scopes: []string{"read", "write"},
		Params: url.Values{"audience": {"harbour"}}, Client: p.Client(),
		Redacted: func(s string) string { return strings.ReplaceAll(s, "s3cret", "…") }}
	token, until, err := g.Make(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Equal(t, "abc", token)
	assert.InDelta(t, 60, time.Until(until).Seconds(), 5)
	assert.Equal(t, "me:s3cret audience=harbour&grant_type=client_credentials&scope=read+write", asked)
	g.InBody = true
	_, _, err = g.Make(t.Context(), time.Now())
	require.NoError(t, err)
	assert.Equal(t, ": audience=harbour&client_id=me&client_secret=s3cret&grant_type=client_credentials&scope=read+write",
		asked)
	for _, c := range []struct {
		status            int
		answer, what, try string
	}{
		{401, `{"error":"invalid_client","hint":"s3cret"}`,
			`answered 401 Unauthorized: “{"error":"invalid_client","hint":"…"}”`, "check " +
				"client_id and client_secret, and whether the server wants them in the body: credentials_in: body"},
		{400, `{"error":"invalid_scope"}`, `answered 400 Bad Request: “{"error":"invalid_scope"}”`, "check scope"},
		{404, `no`, `answered 404 Not Found: “no”`, "check the address of the token endpoint"},
		{500, ``, `answered 500 Internal Server Error`, "check url, scope and params of the link's access_token"},
	} {
		status, answer = c.status, c.answer
		_, _, err := g.Make(t.Context(), time.Now())
		var e *link.TokenError
		require.True(t, errors.As(err, &e), "%v", err)
		assert.Equal(t, "no access token: "+p.URL+" "+c.what, e.What)
		assert.Equal(t, c.try, e.Try)
	}
	p.Close()
	_, _, err = g.Make(t.Context(), time.Now())
	assert.ErrorContains(t, err, "no access token from "+p.URL+": the connection was refused: nothing listens there")
}

// While one makes a token, the others go on with the one that is still good; without
// one they wait, and share what comes of it.
func TestOneMakesForAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		release := make(chan error)
		n := 0
		p := credential.NewToken(func(context.Context, time.Time) (string, time.Time, error) {
			if err := <-release; err != nil {
				return "", time.Time{}, err
			}
			n++
			return fmt.Sprint("token-", n), time.Now().Add(time.Hour), nil
		}, time.Minute, credential.By{Chance: never})
		ask := func() chan string {
			out := make(chan string, 1)
			go func() {
				token, _, err := p.Token(context.Background())
				if err != nil {
					token = err.Error()
				}
				out <- token
			}()
			synctest.Wait()
			return out
		}
		a, b := ask(), ask()
		release <- errors.New("gone")
		assert.Equal(t, "gone gone", <-a+" "+<-b)
		a, b = ask(), ask()
		release <- nil
		assert.Equal(t, "token-1 token-1", <-a+" "+<-b)
		time.Sleep(59*time.Minute + 30*time.Second)
		a = ask()
		assert.Equal(t, "token-1", <-ask(), "it is still good, and nobody waits")
		release <- nil
		assert.Equal(t, "token-2", <-a)
		assert.Equal(t, "token-2", <-ask())
	})
}
