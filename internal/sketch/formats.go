package sketch

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/fxamacker/cbor/v2"

	"runcrowd/internal/foreign"
	"runcrowd/internal/payload"
	"runcrowd/internal/strictjson"
)

// Read makes a sample of a text of messages: JSON, one or several; CBOR, one after the other; or
// lines, each a message: line protocol, or values between separators, with or without a head.
func Read(text []byte) (*Sample, error) {
	list, wrong := Samples(text)
	if wrong == nil && (list[0][0] == '{' || list[0][0] == '[') {
		return Learn(list)
	}
	if wrong == nil && len(list) == len(lines(text)) { // a value alone
		var rows [][]string
		for _, l := range lines(text) {
			rows = append(rows, []string{strings.TrimSpace(l)})
		}
		return learnRows("", rows)
	}
	if t := bytes.TrimSpace(text); len(t) == 0 || t[0] == '{' || t[0] == '[' {
		return nil, wrong
	}
	if binary(text) {
		return learnCBOR(text)
	}
	lines := lines(text)
	if len(lines) == 0 {
		return nil, wrong
	}
	if s := learnLineProtocol(lines); s != nil {
		return s, nil
	}
	return learnLines(lines)
}

// binary tells whether a text is none.
func binary(text []byte) bool {
	return !utf8.Valid(text) || bytes.ContainsFunc(text, func(r rune) bool { return r < ' ' && !strings.ContainsRune("\t\r\n", r) })
}

func lines(text []byte) (list []string) {
	for l := range bytes.Lines(bytes.TrimPrefix(text, []byte("\ufeff"))) {
		if s := strings.TrimRight(string(l), "\r\n"); strings.TrimSpace(s) != "" && len(list) < mostSamples {
			list = append(list, s)
		}
	}
	return list
}

// member is what a message has at a name: as the sample's fields are written.
type member struct {
	name  string
	value any // as strictjson decodes it
}

// fieldsOf writes fields under their own names, of messages that are flat.
func (s *learner) fieldsOf(first []member) error {
	for _, m := range first {
		raw, err := json.Marshal(m.value)
		if err != nil {
			return err
		}
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		var b strings.Builder
		n := len(s.fields)
		if err := s.write(&b, d, "."+m.name); err != nil {
			return err
		}
		line := b.String()
		switch {
		case len(s.fields) > n: // it moves: what makes it stands in its field
			_, line, _ = strings.Cut(s.fields[n], ": ")
		case line == "${n}":
			line = "{formula: n}"
		}
		s.fields = append(s.fields[:n], quoted(m.name)+": "+line)
	}
	return nil
}

// flat takes messages of flat members, and makes the sample of a form that has them by name.
func flat(messages [][]member, form string, notes []string) (*Sample, error) {
	s := newLearner()
	s.typed = true
	for i, m := range messages {
		o := map[string]any{}
		for _, x := range m {
			if !written(x.name) {
				return nil, fmt.Errorf("message %d has the name %q, which a field cannot have", i+1, shown(x.name))
			}
			o[x.name] = x.value
		}
		s.take(o, 0, float64(i))
	}
	first := slices.DeleteFunc(messages[0], func(m member) bool { return m.name == "mark" && s.ours })
	if err := s.fieldsOf(first); err != nil {
		return nil, err
	}
	out := &Sample{Payload: form, Fields: s.fields, Mark: s.markName()}
	out.Notes = append(s.remarks(), notes...)
	return out, nil
}

// written tells whether a field can have a name.
func written(name string) bool {
	return name != "" && utf8.ValidString(name) && !strings.ContainsAny(name, "\"\\${}") &&
		!strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsPrint(r) })
}

