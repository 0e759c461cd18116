package payload

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"runcrowd/internal/signal"
)

// text is a value as it stands in a column: empty for what has none.
func text(dst []byte, v signal.Value) []byte {
	switch {
	case !plain(v):
		return dst
	case v.Type() == signal.Text:
		return append(dst, v.Text()...)
	}
	return Value(dst, v)
}

// typed is the value of a column as JSON has it; ok is false for an empty one.
func typed(s string, t signal.Type) (v any, ok bool) {
	switch t {
	case signal.Text:
		return s, true
	case signal.Bool:
		return s == "true", s != ""
	case signal.Int, signal.Float:
		if n, ok := asNumber(s); ok {
			return n, true
		}
		return s, s != ""
	}
	switch {
	case s == "":
		return nil, false
	case s == "true" || s == "false":
		return s == "true", true
	}
	if n, ok := asNumber(s); ok {
		return n, true
	}
	return s, true
}

// asNumber is a text as a number of JSON, with its digits where JSON takes them.
func asNumber(s string) (json.Number, bool) {
	f, err := strconv.ParseFloat(s, 64)
	switch {
	case err != nil || math.IsInf(f, 0) || math.IsNaN(f):
		return "", false
	case json.Valid([]byte(s)):
		return json.Number(s), true
	}
	return jsonNumber(f), true
}

// CSV is a line for each sample (RFC 4180), with a head line of names if asked
// for. A position is two columns, position.lat and position.lon; what is null or
// left out is an empty column.
type CSV struct {
	fields    []Field
	columns   []scalar
	mark      string
	separator byte
	head      bool
}

// NewCSV makes the form.
func NewCSV(fields []Field, mark string, separator byte, head bool) *CSV {
	return &CSV{fields, scalars(fields, "."), mark, separator, head}
}

// ContentType implements Form.
func (c *CSV) ContentType() string {
	if c.head {
		return "text/csv; header=present"
	}
	return "text/csv"
}

// Append implements Form.
func (c *CSV) Append(dst []byte, samples []Sample) ([]byte, error) {
	if c.head {
		for i := range c.columns {
			if i > 0 {
				dst = append(dst, c.separator)
			}
			dst = c.quoted(len(dst), append(dst, c.columns[i].name...))
		}
		dst = append(dst, '\n')
	}
	for s := range samples {
		if s > 0 {
			dst = append(dst, '\n')
		}
		for i := range c.columns {
			if i > 0 {
				dst = append(dst, c.separator)
			}
			dst = c.quoted(len(dst), text(dst, c.columns[i].of(&samples[s])))
		}
	}
	return dst, nil
}

// quoted puts the column that begins at from in quotes where it needs them.
func (c *CSV) quoted(from int, dst []byte) []byte {
	col := dst[from:]
	if bytes.IndexByte(col, c.separator) < 0 && !bytes.ContainsAny(col, "\"\r\n") && !bytes.HasPrefix(col, []byte(" ")) {
		return dst
	}
	s := strings.ReplaceAll(string(col), `"`, `""`)
	return append(append(append(dst[:from], '"'), s...), '"')
}

// Read implements Form.
func (c *CSV) Read(body []byte) ([]Found, error) {
	r := csv.NewReader(bytes.NewReader(body))
	r.Comma, r.FieldsPerRecord = rune(c.separator), len(c.columns)
	if len(c.columns) == 1 && len(bytes.TrimSpace(body)) == 0 {
		return []Found{{Values: map[string]any{}}}, nil
	}
	rows, err := r.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("not CSV of %d columns: %w", len(c.columns), err)
	}
	if c.head {
		if len(rows) == 0 || !c.isHead(rows[0]) {
			return nil, fmt.Errorf("not CSV with our head: the first line does not name the columns")
		}
		rows = rows[1:]
	}
	var found []Found
	for _, row := range rows {
		values := map[string]any{}
		for i, s := range row {
			if v, ok := typed(s, c.columns[i].typ); ok {
				c.columns[i].put(c.fields, values, v)
			}
		}
		found = append(found, split(values, c.mark))
	}
	return found, nil
}

// isHead tells whether a line names the columns.
func (c *CSV) isHead(row []string) bool {
	for i, s := range row {
		if s != c.columns[i].name {
			return false
		}
	}
	return true
}

// LineProtocol is the line protocol that time-series databases read: a line for each
// sample with the name of a series, tags, fields and a time. Whole numbers carry
// the suffix i; a position is two fields, position_lat and position_lon; what is
// null or left out has no field.
type LineProtocol struct {
	fields  []Field
	columns []scalar
	mark    string
	head    string // series and tags, escaped
	divide  int64  // nanoseconds of the precision
}

// Tag is a name and a value beside a series.
type Tag struct{ Name, Value string }

// NewLineProtocol makes the form; precision is s, ms, us or ns. The error names what a
// line cannot hold: a line break, and a backslash at the end of a series, a tag or a name,
// which would take away the meaning of what follows.
func NewLineProtocol(fields []Field, mark, series string, tags []Tag, precision string) (*LineProtocol, error) {
	l := &LineProtocol{fields: fields, columns: scalars(fields, "_"), mark: mark, divide: 1}
	if err := onLine("the series", series); err != nil {
		return nil, err
	}
	l.head = escaped(series, ", ")
	for i := range l.columns {
		if err := onLine("the field", l.columns[i].name); err != nil {
			return nil, err
		}
	}
	for _, t := range tags {
		if err := errors.Join(onLine("the tag", t.Name), onLine("the tag "+t.Name, t.Value)); err != nil {
			return nil, err
		}
		if t.Value != "" {
			l.head += "," + escaped(t.Name, ",= ") + "=" + escaped(t.Value, ",= ")
		}
	}
	l.divide = map[string]int64{"s": 1e9, "ms": 1e6, "us": 1e3}[precision]
	l.divide = max(1, l.divide)
	return l, nil
}

