package credential

import (
	"crypto"
	"fmt"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// Algorithms are the signatures of a JSON Web Token that can be made (RFC 7518,
// section 3.1; RFC 8037, section 3.1).
var Algorithms = []string{"HS256", "HS384", "HS512", "RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256",
	"ES384", "ES512", "EdDSA"}

// Symmetric tells whether an algorithm signs with a shared secret.
func Symmetric(algorithm string) bool { return strings.HasPrefix(algorithm, "HS") }

// PrivateKey reads the key for an algorithm from PEM: PKCS #8, PKCS #1 or SEC 1.
func PrivateKey(algorithm string, pem []byte) (crypto.PrivateKey, error) {
	var key crypto.PrivateKey
	var err error
	sort := "an Ed25519"
	switch algorithm[:2] {
	case "RS", "PS":
		sort = "an RSA"
		key, err = jwt.ParseRSAPrivateKeyFromPEM(pem)
	case "ES":
		sort = "an elliptic curve"
		key, err = jwt.ParseECPrivateKeyFromPEM(pem)
	default:
		key, err = jwt.ParseEdPrivateKeyFromPEM(pem)
	}
	if err != nil {
		return nil, fmt.Errorf("it is not %s key in PEM, which %s wants", sort, algorithm)
	}
	// A curve of the wrong size is told when the file is read, not in a run.
	if _, err := Sign(algorithm, key, nil, nil); err != nil {
		return nil, err
	}
	return key, nil
}

// Sign makes a JSON Web Token (RFC 7519) in its compact form. Key is the secret, as
// []byte, or what PrivateKey gave.
func Sign(algorithm string, key any, header, claims map[string]any) (string, error) {
	method := jwt.GetSigningMethod(algorithm)
	if method == nil {
		return "", fmt.Errorf("the algorithm %q is not known", algorithm)
	}
	t := jwt.NewWithClaims(method, jwt.MapClaims(claims))
	for k, v := range header {
		t.Header[k] = v
	}
	s, err := t.SignedString(key)
	if err != nil {
		return "", fmt.Errorf("%s cannot sign with this key: %w", algorithm, err)
	}
	return s, nil
}

// Complete adds the times that claims do not speak of (RFC 7519, sections 4.1.4 and
// 4.1.6), and takes out those that are null.
func Complete(claims map[string]any, issued, expiry time.Time) map[string]any {
	if _, has := claims["iat"]; !has {
		claims["iat"] = issued.Unix()
	}
	if _, has := claims["exp"]; !has {
		claims["exp"] = expiry.Unix()
	}
	for k, v := range claims {
		if v == nil {
			delete(claims, k)
		}
	}
	return claims
}
