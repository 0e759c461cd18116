package payload_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// plainOf makes the form of a template with placeholders in braces; one that begins with a slash is
// in an address.
func plainOf(template string, mark int, types map[string]signal.Type) (*payload.Plain, []payload.Part, error) {
	var parts []payload.Part
	var sources []string
	for template != "" {
		literal, rest, found := strings.Cut(template, "{")
		if literal != "" {
			parts = append(parts, payload.Part{Literal: literal, Placeholder: -1})
		}
		if !found {
			break
		}
		name, after, _ := strings.Cut(rest, "}")
		parts = append(parts, payload.Part{Placeholder: len(sources)})
		sources = append(sources, name)
		template = after
	}
	inAddress := len(parts) > 0 && strings.HasPrefix(parts[0].Literal, "/")
	p, err := payload.NewPlain(parts, sources, types, mark, inAddress, func(s *payload.Sample, i int) (signal.Value, error) { return s.Values[i], nil })
	return p, parts, err
}

// A plain text is made of values as people read them, and read back to them.
func TestPlainTexts(t *testing.T) {
	for template, c := range map[string]struct {
		mark   int
		values []signal.Value
		body   string
		read   map[string]any
		marked any
	}{
		"{t}":            {-1, []signal.Value{signal.OfFloat(21.5).WithDigits(2)}, "21.50", map[string]any{"t": json.Number("21.50")}, nil},
		"{on}":           {-1, []signal.Value{signal.OfText("on")}, "on", map[string]any{"on": "on"}, nil},
		"{ok}":           {-1, []signal.Value{signal.OfBool(true)}, "true", map[string]any{"ok": true}, nil},
		"{none}":         {-1, []signal.Value{signal.NoValue()}, "", map[string]any{}, nil},
		"T={t};L={l} °C": {-1, []signal.Value{signal.OfInt(-4), signal.OfText("a;b")}, "T=-4;L=a;b °C", map[string]any{"t": json.Number("-4"), "l": "a;b"}, nil},
		"/{m}/{t}?u={u}": {0, []signal.Value{signal.OfText("r/d/s/1"), signal.OfInt(7), signal.OfText("a/b ?&+é%")}, "/r%2Fd%2Fs%2F1/7?u=a%2Fb%20%3F%26%2B%C3%A9%25",
			map[string]any{"t": json.Number("7"), "u": "a/b ?&+é%"}, "r/d/s/1"},
		"{m} {t}":         {0, []signal.Value{signal.OfText("r/d/s/1"), signal.OfInt(7)}, "r/d/s/1 7", map[string]any{"t": json.Number("7")}, "r/d/s/1"},
		"a(b)+[{t}]\n{u}": {-1, []signal.Value{signal.OfInt(1), signal.OfInt(2)}, "a(b)+[1]\n2", map[string]any{"t": json.Number("1"), "u": json.Number("2")}, nil},
	} {
		p, parts, err := plainOf(template, c.mark, nil)
		require.NoError(t, err, template)
		assert.True(t, payload.IsPlain(parts), template)
		body, err := p.Append(nil, []payload.Sample{{Values: c.values}})
		require.NoError(t, err)
		assert.Equal(t, c.body, string(body))
		found, err := p.Read(body)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Equal(t, c.read, found[0].Values, template)
		assert.Equal(t, c.marked, found[0].Mark, template)
	}
	p, _, err := plainOf("T={t}", -1, map[string]signal.Type{"t": signal.Text})
	require.NoError(t, err)
	found, err := p.Read([]byte("T=12"))
	require.NoError(t, err)
	assert.Equal(t, "12", found[0].Values["t"], "a text stays one")
	assert.Equal(t, "t", p.Path("t"))
	assert.Empty(t, p.Path("u"))
	for _, other := range []string{"", "t=1", "T", " T=1"} {
		_, err := p.Read([]byte(other))
		assert.Error(t, err, other)
	}
	for template, why := range map[string]string{"{a}{b}": "something must stand between", "{a} {a}": "can stand once", "abc": "is always the same"} {
		_, _, err := plainOf(template, -1, nil)
		assert.ErrorContains(t, err, why, template)
	}
	for _, text := range []string{` {"a": 1}`, "[1]", ""} {
		assert.False(t, payload.IsPlain([]payload.Part{{Literal: text, Placeholder: -1}}), text)
	}
}

// Whatever two plain texts are, they read alike only where they are alike.
func FuzzPlain(f *testing.F) {
	f.Add("21.5", "on", "T=21.5;L=on", "T=21.5;L=off")
	f.Fuzz(func(t *testing.T, one, two, first, second string) {
		p, _, err := plainOf("T={t};L={l}", -1, map[string]signal.Type{"t": signal.Text, "l": signal.Text})
		require.NoError(t, err)
		body, err := p.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfText(one), signal.OfText(two)}}})
		require.NoError(t, err)
		_, err = p.Read(body)
		require.NoError(t, err)
		a, errA := p.Read([]byte(first))
		b, errB := p.Read([]byte(second))
		if errA == nil && errB == nil && first != second {
			require.NotEqual(t, a, b)
		}
	})
}
