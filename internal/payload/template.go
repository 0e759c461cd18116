package payload

import (
	"encoding/json"
	"fmt"
	"strings"

	"runcrowd/internal/signal"
	"runcrowd/internal/strictjson"
)

// Part is a piece of a template: a literal text, or a placeholder whose value a
// Filler gives.
type Part struct {
	Literal     string
	Placeholder int // the number of the placeholder, from 0; -1 for a literal
}

// Template is JSON of the user's own, with placeholders. Within a JSON text a
// placeholder's value is a part of that text; elsewhere it is a JSON value of its
// own, so that ${wave_m} is a number and ${device} a text in quotes.
type Template struct {
	parts  []Part
	inside []bool // of a JSON text, for each part
	mark   []string
	paths  map[string]string // where a placeholder's value stands alone, by its source
	batch  bool
	list   bool // its top is a list: one message all the same
	fill   func(sample *Sample, placeholder int) (signal.Value, error)
}

// mark that is looked for to find out where it stands.
const probe = "\x7fwhere-is-the-mark\x7f"

// probeInJSON is the probe as it stands in JSON.
const probeInJSON = `\u007fwhere-is-the-mark\u007f`

// NewTemplate makes the form and tries it: what comes out must be JSON. MarkAt is
// the placeholder of the mark, or -1 where the mark rides elsewhere; sources are
// the formulas of the placeholders.
func NewTemplate(parts []Part, sources []string, markAt int, batch bool,
	fill func(*Sample, int) (signal.Value, error)) (*Template, error) {
	t := &Template{parts: parts, batch: batch, fill: fill}
	in, escape := false, false
	for _, p := range parts {
		t.inside = append(t.inside, in)
		for _, c := range p.Literal {
			switch {
			case escape:
				escape = false
			case in && c == '\\':
				escape = true
			case c == '"':
				in = !in
			}
		}
	}
	if in {
		return nil, fmt.Errorf("the template is not JSON: it ends inside a text")
	}
	trial := *t
	trial.fill = func(_ *Sample, i int) (signal.Value, error) {
		if i == markAt {
			return signal.OfText(probe), nil
		}
		return signal.OfInt(1), nil
	}
	body, _ := trial.sample(nil, nil)
	v, err := strictjson.Decode(body)
	if err != nil {
		// A reader does not know the text that stands for the mark here.
		return nil, fmt.Errorf("the template is not JSON: %s; with its placeholders filled in it is %s", err,
			clip(strings.ReplaceAll(string(body), probeInJSON, "the-mark")))
	}
	switch v.(type) {
	case map[string]any:
	case []any:
		if t.list = true; batch {
			return nil, fmt.Errorf("a template that is a list holds one message; leave out batch, or the brackets: a batch is " +
				"a list by itself")
		}
		v, _ = strictjson.Object(v)
	default:
		return nil, fmt.Errorf("the template must be a JSON object { … } or a list [ … ]")
	}
	trial.fill = func(_ *Sample, i int) (signal.Value, error) { return signal.OfText(fmt.Sprint(probe, i)), nil }
	t.paths = map[string]string{}
	if body, _ = trial.sample(nil, nil); json.Valid(body) {
		v2, _ := strictjson.Decode(body)
		if t.list {
			v2, _ = strictjson.Object(v2)
		}
		for i, s := range sources {
			if path := place(v2, fmt.Sprint(probe, i), ""); path != "" {
				t.paths[s] = path
			}
		}
	}
	if markAt >= 0 {
		if t.mark = find(v, nil); t.mark == nil {
			return nil, fmt.Errorf("the mark must be a text of its own: \"${mark}\", in no list")
		}
	}
	return t, nil
}

func clip(s string) string {
	if r := []rune(s); len(r) > 160 {
		return string(r[:160]) + "…"
	}
	return s
}

// find is the path to the mark.
func find(v any, path []string) []string {
	m, _ := v.(map[string]any)
	for k, x := range m {
		if x == probe {
			return append(path, k)
		}
		if p := find(x, append(path, k)); p != nil {
			return p
		}
	}
	return nil
}

