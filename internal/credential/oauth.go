package credential

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"runcrowd/internal/link"
)

// Grant asks an authorization server for tokens by client credentials (RFC 6749,
// section 4.4).
type Grant struct {
	URL      string // of the token endpoint
	ID       string
	Secret   string
	Scopes   []string
	Params   url.Values // beside the standard's
	InBody   bool       // credentials in the body, not in a header (section 2.3.1)
	Client   *http.Client
	Redacted func(string) string // takes secrets out of what the server says
}

// Make is a Maker.
func (g *Grant) Make(ctx context.Context, _ time.Time) (string, time.Time, error) {
	style := oauth2.AuthStyleInHeader
	if g.InBody {
		style = oauth2.AuthStyleInParams
	}
	cfg := clientcredentials.Config{ClientID: g.ID, ClientSecret: g.Secret, TokenURL: g.URL, Scopes: g.Scopes,
		EndpointParams: g.Params, AuthStyle: style}
	t, err := cfg.Token(context.WithValue(ctx, oauth2.HTTPClient, g.Client))
	if err != nil {
		return "", time.Time{}, g.explain(err)
	}
	// The library reckons it from expires_in and our clock: the server's may be another.
	return t.AccessToken, t.Expiry, nil
}

func (g *Grant) explain(err error) error {
	e := &link.TokenError{}
	var answer *oauth2.RetrieveError
	if errors.As(err, &answer) {
		e.What = fmt.Sprintf("no access token: %s answered %s%s", g.URL, link.Status(answer.Response), link.Snippet(answer.Body))
		switch {
		case answer.ErrorCode == "invalid_client", answer.Response.StatusCode == http.StatusUnauthorized:
			e.Try = "check client_id and client_secret, and whether the server wants them in the body: credentials_in: body"
		case answer.ErrorCode == "invalid_scope":
			e.Try = "check scope"
		case answer.Response.StatusCode == http.StatusNotFound, answer.Response.StatusCode == http.StatusMethodNotAllowed:
			e.Try = "check the address of the token endpoint"
		default:
			e.Try = "check url, scope and params of the link's access_token"
		}
	} else {
		u, parseErr := url.Parse(g.URL)
		if parseErr != nil {
			u = &url.URL{}
		}
		what, try := link.Explain(err, u.Host)
		e.What, e.Try = fmt.Sprintf("no access token from %s: %s", g.URL, what), try
	}
	if g.Redacted != nil {
		e.What = g.Redacted(e.What)
	}
	return e
}
