package recording

import (
	"bytes"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
)

// Masked is what stands in place of a secret.
const Masked = "***"

// Mask puts Masked in place of the values of headers, properties and members of a JSON body
// that have one of some names, whatever the case of their letters; of parameters of a path; and
// in place of a body that is no JSON and has such a name in it. Hide, if not nil, takes
// other secrets out of texts.
type Mask struct {
	Names []string
	Hide  func(string) string
}

func (m *Mask) has(name string) bool {
	for _, n := range m.Names {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return false
}

// Apply masks a line.
func (m *Mask) Apply(l *Line) {
	for _, list := range [][]Pair{l.Headers, l.Properties} {
		for i := range list {
			if m.has(list[i][0]) {
				list[i][1] = Masked
			}
			if m.Hide != nil {
				list[i][1] = m.Hide(list[i][1])
			}
		}
	}
	if m.Hide != nil {
		l.Response, l.Correlation = m.Hide(l.Response), []byte(m.Hide(string(l.Correlation)))
		l.Topic, l.Path = m.Hide(l.Topic), m.Hide(l.Path)
		l.Body = []byte(m.Hide(string(l.Body)))
	}
	if len(m.Names) == 0 {
		return
	}
	l.Path = m.query(l.Path)
	if !json.Valid(l.Body) {
		if m.within(l.Body) {
			l.Body = []byte(Masked)
		}
		return
	}
	if b := m.body(l.Body); b != nil {
		l.Body = b
	}
}

// query masks the parameters of a path.
func (m *Mask) query(path string) string {
	before, query, is := strings.Cut(path, "?")
	if !is {
		return path
	}
	list := strings.Split(query, "&")
	for i, p := range list {
		key, _, _ := strings.Cut(p, "=")
		if name, err := url.QueryUnescape(key); err == nil && m.has(name) {
			list[i] = key + "=" + Masked
		}
	}
	return before + "?" + strings.Join(list, "&")
}

// within tells whether a body that is no JSON speaks of one of the names: where its value ends
// cannot be told.
func (m *Mask) within(b []byte) bool {
	low := bytes.ToLower(b)
	return slices.ContainsFunc(m.Names, func(n string) bool {
		return n != "" &&
			bytes.Contains(low, []byte(strings.ToLower(n)))
	})
}

// body masks the members of a JSON value; the rest stays as it is. Nil: nothing was changed.
func (m *Mask) body(raw []byte) []byte {
	trimmed := bytes.TrimSpace(raw)
	if len(trimmed) == 0 {
		return nil
	}
	var out []byte
	from := 0
	d := json.NewDecoder(bytes.NewReader(raw))
	value := func(masked bool) bool {
		var inner json.RawMessage
		if d.Decode(&inner) != nil {
			return false
		}
		end := int(d.InputOffset())
		with := []byte(nil)
		if masked {
			with, _ = json.Marshal(Masked)
		} else {
			with = m.body(inner)
		}
		if with != nil {
			out = append(append(out, raw[from:end-len(inner)]...), with...)
			from = end
		}
		return true
	}
	switch t, _ := d.Token(); t {
	case json.Delim('{'):
		for d.More() {
			name, err := d.Token()
			if s, is := name.(string); err != nil || !is || !value(m.has(s)) {
				return nil
			}
		}
	case json.Delim('['):
		for d.More() {
			if !value(false) {
				return nil
			}
		}
	}
	if out == nil {
		return nil
	}
	return append(out, raw[from:]...)
}
