package crowd

import (
	"time"

	"runcrowd/internal/formula"
)

// TokenName is what texts call the access token of a link.
const TokenName = "access_token"

// AccessToken says how devices come to their access tokens; its texts are compiled
// for the devices of a cast.
type AccessToken struct {
	Pos          Pos
	Valid, Renew time.Duration

	// Of these three there is one.
	JWT   *JWT
	Text  *formula.Text // composed of formulas
	OAuth *OAuth
}

// JWT is a JSON Web Token that is signed (RFC 7519).
type JWT struct {
	Algorithm      string
	Key            *formula.Text // name of a PEM file; nil: Secret is shared
	Secret         *formula.Text
	Header, Claims *formula.Text // JSON; nil: nothing beside the standard's
}

// OAuth is a token of an authorization server, by client credentials (RFC 6749,
// section 4.4).
type OAuth struct {
	URL, ClientID, ClientSecret *formula.Text
	Scopes                      []string
	Params                      []Header
	InBody                      bool // the credentials, not in a header (section 2.3.1)
}
