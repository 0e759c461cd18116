package crowd

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"

	"runcrowd/internal/formula"
)

// Secret registers a value that must never be printed. Short values are left
// out: they would black out half of every text and protect nothing.
func (c *Crowd) Secret(value string) {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	if len(value) >= LeastSecret && value != Redacted && !c.secrets[value] {
		if c.secrets == nil {
			c.secrets = map[string]bool{}
		}
		c.secrets[value] = true
		c.redactor.add(value)
	}
}

// leastComputed is how long what is computed from a secret must be to be masked as one, in
// bytes: a choice that hangs on one is no secret. mostComputed bounds how many are kept: what is
// computed anew for each question has no end.
const (
	leastComputed = 8
	mostComputed  = 500_000
)

// bare is a placeholder that is a secret itself, and known.
var bare = regexp.MustCompile(`^\s*env\.\w+\s*$`)

// Computed makes secrets of what a text computes from secrets, but for what stands in the file.
// Secrets are the names whose values are some. It may be called from any goroutine.
func (c *Crowd) Computed(t *formula.Text, m *formula.Machine, env formula.Env, secrets map[string]bool) {
	uses := func(names []string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return secrets[n] })
	}
	if t == nil || !uses(t.Names()) {
		return
	}
	t.Walk(func(_ string, x *formula.Formula) {
		if x == nil || bare.MatchString(x.Source()) || !uses(x.Names()) {
			return
		}
		v, err := x.Any(m, env)
		if err != nil {
			return
		}
		s := formula.String(v)
		if len(s) < leastComputed || bytes.Contains(c.Source, []byte(s)) || c.known(s) || c.computed.Add(1) > mostComputed {
			return
		}
		c.Secret(s)
	})
}

// Shown says that a value is the host of an address: it is shown with it, and nothing makes it a
// secret again.
func (c *Crowd) Shown(value, address string) {
	whole := address
	if !strings.Contains(whole, "://") {
		whole = "//" + whole
	}
	if u, err := url.Parse(whole); err != nil || value != address && value != u.Hostname() {
		return
	}
	c.NotSecret(value)
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	if c.shown == nil {
		c.shown = map[string]bool{}
	}
	c.shown[value] = true
}

// known tells whether it is settled that a value is a secret, or is none.
func (c *Crowd) known(value string) bool {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	return c.secrets[value] || c.shown[value]
}

// Known are the names whose values are secrets of everybody: those of the environment.
var Known = map[string]bool{"env": true}

// NotSecret takes a value back that turned out to be an address.
func (c *Crowd) NotSecret(value string) {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	if c.secrets[value] {
		delete(c.secrets, value)
		c.redactor.only(c.listSecrets())
	}
}

// Secrets lists what must never be printed, the longest first: one secret may
// be a part of another.
func (c *Crowd) Secrets() []string {
	c.secretMu.Lock()
	defer c.secretMu.Unlock()
	return c.listSecrets()
}

func (c *Crowd) listSecrets() []string {
	list := make([]string, 0, len(c.secrets))
	for s := range c.secrets {
		list = append(list, s)
	}
	sort.Slice(list, func(i, j int) bool { return len(list[i]) > len(list[j]) })
	return list
}

// PlainSecrets are the places where a secret stands in the file in plain text.
func (c *Crowd) PlainSecrets() []Pos {
	var list []Pos
	for _, l := range c.literal {
		list = append(list, l.pos)
	}
	return list
}

// Redact takes all secrets out of a text: also escaped, in base64, and cut off where a text
// was clipped. It and Secret may be called from any goroutine.
func (c *Crowd) Redact(text string) string {
	return c.redactor.redact(text)
}

// Copy is the file for the run folder: secrets in plain text are taken out,
// references such as ${env.NAME} stay.
func (c *Crowd) Copy() []byte {
	lines := strings.Split(string(c.Source), "\n")
	for _, l := range c.literal {
		// A text in several lines is taken out line by line.
		for i := max(l.pos.Line-1, 0); i < len(lines); i++ {
			for _, part := range strings.Split(l.value, "\n") {
				if len(strings.TrimSpace(part)) > 0 {
					lines[i] = strings.ReplaceAll(lines[i], part, Redacted)
				}
			}
			if !strings.Contains(l.value, "\n") {
				break
			}
		}
	}
	return []byte(strings.Join(lines, "\n"))
}

// literal is a secret that stands in the file in plain text.
type literal struct {
	pos   Pos
	value string
}

// Redacted stands in a run folder's copy of the file where a secret stood.
const Redacted = "taken-out"

// Literal registers a secret that stands in the file in plain text.
func (c *Crowd) Literal(at Pos, value string) {
	c.Secret(value)
	if l := (literal{at, value}); !slices.Contains(c.literal, l) {
		c.literal = append(c.literal, l)
	}
}

// Digest identifies the file's text (SHA-256, hexadecimal).
func (c *Crowd) Digest() string {
	sum := sha256.Sum256(c.Source)
	return hex.EncodeToString(sum[:])
}