// onLine checks that a text can stand in the head of a line.
func onLine(what, s string) error {
	switch {
	case strings.ContainsAny(s, "\r\n"):
		return fmt.Errorf("%s (%q) holds a line break, which a line cannot", what, s)
	case strings.HasSuffix(s, `\`):
		return fmt.Errorf("%s (%q) ends in a backslash: what follows it on the line would be read as a part of it", what, s)
	}
	return nil
}

// escaped puts a backslash before each of the letters; a line break cannot be
// written and becomes a blank.
func escaped(s, letters string) string {
	var b strings.Builder
	for _, c := range strings.Map(func(c rune) rune {
		if c == '\n' || c == '\r' {
			return ' '
		}
		return c
	}, s) {
		if strings.ContainsRune(letters, c) || c == '\\' && letters == `"` {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// ContentType implements Form.
func (l *LineProtocol) ContentType() string { return "text/plain; charset=utf-8" }

// Append implements Form.
func (l *LineProtocol) Append(dst []byte, samples []Sample) ([]byte, error) {
	var wrong error
	for s := range samples {
		if s > 0 {
			dst = append(dst, '\n')
		}
		dst = append(dst, l.head...)
		sep := byte(' ')
		for i := range l.columns {
			v := l.columns[i].of(&samples[s])
			if !plain(v) {
				continue
			}
			dst = append(append(append(dst, sep), escaped(l.columns[i].name, ",= ")...), '=')
			sep = ','
			switch v.Type() {
			case signal.Text:
				if wrong == nil && strings.ContainsAny(v.Text(), "\r\n") {
					wrong = fmt.Errorf("the field %q holds a line break, which a line cannot: a blank was sent", l.columns[i].name)
				}
				dst = append(append(append(dst, '"'), escaped(v.Text(), `"`)...), '"')
			case signal.Int:
				dst = append(Value(dst, v), 'i')
			default:
				dst = Value(dst, v)
			}
		}
		if sep == ' ' {
			return dst, fmt.Errorf("a line needs at least one field, and all are left out")
		}
		dst = strconv.AppendInt(append(dst, ' '), samples[s].Time.UnixNano()/l.divide, 10)
	}
	return dst, wrong
}

// Read implements Form.
func (l *LineProtocol) Read(body []byte) ([]Found, error) {
	byName := map[string]*scalar{}
	for i := range l.columns {
		byName[l.columns[i].name] = &l.columns[i]
	}
	var found []Found
	for rest := string(body); rest != ""; {
		var line string
		line, rest = cut(rest, '\n')
		if strings.TrimSpace(line) == "" {
			continue
		}
		x, err := ParseLine(line)
		if err != nil {
			return nil, err
		}
		values := map[string]any{}
		for name, value := range x.Fields {
			if c := byName[name]; c != nil {
				c.put(l.fields, values, value)
			} else {
				values[name] = value
			}
		}
		found = append(found, split(values, l.mark))
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("not line protocol: there is no line")
	}
	return found, nil
}

// Line is one line of line protocol.
type Line struct {
	Series string
	Tags   map[string]string
	Fields map[string]any
	Time   json.Number // empty: it tells none
}

// ParseLine reads a line of line protocol, strictly: no field stands twice, and each has a
// value.
func ParseLine(line string) (Line, error) {
	head, tail := cut(line, ' ')
	fields, at := cut(tail, ' ')
	if _, err := strconv.ParseInt(at, 10, 64); at != "" && err != nil {
		return Line{}, fmt.Errorf("not line protocol: %s is no time", clip(at))
	}
	x := Line{Tags: map[string]string{}, Fields: map[string]any{}, Time: json.Number(at)}
	series, tags := cut(head, ',')
	x.Series = unescaped(series)
	for tags != "" {
		var t string
		t, tags = cut(tags, ',')
		name, v := cut(t, '=')
		x.Tags[unescaped(name)] = unescaped(v)
	}
	for fields != "" {
		var f string
		f, fields = cut(fields, ',')
		name, v := cut(f, '=')
		name = unescaped(name)
		if v == "" {
			return Line{}, fmt.Errorf("not line protocol: a field has no value")
		}
		if _, twice := x.Fields[name]; twice {
			return Line{}, fmt.Errorf("the field %s stands twice in a line", clip(name))
		}
		switch {
		case v[0] == '"':
			if closing(v) != len(v)-1 {
				return Line{}, fmt.Errorf("not line protocol: %s is no text in quotes", clip(v))
			}
			x.Fields[name] = unescaped(v[1 : len(v)-1])
		case v == "true" || v == "false":
			x.Fields[name] = v == "true"
		default:
			n, ok := asNumber(strings.TrimSuffix(v, "i"))
			if !ok {
				return Line{}, fmt.Errorf("not line protocol: %s is no value", clip(v))
			}
			x.Fields[name] = n
		}
	}
	return x, nil
}

// cut splits at the first sep that is neither escaped nor in quotes.
func cut(s string, sep byte) (before, after string) {
	quoted := false
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\':
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == sep && !quoted:
			return s[:i], s[i+1:]
		}
	}
	return s, ""
}

// closing is where the quoted text at the beginning of s ends, or -1.
func closing(s string) int {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

func unescaped(s string) string {
	if strings.IndexByte(s, '\\') < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) && strings.IndexByte(`,= "\`, s[i+1]) >= 0 {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}
