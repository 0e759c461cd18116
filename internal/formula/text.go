package formula

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// String is how a value stands in a text: numbers shortest, times as RFC 3339
// in UTC, positions as "lat,lon".
func String(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case int:
		return strconv.Itoa(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case uint64:
		return strconv.FormatUint(x, 10)
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case time.Time:
		return x.UTC().Format(time.RFC3339Nano)
	case fmt.Stringer:
		return x.String()
	}
	var b strings.Builder
	e := json.NewEncoder(&b) // a list, an object, null
	e.SetEscapeHTML(false)
	if e.Encode(v) != nil {
		return fmt.Sprint(v)
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Text is a text with placeholders: literal parts and formulas in turn.
// "$${" stands for a literal "${".
type Text struct {
	source string
	parts  []part
}

type part struct {
	literal string
	formula *Formula
}

// others are the placeholders that other languages have, by their shape.
var others = regexp.MustCompile(`\{\{\s*\.?(\w+)\s*\}\}|\{(\w+)\}|\$(\w+)|<(\w+)>|%[sd]`)

// Foreign finds what stands in the literal parts of a text as a placeholder of another language,
// such as {device}, and what to write for it; empty: nothing does. Of known names and of names for
// a device it is told from other text.
func (t *Text) Foreign(env Env) (found, write string) {
	for _, p := range t.parts {
		m := others.FindStringSubmatch(p.literal)
		if m == nil {
			continue
		}
		name := strings.Join(m[1:], "")
		switch _, known := env[name]; {
		case known:
		case name == "" || strings.HasPrefix(m[0], "$"): // $SYS and $share are topics
			if name = "device"; m[1]+m[2]+m[3]+m[4] != "" {
				continue
			}
		default:
			name = Nearest(name, slices.Sorted(maps.Keys(env)))
			if id := strings.ToLower(strings.Join(m[1:], "")); name == "" && strings.Contains(id, "id") {
				name = "device"
			}
		}
		if name == "" {
			name = "device"
		}
		return m[0], "${" + name + "}"
	}
	return "", ""
}

// ParseText compiles a text. Error columns count from the text's first byte.
func ParseText(source string, env Env) (*Text, error) {
	t := &Text{source: source}
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			t.parts = append(t.parts, part{literal: literal.String()})
			literal.Reset()
		}
	}
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], "$${"):
			literal.WriteString("${")
			i += 3
		case strings.HasPrefix(source[i:], "${"):
			end := placeholderEnd(source, i+2)
			if end < 0 {
				return nil, &Error{i, "the placeholder ${ is never closed by }"}
			}
			f, err := Compile(source[i+2:end], env)
			if err != nil {
				var fe *Error
				if errors.As(err, &fe) {
					return nil, &Error{i + 2 + fe.Column, fe.Text}
				}
				return nil, err
			}
			flush()
			t.parts = append(t.parts, part{formula: f})
			i = end + 1
		default:
			literal.WriteByte(source[i])
			i++
		}
	}
	flush()
	return t, nil
}

// placeholderEnd finds the } that closes a placeholder, minding quotes and
// inner braces; -1 if there is none.
func placeholderEnd(s string, from int) int {
	depth := 0
	for i := from; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'', '`':
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' && c != '`' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}

// Source is the text as it was written.
func (t *Text) Source() string { return t.source }

// Single is the formula of a text that is one placeholder and nothing else, or nil.
func (t *Text) Single() *Formula {
	if len(t.parts) == 1 {
		return t.parts[0].formula
	}
	return nil
}

// Formula is a formula that gives the text with its placeholders filled in.
func (t *Text) Formula(env Env) (*Formula, error) {
	f, err := Compile(t.joined(), env)
	if err == nil {
		f.source = t.source
	}
	return f, err
}

// joined is the source of a formula that gives the text.
func (t *Text) joined() string {
	terms := make([]string, len(t.parts))
	for i, p := range t.parts {
		if p.formula != nil {
			terms[i] = "text(" + p.formula.source + ")"
		} else {
			terms[i] = strconv.Quote(p.literal)
		}
	}
	return strings.Join(terms, " + ")
}

// JSON is the source of a text that gives this one as JSON. One that is a single
// placeholder keeps the type of what that gives: "${n}" is a number.
func (t *Text) JSON() string {
	if f := t.Single(); f != nil {
		return "${json(" + f.source + ")}"
	}
	if !t.Fixed() {
		return "${json(" + t.joined() + ")}"
	}
	literal := ""
	for _, p := range t.parts {
		literal += p.literal
	}
	out, _ := json.Marshal(literal) // a text always marshals
	return strings.ReplaceAll(string(out), "${", "$${")
}

// Walk calls f for each part of the text in turn: a literal, or a placeholder's
// formula.
func (t *Text) Walk(f func(literal string, placeholder *Formula)) {
	for _, p := range t.parts {
		f(p.literal, p.formula)
	}
}

// Fixed tells whether the text has no placeholder.
func (t *Text) Fixed() bool {
	for _, p := range t.parts {
		if p.formula != nil {
			return false
		}
	}
	return true
}

// Names are the names used in any placeholder.
func (t *Text) Names() []string { return t.collect((*Formula).Names) }

// EnvNames are the environment variables read in any placeholder.
func (t *Text) EnvNames() []string { return t.collect((*Formula).EnvNames) }

func (t *Text) collect(get func(*Formula) []string) []string {
	set := map[string]int{}
	for _, p := range t.parts {
		if p.formula != nil {
			for _, n := range get(p.formula) {
				set[n]++
			}
		}
	}
	return sorted(set)
}

// Expand fills in the placeholders.
func (t *Text) Expand(m *Machine, env Env) (string, error) {
	if len(t.parts) == 1 && t.parts[0].formula == nil {
		return t.parts[0].literal, nil
	}
	var b strings.Builder
	for _, p := range t.parts {
		if p.formula == nil {
			b.WriteString(p.literal)
			continue
		}
		v, err := p.formula.Any(m, env)
		if err != nil {
			return "", err
		}
		if v == nil {
			return "", fmt.Errorf("the placeholder ${%s} gives nothing", p.formula.source)
		}
		b.WriteString(String(v))
		if b.Len() > maxText {
			return "", fmt.Errorf("the text is longer than %d bytes", maxText)
		}
	}
	return b.String(), nil
}