// learnCBOR makes a sample of maps in CBOR (RFC 8949), one after the other (RFC 8742).
func learnCBOR(text []byte) (*Sample, error) {
	mode, err := cbor.DecOptions{DefaultMapType: reflect.TypeFor[map[string]any](), MaxNestedLevels: 32,
		MaxArrayElements: 1 << 16, MaxMapPairs: 1 << 12}.DecMode()
	if err != nil {
		return nil, err
	}
	var messages [][]member
	d := mode.NewDecoder(bytes.NewReader(text))
	for len(messages) < mostSamples {
		var v any
		if err := d.Decode(&v); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, fmt.Errorf("message %d is neither text nor CBOR: %s", len(messages)+1, foreign.Line(err.Error(), 200))
		}
		o, is := v.(map[string]any)
		if !is || len(o) == 0 {
			return nil, fmt.Errorf("message %d in CBOR is no map with names; such bodies are laid out with form: bytes", len(messages)+1)
		}
		var list []member
		for _, name := range slices.Sorted(maps.Keys(o)) {
			value, err := plain(o[name])
			if err != nil {
				return nil, fmt.Errorf("message %d in CBOR: %s %w", len(messages)+1, shown(name), err)
			}
			list = append(list, member{name, value})
		}
		messages = append(messages, list)
	}
	if len(messages) == 0 {
		return nil, fmt.Errorf("there is no message in it")
	}
	return flat(messages, "cbor", nil)
}

// plain is a value of CBOR as JSON has it.
func plain(v any) (any, error) {
	switch x := v.(type) {
	case nil, bool, string:
		return x, nil
	case int64, uint64:
		return json.Number(fmt.Sprint(x)), nil
	case float64:
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return nil, nil
		}
		return real(x), nil
	}
	return nil, errors.New("holds more than a value; only flat maps can be sent as CBOR")
}

// learnLineProtocol makes a sample of lines of line protocol; nil: they are none.
func learnLineProtocol(lines []string) *Sample {
	var messages [][]member
	var first payload.Line
	unit, from, to := "", math.Inf(1), math.Inf(-1)
	for i, line := range lines {
		x, err := payload.ParseLine(line)
		if err != nil || len(x.Fields) == 0 || x.Series == "" || strings.ContainsAny(x.Series, "=;") {
			return nil
		}
		if i == 0 {
			first = x
		}
		if at, err := x.Time.Float64(); err == nil {
			from, to = min(from, at), max(to, at)
		}
		var list []member
		for _, name := range slices.Sorted(maps.Keys(x.Fields)) {
			list = append(list, member{name, numbers(x.Fields[name])})
		}
		messages = append(messages, list)
	}
	if unit = stamp(from, to); unit == "" {
		unit = "ns"
	}
	var notes []string
	var tags []string
	named := false
	for _, name := range slices.Sorted(maps.Keys(first.Tags)) {
		value := literal(first.Tags[name])
		if !named && deviceName.MatchString(name) {
			named, value = true, `"${device}"`
		}
		tags = append(tags, quoted(name)+": "+value)
	}
	series := literal(first.Series)
	s, err := flat(messages, fmt.Sprintf("{form: line-protocol, series: %s, tags: {%s}, precision: %s}", series,
		strings.Join(tags, ", "), unit), notes)
	if err != nil {
		return nil
	}
	if named {
		s.Notes = slices.DeleteFunc(s.Notes, func(n string) bool { return n == noDevice })
	}
	return s
}

// numbers is a value as strictjson decodes it.
func numbers(v any) any {
	switch x := v.(type) {
	case int64, uint64, int:
		return json.Number(fmt.Sprint(x))
	case float64:
		return real(x)
	}
	return v
}

// real is a number that is no whole one in a form that tells them apart.
func real(x float64) json.Number {
	s := strconv.FormatFloat(x, 'g', -1, 64)
	if !strings.ContainsAny(s, ".e") {
		s += ".0"
	}
	return json.Number(s)
}

// cell is a value in a line, and what stands in front of it.
type cell struct{ before, name, text string }

// learnLines makes a sample of lines of values between separators.
func learnLines(lines []string) (*Sample, error) {
	sep, rows, err := separated(lines)
	if err != nil {
		return nil, err
	}
	return learnRows(sep, rows)
}

