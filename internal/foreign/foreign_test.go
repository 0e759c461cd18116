package foreign_test

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/foreign"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"quota exceeded":                    "quota exceeded",
		"größer als 5 µs, 日本":               "größer als 5 µs, 日本",
		"no\nPROVEN  all 4 messages":        `no\nPROVEN  all 4 messages`,
		"a\r\n\tb":                          `a\r\n\tb`,
		"\x1b[32mPROVEN\x1b[0m":             `\u001b[32mPROVEN\u001b[0m`,
		"\u009b31m":                         `\u009b31m`,
		"abc\u202edcba":                     `abc\u202edcba`,
		"a\u2028b\u2029c\ufeffd":            `a\u2028b\u2029c\ufeffd`,
		"\xff\x80":                          `\xff\x80`,
		"\U000e0001":                        "\U000e0001",
		strings.Repeat("é", 400):            strings.Repeat("é", 300) + "…",
		strings.Repeat("a", foreign.Most):   strings.Repeat("a", foreign.Most),
		strings.Repeat("a", foreign.Most*2): strings.Repeat("a", foreign.Most) + "…",
	} {
		assert.Equal(t, want, foreign.Line(in, foreign.Most))
	}
	assert.Equal(t, strings.Repeat("a", 999), foreign.Line(strings.Repeat("a", 999), 0))
	assert.Equal(t, `“all "well" "x"”`, foreign.Quote(" all\n \"well\" “x” "))
	assert.Equal(t, `: “x”`, foreign.Said("x"))
	assert.Empty(t, foreign.Said(" \n"))
}

func TestJSONAndCells(t *testing.T) {
	for _, s := range []string{"plain µ", "\u202e\u0085", "\U000e0001", "a\nb\t", `quote " and \ too`} {
		text, err := json.Marshal(s)
		require.NoError(t, err)
		safe := foreign.JSON(text)
		var back string
		require.NoError(t, json.Unmarshal(safe, &back))
		assert.Equal(t, s, back, "it means the same")
		assert.Equal(t, string(safe), foreign.Line(string(safe), 0), "and is harmless")
	}
	for in, want := range map[string]string{"": "", "-3.5": "-3.5", "+1e3": "+1e3", "=1+1": "'=1+1", "@SUM(A1)": "'@SUM(A1)",
		"-cmd": "'-cmd", "a=b": "a=b", "+": "'+", "\t=1": `\t=1`, "a\nb": `a\nb`} {
		assert.Equal(t, want, foreign.Cell(in))
	}
}

// Whatever comes in, one harmless line comes out.
func FuzzLine(f *testing.F) {
	for _, s := range []string{"", "a\nb", "\x1b[31m", "\u202e", "\xff", strings.Repeat("\n", 400), "\U000e0001\u0085"} {
		f.Add(s, 300)
	}
	f.Fuzz(func(t *testing.T, s string, most int) {
		for _, out := range []string{foreign.Line(s, most), foreign.Quote(s)} {
			if !utf8.ValidString(out) {
				t.Fatalf("%q is no text", out)
			}
			for _, r := range out {
				if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029' {
					t.Fatalf("%q holds %q", out, r)
				}
			}
			if again := foreign.Line(out, 0); again != out {
				t.Fatalf("%q becomes %q", out, again)
			}
		}
		if most > 0 && utf8.RuneCountInString(foreign.Line(s, most)) > 10*most+1 {
			t.Fatal("it is too long")
		}
		if q := foreign.Quote(s); strings.Count(q, "“") != 1 || strings.Count(q, "”") != 1 {
			t.Fatalf("%s is not between quotes", q)
		}
	})
}
