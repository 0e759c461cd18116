package recording

import (
	"bytes"
	"encoding/json"
	"strings"
	"unicode/utf8"
)

// Masked is what stands in place of a secret.
const Masked = "***"

// Mask puts Masked in place of the values of headers, properties and members of a JSON body
// that have one of some names, whatever the case of their letters. Hide, if not nil, takes
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
	for _, list := range []map[string]string{l.Headers, l.Properties} {
		for name, v := range list {
			if m.has(name) {
				v = Masked
			}
			if m.Hide != nil {
				v = m.Hide(v)
			}
			list[name] = v
		}
	}
	if m.Hide != nil {
		l.Topic, l.Path = m.Hide(l.Topic), m.Hide(l.Path)
		if utf8.Valid(l.Body) {
			l.Body = []byte(m.Hide(string(l.Body)))
		}
	}
	if len(m.Names) == 0 {
		return
	}
	d := json.NewDecoder(bytes.NewReader(l.Body))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil || d.More() {
		return
	}
	if m.value(&v) {
		if b, err := json.Marshal(v); err == nil {
			l.Body = b
		}
	}
}

func (m *Mask) value(v *any) (changed bool) {
	switch x := (*v).(type) {
	case map[string]any:
		for name, inner := range x {
			if m.has(name) {
				x[name], changed = Masked, true
				continue
			}
			if m.value(&inner) {
				x[name], changed = inner, true
			}
		}
	case []any:
		for i := range x {
			changed = m.value(&x[i]) || changed
		}
	}
	return changed
}
