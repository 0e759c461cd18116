package payload

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/signal"
	"runcrowd/internal/strictjson"
)

// Field is one member of a sample: its name, its unit and the type of what it
// gives, as far as that is known beforehand.
type Field struct {
	Name string
	Unit string
	Type signal.Type
}

// Sample is one set of values, in the order of the form's fields.
type Sample struct {
	Values  []signal.Value
	Time    time.Time     // of the sample
	Elapsed time.Duration // since the round began
	Seq     uint64
}

// Found is one sample as it was read from a body: numbers are json.Number, lists
// and objects as in encoding/json. A field that was left out is not there.
type Found struct {
	Mark   any
	Values map[string]any
}

// Form makes bodies and reads them. Forms are immutable, but for Template, which
// keeps memory and serves one goroutine.
type Form interface {
	// ContentType is the body's media type.
	ContentType() string
	// Append appends a body of the samples to dst; the error says which value
	// does not fit, and the body is then not to be sent.
	Append(dst []byte, samples []Sample) ([]byte, error)
	// Read reads a body back, one Found for each sample.
	Read(body []byte) ([]Found, error)
}

// jsonNumber is f as JSON writes it.
func jsonNumber(f float64) json.Number {
	return json.Number(number(nil, f))
}

// parts are the names under which a value that has parts is written: a position
// has lat and lon, a vector x, y and z.
func parts(t signal.Type) []string {
	switch t {
	case signal.Place:
		return []string{"lat", "lon"}
	case signal.Vector:
		return []string{"x", "y", "z"}
	}
	return nil
}

// part is the i-th part of a value.
func part(v signal.Value, i int) float64 {
	if v.Type() == signal.Place {
		p := v.Place()
		return [...]float64{p.Lat, p.Lon}[i]
	}
	a := v.Axes()
	return [...]float64{a.X, a.Y, a.Z}[i]
}

// scalar is one column: a field, or one part of a field that has parts.
type scalar struct {
	field int
	part  int // -1: the field itself
	name  string
	unit  string
	typ   signal.Type
}

// scalars lists the columns of fields; sep stands between a field's name and
// that of a part.
func scalars(fields []Field, sep string) []scalar {
	var list []scalar
	for i, f := range fields {
		names := parts(f.Type)
		if names == nil {
			list = append(list, scalar{i, -1, f.Name, f.Unit, f.Type})
		}
		for k, p := range names {
			unit := f.Unit
			if f.Type == signal.Place {
				unit = p // SenML has units of these names
			}
			list = append(list, scalar{i, k, f.Name + sep + p, unit, signal.Float})
		}
	}
	return list
}

// of is the column's value in a sample; a field of another type than was
// expected has its parts missing.
func (c *scalar) of(s *Sample) signal.Value {
	v := s.Values[c.field]
	if c.part < 0 {
		return v
	}
	if v.Type() != signal.Place && v.Type() != signal.Vector {
		return signal.NoValue()
	}
	return signal.OfFloat(part(v, c.part))
}

// put files a column's value under its field.
func (c *scalar) put(fields []Field, into map[string]any, v any) {
	f := fields[c.field]
	if c.part < 0 {
		into[f.Name] = v
		return
	}
	inner, is := into[f.Name].(map[string]any)
	if !is {
		inner = map[string]any{}
		into[f.Name] = inner
	}
	inner[parts(f.Type)[c.part]] = v
}

// numeric is a value as a number: true is one, false zero.
func numeric(v signal.Value) float64 {
	if v.Type() == signal.Bool {
		return float64(v.Int())
	}
	return v.Float()
}

// plain tells whether a value is a finite number, a text or a truth value: what
// forms without null can carry.
func plain(v signal.Value) bool {
	switch v.Type() {
	case signal.Null, signal.LeftOut:
		return false
	case signal.Float:
		return !math.IsNaN(v.Float()) && !math.IsInf(v.Float(), 0)
	}
	return true
}

// split takes the mark out of what was read.
func split(values map[string]any, mark string) Found {
	m, _ := strictjson.Take(values, mark)
	return Found{m, values}
}

// JSON is an object for each sample, or a list of them for several.
type JSON struct {
	Names []string
	Mark  string // name of the mark's field, or empty
	Batch bool
	tree  *tree // of nested names
}

