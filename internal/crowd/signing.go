package crowd

import (
	"fmt"
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

// Secret are the names of secrets, and of the steps that are computed from one.
func (s *Signing) Secret(names map[string]bool) map[string]bool {
	secret := maps.Clone(names)
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

// Computing computes what depends on a request. Its fields are set before the first call.
type Computing struct {
	Machine *formula.Machine
	Secret  map[string]bool // names whose values are secrets
	// Secrets are the values that were computed from one.
	Secrets []string
}

// Expand fills in a header, a parameter or a step. The error names it.
func (c *Computing) Expand(h *Header, env formula.Env) (string, error) {
	var failed error
	var b strings.Builder
	h.Value.Walk(func(literal string, f *formula.Formula) {
		b.WriteString(literal)
		if f == nil || failed != nil {
			return
		}
		x, err := f.Any(c.Machine, env)
		if err == nil && x == nil {
			err = fmt.Errorf("the placeholder ${%s} gives nothing", f.Source())
		}
		if failed = err; err != nil {
			return
		}
		v := formula.String(x)
		if slices.ContainsFunc(f.Names(), func(n string) bool { return c.Secret[n] }) {
			c.Secrets = append(c.Secrets, v)
		}
		b.WriteString(v)
	})
	if failed != nil {
		return "", fmt.Errorf("%s: %w", h.Name, failed)
	}
	return b.String(), nil
}

// Known are the values of the request and of the steps, of what is known besides.
func (s *Signing) Known(c *Computing, r formula.Request, env formula.Env) (known formula.Env, err error) {
	known = formula.Env{RequestName: r}
	env = maps.Clone(env)
	maps.Copy(env, known)
	for i := range s.Steps {
		v, err := c.Expand(&s.Steps[i], env)
		if err != nil {
			return nil, err
		}
		env[s.Steps[i].Name], known[s.Steps[i].Name] = v, v
	}
	return known, nil
}
