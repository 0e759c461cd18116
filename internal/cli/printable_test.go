package cli

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{
		"plain\n\ttext":                "plain\n\ttext",
		"grün … 海\n":                   "grün … 海\n",
		"\x1b[31;1mNOT PROVEN\x1b[0m":  "\x1b[31;1mNOT PROVEN\x1b[0m",
		"a\x1b[2Jb":                    `a\u001b[2Jb`,
		"a\x1b[8mb\x1b]0;title\a":      `a\u001b[8mb\u001b]0;title\u0007`,
		"a\x1b[31;8mb":                 `a\u001b[31;8mb`,
		"over\rwritten\b":              `over\u000dwritten\u0008`,
		"\u009b2J \u202eturned\ufeff.": `\u009b2J \u202eturned\ufeff.`,
		"no UTF-8 \xff\x9b":            `no UTF-8 \xff\x9b`,
	} {
		var b bytes.Buffer
		n, err := (&printer{w: &b, colored: func() bool { return true }}).Write([]byte(in))
		require.NoError(t, err)
		assert.Equal(t, len(in), n)
		assert.Equal(t, want, b.String())
		assert.NotContains(t, string(printableBytes([]byte(in), false)), "\x1b")
	}
	doc, err := json.Marshal("\u009b\u202e\x7f")
	require.NoError(t, err)
	assert.JSONEq(t, string(doc), string(printableBytes(doc, true)), "JSON says the same")
}

// A character may be cut where a text is written in parts.
func TestPartsOfCharacters(t *testing.T) {
	const text = "5 µs 日本 \U0001f30a \u202e"
	for cut := range len(text) {
		var b bytes.Buffer
		p := &printer{w: &b, colored: func() bool { return false }}
		for _, part := range []string{text[:cut], text[cut:]} {
			n, err := p.Write([]byte(part))
			require.NoError(t, err)
			assert.Equal(t, len(part), n)
		}
		p.end()
		assert.Equal(t, `5 µs 日本 `+"\U0001f30a"+` \u202e`, b.String(), cut)
	}
	var b bytes.Buffer
	p := &printer{w: &b, colored: func() bool { return false }}
	p.Write([]byte("a\xe6\x97"))
	p.end()
	assert.Equal(t, `a\xe6\x97`, b.String())
}