// NewJSON makes the form. Nested makes of a name such as env.temp an object env
// with a member temp, and of axis.0, axis.1 a list. Names that contradict each
// other, such as env and env.temp, are an error.
func NewJSON(names []string, mark string, nested, batch bool) (*JSON, error) {
	j := &JSON{Names: names, Mark: mark, Batch: batch}
	if nested {
		j.tree = &tree{field: -1}
		for i, n := range names {
			if err := j.tree.add(n, strings.Split(n, "."), i); err != nil {
				return nil, err
			}
		}
		if err := j.tree.finish(""); err != nil {
			return nil, err
		}
	}
	return j, nil
}

// tree is the shape of a nested object.
type tree struct {
	key   string
	field int // of a leaf; -1 otherwise
	list  bool
	sub   []*tree
}

func (t *tree) add(whole string, path []string, field int) error {
	for _, s := range t.sub {
		if s.key != path[0] {
			continue
		}
		if len(path) == 1 || s.field >= 0 {
			return fmt.Errorf("the field %q cannot be both a value and an object",
				strings.TrimSuffix(strings.TrimSuffix(whole, strings.Join(path[1:], ".")), "."))
		}
		return s.add(whole, path[1:], field)
	}
	if path[0] == "" {
		return fmt.Errorf("the field %q has an empty part between its dots", whole)
	}
	n := &tree{key: path[0], field: -1}
	t.sub = append(t.sub, n)
	if len(path) == 1 {
		n.field = field
		return nil
	}
	return n.add(whole, path[1:], field)
}

// finish finds the lists: objects whose keys are 0, 1, 2 and so on.
func (t *tree) finish(path string) error {
	numbers := 0
	for i, s := range t.sub {
		if n, err := strconv.Atoi(s.key); err == nil && n == i {
			numbers++
		}
		if err := s.finish(path + s.key + "."); err != nil {
			return err
		}
	}
	if t.field < 0 && numbers == len(t.sub) && path != "" {
		t.list = true
	} else if numbers > 0 && path != "" {
		return fmt.Errorf("the fields below %q are neither a list (0, 1, 2, …) nor an object", strings.TrimSuffix(path, "."))
	}
	return nil
}

// empty tells whether all below is missing.
func (t *tree) empty(values []signal.Value) bool {
	if t.field >= 0 {
		return values[t.field].Type() == signal.LeftOut
	}
	for _, s := range t.sub {
		if !s.empty(values) {
			return false
		}
	}
	return true
}

func (t *tree) append(dst []byte, values []signal.Value) []byte {
	if t.field >= 0 {
		if values[t.field].Type() == signal.LeftOut {
			return append(dst, "null"...) // within a list, places are kept
		}
		return Value(dst, values[t.field])
	}
	open, end := byte('{'), byte('}')
	if t.list {
		open, end = '[', ']'
	}
	dst = append(dst, open)
	first := true
	for _, s := range t.sub {
		if !t.list && s.empty(values) {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		first = false
		if !t.list {
			dst = append(Text(dst, s.key), ':')
		}
		dst = s.append(dst, values)
	}
	return append(dst, end)
}

// ContentType implements Form.
func (j *JSON) ContentType() string { return "application/json" }

// Append implements Form.
func (j *JSON) Append(dst []byte, samples []Sample) ([]byte, error) {
	if j.Batch {
		dst = append(dst, '[')
	}
	for i := range samples {
		if i > 0 {
			dst = append(dst, ',')
		}
		if j.tree != nil {
			dst = j.tree.append(dst, samples[i].Values)
		} else {
			dst = Object(dst, j.Names, samples[i].Values)
		}
	}
	if j.Batch {
		dst = append(dst, ']')
	}
	return dst, nil
}

// Read implements Form.
func (j *JSON) Read(body []byte) ([]Found, error) { return readObjects(body, j.Mark) }

// readObjects reads a JSON object or a list of them.
func readObjects(body []byte, mark string) ([]Found, error) {
	v, err := strictjson.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("not JSON: %w", err)
	}
	list, is := v.([]any)
	if !is {
		list = []any{v}
	}
	found := make([]Found, 0, len(list))
	for _, x := range list {
		object, is := x.(map[string]any)
		if !is {
			return nil, fmt.Errorf("not an object of fields")
		}
		found = append(found, split(object, mark))
	}
	return found, nil
}
