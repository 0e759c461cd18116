package fleet_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/link"
)

const signing = `
crowd: harbour
links:
  shore:
    http: http://127.0.0.1:8080
    query: {site: outer, sig: "${sum}"}
    signing: {sum: "${bytes_hex(hmac('sha256', key, all))}", key: "${env.PASS + device}", all: "${request.method} ${request.path} ${request.body}"}
    headers: {Authorization: "H1 ${device} ${sum}", X-At: "${date(request.time, 'hh:mm')}", X-Plain: plain}
kinds:
  gauge:
    link: shore
    readings: {level: {every: 1s, path: /in, headers: {X-Of: "${reading} ${length(request.body)}"}, fields: {a: 1}}}
    commands: {set: {path: /commands, every: 1s, reply: {path: /answers, headers: {X-Did: "${ask.x} ${sum}"}}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 1s}
`

func headersOf(list []link.Header) string {
	var b strings.Builder
	for _, h := range list {
		b.WriteString(h.Name + ": " + h.Value + "\n")
	}
	return b.String()
}

// What is computed for a request depends on all of it and on whose credentials are shown, and
// what is made of a secret is told as one.
func TestSigner(t *testing.T) {
	f := build(t, signing)
	d := f.Devices[0]
	request := link.ToSign{Method: "POST", Host: "h", Path: "/in", Body: []byte("abc"), Time: time.Unix(1900000000, 0)}
	sign := func(s link.Signer) (*link.Signature, string) {
		x, err := s.Sign(&request)
		require.NoError(t, err)
		return x, headersOf(x.Headers) + headersOf(x.Query)
	}
	right, text := sign(d.Streams[0].Signer)
	sum := right.Query[1].Value
	assert.Len(t, sum, 64)
	assert.Equal(t, "Authorization: H1 gauge-1 "+sum+"\nX-At: 17:46\nX-Of: level 3\nsite: outer\nsig: "+sum+"\n", text)
	assert.Contains(t, right.Secrets, sum)
	assert.Contains(t, right.Secrets, "pass-wordgauge-1", "the key of a step")
	assert.NotContains(t, right.Secrets, "17:46")
	assert.Equal(t, []string{"plain"}, d.Streams[0].Values, "what needs no request is the same for all")
	_, other := sign(f.Devices[1].Streams[0].Signer)
	assert.NotEqual(t, text, other)

	for how, want := range map[crowd.Credential]string{crowd.NoCredential: "X-At: 17:46\nX-Of: level 3\nsite: outer\n",
		crowd.AnothersCredential: other} {
		v, err := f.Variant(d, how)
		require.NoError(t, err)
		_, got := sign(v.Signers[0])
		assert.Equal(t, want, got)
	}
	v, err := f.Variant(d, crowd.WrongCredential)
	require.NoError(t, err)
	_, got := sign(v.Signers[0])
	assert.NotContains(t, got, sum)
	assert.Regexp(t, `^Authorization: H1 gauge-1 [0-9a-f]{64}\nX-At`, got)
	_, again := sign(d.Streams[0].Signer)
	assert.Equal(t, text, again, "the device keeps its own")
	_, err = f.Variant(d, crowd.ExpiredCredential)
	assert.ErrorContains(t, err, "no access_token")

	answer := f.Signer(d, d.Commands[0].Answer, map[string]any{"ask": map[string]any{"x": 7}})
	_, text = sign(answer)
	assert.Contains(t, text, "X-Did: 7 "+sum)
	_, text = sign(d.Asks[0].Signer)
	assert.NotContains(t, text, "X-Of")
	assert.Contains(t, text, sum)
}

// A key that stands in the file itself is in no name: its signature is falsified as it is.
func TestAKeyInTheFile(t *testing.T) {
	f := build(t, strings.Replace(signing, "env.PASS + device", "'a-key-in-the-file'", 1))
	d := f.Devices[0]
	v, err := f.Variant(d, crowd.WrongCredential)
	require.NoError(t, err)
	request := &link.ToSign{Method: "POST", Path: "/in", Time: time.Unix(1900000000, 0)}
	right, err := d.Streams[0].Signer.Sign(request)
	require.NoError(t, err)
	wrong, err := v.Signers[0].Sign(request)
	require.NoError(t, err)
	assert.NotEqual(t, right.Headers[0], wrong.Headers[0])
	assert.Equal(t, right.Headers[1:], wrong.Headers[1:])
}

// Behind a gateway it is the gateway whose credentials are shown.
func TestSigningThroughAGateway(t *testing.T) {
	text := strings.Replace(signing, "kinds:\n", "kinds:\n  port: {link: shore, readings: {up: {every: 1s, path: /up, fields: {a: 1}}}}\n", 1)
	text = strings.Replace(text, "  gauge:\n", "  gauge:\n    presence: {through: port}\n", 1)
	text = strings.Replace(text, "devices: [", "devices: [{kind: port, count: 1, name: port}, ", 1)
	f := build(t, text)
	request := &link.ToSign{Method: "POST", Path: "/in", Body: []byte("abc"), Time: time.Unix(1900000000, 0)}
	own, err := f.Devices[0].Streams[0].Signer.Sign(request)
	require.NoError(t, err)
	through, err := f.Devices[1].Streams[0].Signer.Sign(request)
	require.NoError(t, err)
	assert.Equal(t, own.Headers[0], through.Headers[0])
	assert.Equal(t, "level 3", through.Headers[2].Value)
}

// What cannot be computed is told with its name.
func TestSigningThatFails(t *testing.T) {
	f := build(t, strings.Replace(signing, "${env.PASS + device}", "${unbase64(request.body)}", 1))
	_, err := f.Devices[0].Streams[0].Signer.Sign(&link.ToSign{Body: []byte("%")})
	assert.EqualError(t, err, "key: the formula unbase64(request.body): unbase64: this is not base64 (RFC 4648)")
	for text, want := range map[string]string{
		strings.Replace(signing, "${env.PASS + device}", "${sum}", 1):                     `signing: "sum" depends on itself`,
		strings.Replace(signing, `key: "${env`, `device: "${env`, 1):                      `signing: "device" is the name of something else already`,
		strings.Replace(signing, `all: "${request`, `hmac: "${request`, 1):                `signing: "hmac" is the name of something else already`,
		strings.Replace(signing, `all: "${request`, `Text: "${request`, 1):                `signing: "Text" cannot be used in a formula`,
		strings.Replace(signing, "request.method}", "request.verb}", 1):                   `a request has no part "verb"`,
		strings.Replace(signing, "path: /in,", "path: \"/in/${sum}\",", 1):                `"sum" is not known here`,
		strings.Replace(signing, "http: http:", "mqtt: mqtt:", 1):                         `"signing" is not for MQTT links`,
		strings.Replace(signing, "fields: {a: 1}", "fields: {a: \"${request.path}\"}", 1): `"request" is not known here`,
	} {
		_, err := file.Parse("harbour.yaml", []byte(text), file.Sources{Getenv: func(string) (string, bool) { return "pass-word", true }})
		assert.ErrorContains(t, err, want)
	}
}
