package payload

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
)

// Plain is a text of the user's own with placeholders, such as "${temp}" or "T=${temp};H=${hum}":
// values stand in it as they are read by people, a text without quotes. It is read back by what
// stands between them.
type Plain struct {
	parts []Part
	names []string // of the placeholders: the field, or the formula
	types []signal.Type
	mark  int  // the placeholder of the mark; -1: it rides elsewhere
	url   bool // it is a part of an address: values are escaped
	shape *regexp.Regexp
	fill  func(sample *Sample, placeholder int) (signal.Value, error)
}

// IsPlain tells whether a template is a plain text, and no JSON: that begins with { or [.
func IsPlain(parts []Part) bool {
	for _, p := range parts {
		if p.Placeholder >= 0 {
			return true
		}
		if s := strings.TrimSpace(p.Literal); s != "" {
			return s[0] != '{' && s[0] != '['
		}
	}
	return false
}

// NewPlain makes the form; sources are the formulas of the placeholders, types what fields of
// these names give. With inAddress it is a part of an address (RFC 3986), and what is filled in is
// escaped.
func NewPlain(parts []Part, sources []string, types map[string]signal.Type, markAt int, inAddress bool,
	fill func(*Sample, int) (signal.Value, error)) (*Plain, error) {
	p := &Plain{parts: parts, mark: markAt, url: inAddress, fill: fill}
	var b strings.Builder
	b.WriteString(`(?s)\A`)
	seen := map[string]bool{}
	between := true
	for _, part := range parts {
		if part.Placeholder < 0 {
			b.WriteString(regexp.QuoteMeta(part.Literal))
			between = between || part.Literal != ""
			continue
		}
		if !between {
			return nil, fmt.Errorf("in a plain text something must stand between two placeholders, so that they can be told apart")
		}
		between = false
		name := sources[part.Placeholder]
		if seen[name] {
			return nil, fmt.Errorf("in a plain text ${%s} can stand once", name)
		}
		seen[name] = true
		p.names, p.types = append(p.names, name), append(p.types, types[name])
		b.WriteString(`(.*?)`)
	}
	if len(p.names) == 0 {
		return nil, fmt.Errorf("a plain text without a placeholder is always the same; write, for example, '${temp}'")
	}
	b.WriteString(`\z`)
	p.shape = regexp.MustCompile(b.String())
	return p, nil
}

// ContentType implements Form.
func (p *Plain) ContentType() string { return "text/plain; charset=utf-8" }

// Append implements Form.
func (p *Plain) Append(dst []byte, samples []Sample) ([]byte, error) {
	var wrong error
	for i := range samples {
		for _, part := range p.parts {
			if part.Placeholder < 0 {
				dst = append(dst, part.Literal...)
				continue
			}
			v, err := p.fill(&samples[i], part.Placeholder)
			if err != nil && wrong == nil {
				wrong = err
			}
			if p.url {
				dst = append(dst, formula.URLEscape(string(text(nil, v)))...)
			} else {
				dst = text(dst, v)
			}
		}
	}
	return dst, wrong
}

// Read implements Form.
func (p *Plain) Read(body []byte) ([]Found, error) {
	m := p.shape.FindSubmatch(body)
	if m == nil {
		return nil, fmt.Errorf("not a text of this shape")
	}
	found := Found{Values: map[string]any{}}
	for i, name := range p.names {
		s := string(m[i+1])
		if p.url {
			var err error
			if s, err = url.PathUnescape(s); err != nil {
				return nil, fmt.Errorf("not a part of an address: %w", err)
			}
		}
		if i == p.mark {
			found.Mark = s
			continue
		}
		if v, ok := typed(s, p.types[i]); ok {
			found.Values[name] = v
		}
	}
	return []Found{found}, nil
}

// Path is as that of Template.
func (p *Plain) Path(field string) string {
	if name := strings.ReplaceAll(field, ".", "_"); slices.Contains(p.names, name) {
		return name
	}
	return ""
}