// place is the path to a value, its parts joined by dots; empty where it is not.
func place(v any, value, path string) string {
	switch x := v.(type) {
	case string:
		if x == value {
			return path
		}
	case map[string]any:
		for k, inner := range x {
			if p := place(inner, value, strings.TrimPrefix(path+"."+k, ".")); p != "" {
				return p
			}
		}
	case []any:
		for i, inner := range x {
			if p := place(inner, value, strings.TrimPrefix(fmt.Sprint(path, ".", i), ".")); p != "" {
				return p
			}
		}
	}
	return ""
}

// Path is where the value of a field stands in what a body carries, its parts
// joined by dots; empty where it does not stand alone.
func (t *Template) Path(field string) string { return t.paths[strings.ReplaceAll(field, ".", "_")] }

// List tells whether the body is a JSON list.
func (t *Template) List() bool { return t.list }

// ContentType implements Form.
func (t *Template) ContentType() string { return "application/json" }

func (t *Template) sample(dst []byte, s *Sample) ([]byte, error) {
	var wrong error
	for i, p := range t.parts {
		if p.Placeholder < 0 {
			dst = append(dst, p.Literal...)
			continue
		}
		v, err := t.fill(s, p.Placeholder)
		if err != nil && wrong == nil {
			wrong = err
		}
		if v.Type() == signal.LeftOut {
			v = signal.Value{}
		}
		if !t.inside[i] {
			dst = Value(dst, v)
			continue
		}
		inner := string(text(nil, v))
		quoted := Text(nil, inner)
		dst = append(dst, quoted[1:len(quoted)-1]...)
	}
	return dst, wrong
}

// Append implements Form.
func (t *Template) Append(dst []byte, samples []Sample) ([]byte, error) {
	var wrong error
	if t.batch {
		dst = append(dst, '[')
	}
	for i := range samples {
		if i > 0 {
			dst = append(dst, ',')
		}
		var err error
		if dst, err = t.sample(dst, &samples[i]); err != nil && wrong == nil {
			wrong = err
		}
	}
	if t.batch {
		dst = append(dst, ']')
	}
	return dst, wrong
}

// Read implements Form: the values are the whole object but for the mark.
func (t *Template) Read(body []byte) ([]Found, error) {
	found, err := t.objects(body)
	if err != nil || t.mark == nil {
		return found, err
	}
	for i := range found {
		in := found[i].Values
		for _, k := range t.mark[:len(t.mark)-1] {
			in, _ = in[k].(map[string]any)
		}
		last := t.mark[len(t.mark)-1]
		found[i].Mark = in[last]
		delete(in, last)
	}
	return found, nil
}

// objects takes a body apart.
func (t *Template) objects(body []byte) ([]Found, error) {
	if !t.list {
		return readObjects(body, "")
	}
	v, err := strictjson.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("not JSON: %w", err)
	}
	values, is := strictjson.Object(v)
	if !is {
		return nil, fmt.Errorf("not a list")
	}
	return []Found{{Values: values}}, nil
}

// Carried is what a body carries beside its mark, as one JSON object for each
// sample: what a witness is to find. The fields of a sample that are missing or
// null are not in it where the form cannot carry them.
func Carried(f Form, body []byte, samples []Sample, names []string) ([][]byte, error) {
	found, err := f.Read(body)
	if err != nil {
		return nil, err
	}
	if len(found) != len(samples) {
		return nil, fmt.Errorf("%d samples were written and %d read back", len(samples), len(found))
	}
	list := make([][]byte, len(found))
	for i := range found {
		if _, whole := f.(*Template); !whole {
			for k, n := range names {
				if t := samples[i].Values[k].Type(); t == signal.LeftOut || t == signal.Null {
					delete(found[i].Values, n)
				}
			}
		}
		if list[i], err = json.Marshal(found[i].Values); err != nil {
			return nil, err
		}
	}
	return list, nil
}
