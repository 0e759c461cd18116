package payload

import (
	"fmt"
	"net/url"

	"runcrowd/internal/formula"
	"runcrowd/internal/signal"
)

// URLEncoded is fields and values as an address or a web form has them: wave_m=1.2&mark=…
// (application/x-www-form-urlencoded; URL Standard, section 5). All but letters, digits, -, _, .
// and ~ is escaped, a blank as %20, which every reader takes. A position is two values,
// position.lat and position.lon; what is null or left out is not there.
type URLEncoded struct {
	fields  []Field
	columns []scalar
	mark    string
}

// NewURLEncoded makes the form.
func NewURLEncoded(fields []Field, mark string) *URLEncoded {
	return &URLEncoded{fields, scalars(fields, "."), mark}
}

// ContentType implements Form.
func (u *URLEncoded) ContentType() string { return "application/x-www-form-urlencoded" }

// Append implements Form.
func (u *URLEncoded) Append(dst []byte, samples []Sample) ([]byte, error) {
	sep := false
	for i := range u.columns {
		v := u.columns[i].of(&samples[0])
		if !plain(v) {
			continue
		}
		if sep {
			dst = append(dst, '&')
		}
		sep = true
		dst = append(append(dst, formula.URLEscape(u.columns[i].name)...), '=')
		dst = append(dst, formula.URLEscape(string(text(nil, v)))...)
	}
	return dst, nil
}

// Read implements Form. A name that stands twice is an error: no reader is sure which counts.
func (u *URLEncoded) Read(body []byte) ([]Found, error) {
	q, err := url.ParseQuery(string(body))
	if err != nil {
		return nil, fmt.Errorf("not URL-encoded: %w", err)
	}
	byName := map[string]*scalar{}
	for i := range u.columns {
		byName[u.columns[i].name] = &u.columns[i]
	}
	values := map[string]any{}
	for name, list := range q {
		c := byName[name]
		typ := signal.Null
		if c != nil {
			typ = c.typ
		}
		v, ok := typed(list[0], typ)
		switch {
		case len(list) > 1:
			return nil, fmt.Errorf("%s stands %d times", clip(name), len(list))
		case !ok:
		case c != nil:
			c.put(u.fields, values, v)
		default:
			values[name] = v
		}
	}
	return []Found{split(values, u.mark)}, nil
}