func learnRows(sep string, rows [][]string) (*Sample, error) {
	var head []string
	if len(rows) > 1 && !slices.ContainsFunc(rows[0], isNumber) && slices.ContainsFunc(rows[1], isNumber) {
		head, rows = rows[0], rows[1:]
	}
	messages := make([][]cell, len(rows))
	s := newLearner()
	for i, row := range rows {
		o := map[string]any{}
		for k, text := range row {
			c := cell{name: fmt.Sprint(k + 1), text: strings.TrimSpace(text)}
			c.before = text[:strings.Index(text, c.text)]
			if len(row) == 1 && head == nil {
				c.name = "value"
			}
			if head != nil {
				c.name = strings.TrimSpace(head[k])
			} else if at := strings.IndexAny(c.text, "=:"); at > 0 && isWord(c.text[:at]) && !isNumber(c.text) && at+1 < len(c.text) {
				c.name, c.before, c.text = c.text[:at], c.before+c.text[:at+1], c.text[at+1:]
			}
			for n := 2; has(o, c.name); n++ {
				c.name = fmt.Sprintf("%s_%d", strings.TrimRight(c.name, "_0123456789"), n)
			}
			o[c.name] = c.value()
			messages[i] = append(messages[i], c)
		}
		s.take(o, 0, float64(i))
	}
	var b strings.Builder
	for k, c := range messages[0] {
		if k > 0 {
			b.WriteString(sep)
		}
		b.WriteString(strings.ReplaceAll(c.before, "${", "$${"))
		raw, err := json.Marshal(c.value())
		if err != nil {
			return nil, err
		}
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		var t strings.Builder
		if err := s.write(&t, d, "."+c.name); err != nil {
			return nil, err
		}
		text := t.String()
		if inner, is := strings.CutPrefix(text, `"`); is { // a text stands without quotes
			if text = strings.TrimSuffix(inner, `"`); !strings.Contains(text, "${") || strings.Contains(text, "$${") {
				text = strings.ReplaceAll(c.text, "${", "$${")
			}
		}
		if k == len(messages[0])-1 && !strings.Contains(strings.ReplaceAll(b.String()+text, "$${", ""), "${") {
			text = s.field("."+c.name, "{signal: choice, of: ["+quoted(c.text)+"]}") // the same each time, so far
		}
		b.WriteString(text)
	}
	if strings.ContainsAny(b.String()[:1], "{[") {
		return nil, errors.New("a line begins with { or [, and is not JSON")
	}
	return &Sample{Template: b.String(), Fields: s.fields, Notes: s.remarks(), Beside: true}, nil
}

func has(o map[string]any, name string) bool { _, is := o[name]; return is }

// value is what a cell holds.
func (c *cell) value() any {
	if isNumber(c.text) {
		return json.Number(c.text)
	}
	return c.text
}

// isNumber tells whether a text is a number as JSON writes it.
func isNumber(s string) bool {
	v, err := strictjson.Decode([]byte(strings.TrimSpace(s)))
	_, is := v.(json.Number)
	return err == nil && is
}

// isWord tells whether a text may be the name of a value.
func isWord(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool {
		return !(r == '_' || r == '-' || r == '.' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
	}) && !isNumber(s)
}

// separated finds what separates the values of lines: all lines have as many.
func separated(lines []string) (sep string, rows [][]string, err error) {
	for _, sep := range []rune{'\t', ';', '|', ',', ' '} {
		if !strings.ContainsRune(lines[0], sep) {
			continue
		}
		r := csv.NewReader(strings.NewReader(strings.Join(lines, "\n")))
		r.Comma, r.LazyQuotes, r.FieldsPerRecord = sep, sep == ' ', 0
		rows, err := r.ReadAll()
		if err != nil || len(rows) != len(lines) {
			if strings.Contains(lines[0], `"`) {
				continue
			}
			return "", nil, fmt.Errorf("its lines are not alike: each must hold as many values as the first, between %q", sep)
		}
		for i, row := range rows {
			if strings.Join(row, string(sep)) != lines[i] {
				return "", nil, fmt.Errorf("line %d holds values in quotes, which no template makes; send JSON, or take the quotes "+
					"out of the sample", i+1)
			}
		}
		return string(sep), rows, nil
	}
	for _, l := range lines {
		rows = append(rows, []string{l})
	}
	return "", rows, nil
}
