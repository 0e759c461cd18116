package crowd_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
)

// A secret is found however it is written: escaped, in JSON, in base64 alone or behind a
// user name, clipped.
func TestRedactInEveryForm(t *testing.T) {
	const secret = `p@ss "w0rd"/ü&<x>`
	c := &crowd.Crowd{}
	c.Secret(secret)
	c.Secret("shorter-one")
	c.Secret("shorter-one-and-longer")
	quoted, _ := json.Marshal(map[string]string{"said": secret})
	texts := []string{secret, "x" + secret + "y", url.QueryEscape(secret), url.PathEscape(secret), string(quoted),
		fmt.Sprintf("%+q", secret), fmt.Sprintf("%q", secret),
		"Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(secret))}
	for _, user := range []string{"u", "me", "you", "gauge-001"} {
		texts = append(texts, base64.StdEncoding.EncodeToString([]byte(user+":"+secret)),
			base64.URLEncoding.EncodeToString([]byte(user+":"+secret)))
	}
	for _, text := range texts {
		got := c.Redact(text)
		assert.Contains(t, got, "«secret»", text)
		for _, part := range []string{"w0rd", "ss%20", base64.StdEncoding.EncodeToString([]byte(secret))[4:16]} {
			assert.NotContains(t, got, part, text)
		}
	}
	assert.Equal(t, "the key «secret» is wrong", c.Redact("the key shorter-one-and-longer is wrong"), "the longest")
	assert.Equal(t, "the key «secret»… is wrong", c.Redact("the key shorter-one-and-l… is wrong"))
	assert.Equal(t, "status 401: no such key «secret»…", c.Redact("status 401: no such key p@ss \"w0…"))
	assert.Equal(t, "a text that was clip…", c.Redact("a text that was clip…"))
	assert.Equal(t, "sho", c.Redact("sho"))
	c.NotSecret("shorter-one")
	assert.Equal(t, "shorter-one", c.Redact("shorter-one"))
}

// What any function of formulas makes of a secret alone is masked, in capitals and small letters
// where it has hexadecimal digits; so is a secret that stands in a line of others' texts.
func TestRedactWhatFormulasMake(t *testing.T) {
	for _, secret := range []string{`p@ss "w0rd"/ü&<x> and`, "plain-secret-55", "DEADBEEFcafe", "a b/c?d=e&f", "tab\tand\nline  two"} {
		c := &crowd.Crowd{}
		c.Secret(secret)
		made := formula.Forms(secret)
		assert.Greater(t, len(made), 6)
		made = append(made, foreign.Quote("no such key "+secret+" here"), foreign.Line(secret, 0),
			strings.ToLower(url.QueryEscape(secret)), strings.ToUpper(fmt.Sprintf("%x", secret)))
		for _, text := range made {
			if len(text) < 8 { // a length, a check digit
				continue
			}
			got := c.Redact("x " + text + " y")
			assert.Contains(t, got, "«secret»", "%q of %q", text, secret)
			assert.LessOrEqual(t, len(got), len("x «secret» y")+len(`“no such key  here”`), "%q of %q leaves %q", text, secret, got)
		}
	}
}

// Secrets that come while others are looked for, as access tokens do, cost little each.
func BenchmarkRedactWithManySecrets(b *testing.B) {
	c := &crowd.Crowd{}
	for i := range 20_000 {
		c.Secret(fmt.Sprintf("token-of-device-%06d-%s", i*7919%20_000, strings.Repeat("x", 20)))
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		c.Secret(fmt.Sprintf("another-token-%d", i))
		c.Redact("the broker refused the connection: not authorized (0x87)")
	}
}
