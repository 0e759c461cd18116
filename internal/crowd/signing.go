package crowd

import (
	"maps"
	"slices"
	"strings"

	"runcrowd/internal/formula"
)

// RequestName is what texts call the request that is about to be sent.
const RequestName = "request"

// Signing is what of each request of a link is computed from the request itself. Its texts know
// the request and the steps, which stand in the order in which they are computed.
type Signing struct {
	Steps   []Header // values with a name
	Headers []Header
	Query   []Header // parameters that are added to the address
}

// Env adds what such texts know to what others do.
func (s *Signing) Env(env formula.Env) formula.Env {
	env = maps.Clone(env)
	env[RequestName] = formula.Request{}
	for _, step := range s.Steps {
		env[step.Name] = ""
	}
	return env
}

// Uses tells whether a text knows the request, or a step.
func (s *Signing) Uses(t *formula.Text) bool {
	return slices.ContainsFunc(t.Names(), func(n string) bool {
		return n == RequestName || slices.ContainsFunc(s.Steps, func(step Header) bool { return step.Name == n })
	})
}

// Secret are the names of a cast's secrets, and of the steps that are computed from one.
func (s *Signing) Secret(c *Cast) map[string]bool {
	secret := maps.Clone(c.Secrets)
	if secret == nil {
		secret = map[string]bool{}
	}
	secret[TokenName] = true
	for _, step := range s.Steps {
		if slices.ContainsFunc(step.Value.Names(), func(n string) bool { return secret[n] }) {
			secret[step.Name] = true
		}
	}
	return secret
}

// ShowsSecret tells whether a header or a parameter shows who a device is.
func ShowsSecret(h *Header, secret map[string]bool) bool {
	return slices.ContainsFunc(h.Value.Names(), func(n string) bool { return secret[n] }) ||
		strings.EqualFold(h.Name, "Authorization") || strings.EqualFold(h.Name, "Cookie")
}
