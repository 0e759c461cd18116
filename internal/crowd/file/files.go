package file

import (
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"runcrowd/internal/crowd"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// maxRows is the most rows of a roster.
const maxRows = 1_000_000

// file reads a file that the crowd file names; nil after noting why it cannot.
func (r *reader) file(n *yaml.Node, what, name string) *crowd.File {
	if f, known := r.files[name]; known {
		return f
	}
	r.files[name] = nil
	if name == "" {
		r.Add(pos(n), "%s: the name of the file is empty", what)
		return nil
	}
	data, err := r.read(name)
	if err != nil {
		r.Add(pos(n), "%s: %s cannot be read: %s (it is looked for from the crowd file's folder)", what, name,
			folder.Why(err))
		return nil
	}
	sum := sha256.Sum256(data)
	f := &crowd.File{Name: name, Data: data, Copy: data, SHA256: hex.EncodeToString(sum[:])}
	r.files[name] = f
	r.crowd.Files = append(r.crowd.Files, f)
	return f
}

// read reads a file from where this crowd file's files come from.
func (r *reader) read(name string) ([]byte, error) {
	if r.from.Open != nil {
		return r.from.Open(name)
	}
	return folder.Read(r.crowd.Path, name)
}

// table is a CSV file with a head line.
type table struct {
	columns []string
	head    []string // as they are called in the file, where columns were named otherwise; nil: the same
	rows    [][]string
	lines   []int // of the rows
}

// readTable reads CSV (RFC 4180) with a comma, semicolon or tab between columns,
// whichever the head line has most of.
func readTable(data []byte) (*table, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		return nil, errors.New("is not a text file in UTF-8")
	}
	head, _, _ := bytes.Cut(data, []byte("\n"))
	r := csv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord = -1
	r.TrimLeadingSpace = true
	for _, sep := range []rune{';', '\t'} {
		if bytes.Count(head, []byte(string(sep))) > bytes.Count(head, []byte(string(r.Comma))) {
			r.Comma = sep
		}
	}
	t := &table{}
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		var pe *csv.ParseError
		if errors.As(err, &pe) {
			why := "a quote stands where none may be"
			if errors.Is(pe.Err, csv.ErrQuote) {
				why = "a quoted value is not closed, or something follows its quote"
			}
			return nil, fmt.Errorf("line %d: %s", pe.Line, why)
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		if t.columns == nil {
			seen := map[string]bool{}
			for i, name := range row {
				name = strings.TrimSpace(name)
				if name == "" {
					return nil, fmt.Errorf("line %d: column %d has no name in the head line", line, i+1)
				}
				if seen[name] {
					return nil, fmt.Errorf("line %d: two columns have the name %q", line, name)
				}
				seen[name] = true
				t.columns = append(t.columns, name)
			}
			continue
		}
		if len(row) != len(t.columns) {
			return nil, fmt.Errorf("line %d has %d columns, the head line %d (%s)", line, len(row), len(t.columns),
				formula.List(t.columns))
		}
		if len(t.rows) == maxRows {
			return nil, fmt.Errorf("has more than %d rows", maxRows)
		}
		for i := range row {
			row[i] = strings.TrimSpace(row[i])
		}
		t.rows, t.lines = append(t.rows, row), append(t.lines, line)
	}
	if t.columns == nil {
		return nil, errors.New("is empty; its first line must name the columns")
	}
	return t, nil
}

// column finds a column; -1 where there is none.
func (t *table) column(name string) int {
	for i, c := range t.columns {
		if c == name {
			return i
		}
	}
	return -1
}

// ownColumns are columns of a roster that are no properties: the device's name,
// and what `runcrowd roster` tells of it besides.
var ownColumns = []string{"device", "kind", "n", "tags"}

// roster reads the roster of a group.
func (r *reader) roster(n *yaml.Node, kind *crowd.Kind, secret []string, secretNode, columns *yaml.Node) *crowd.Roster {
	name, ok := r.scalar(n, "roster")
	if !ok {
		return nil
	}
	f := r.file(n, "roster", name)
	if f == nil {
		return nil
	}
	t, err := readTable(f.Data)
	if err != nil {
		r.Add(pos(n), "roster: %s: %s", name, err)
		return nil
	}
	if len(t.rows) == 0 {
		r.Add(pos(n), "roster: %s has a head line and no device", name)
		return nil
	}
	if columns != nil {
		r.headings(columns, name, t)
	}
	ro := &crowd.Roster{File: name, Lines: t.lines}
	if i := t.column("device"); i >= 0 {
		for _, row := range t.rows {
			ro.Devices = append(ro.Devices, row[i])
		}
	}
	if i := t.column("kind"); i >= 0 && kind != nil {
		for k, row := range t.rows {
			if row[i] != "" && row[i] != kind.Name {
				r.Add(pos(n), "roster: %s:%d: the row is of the kind %q, the group of %q; give each kind a roster of its own",
					name, t.lines[k], row[i], kind.Name)
				break
			}
		}
	}
	var secrets []string
	for _, s := range secret {
		if t.column(s) < 0 {
			r.Add(pos(secretNode), "secrets: the roster %s has no column %q%s", name, s, formula.Hint(s, t.columns))
		}
	}
	for i, col := range t.columns {
		if contains(ownColumns, col) {
			continue
		}
		if !fieldPattern.MatchString(col) {
			if columns == nil {
				r.Add(pos(n), "roster: %s:%d: the column %q must have a name of letters, digits and _, so that formulas can use it; "+
					"give it one: columns: {a_name: %q}", name, t.lines[0]-1, col, col)
			}
			continue
		}
		c := crowd.RosterColumn{Name: col, Secret: contains(secret, col) || LooksSecret(col) || LooksSecret(t.heading(i))}
		c.Type, c.Values = column(t, i, c.Secret)
		ro.Columns = append(ro.Columns, c)
		if c.Secret {
			secrets = append(secrets, col)
			for _, v := range c.Values {
				r.crowd.Secret(v.Text())
			}
		}
	}
	if len(secrets) > 0 {
		f.Copy = withoutSecrets(t, secrets)
	}
	return ro
}

// headings gives columns of a roster the names that the file has for them.
func (r *reader) headings(n *yaml.Node, file string, t *table) {
	t.head = slices.Clone(t.columns)
	for _, e := range r.entries(n, "columns") {
		heading, ok := r.scalar(e.value, "columns: "+e.key.Value)
		if !ok {
			continue
		}
		i := slices.Index(t.head, strings.TrimSpace(heading))
		switch {
		case !fieldPattern.MatchString(e.key.Value):
			r.Add(pos(e.key), "columns: %q must be a name of letters, digits and _, so that formulas can use it", e.key.Value)
		case i < 0:
			r.Add(pos(e.value), "columns: the roster %s has no column %q%s", file, heading, formula.Hint(heading, t.head))
		case t.columns[i] != t.head[i]:
			r.Add(pos(e.value), "columns: %q is named twice: %s and %s", heading, t.columns[i], e.key.Value)
		default:
			t.columns[i] = e.key.Value
		}
	}
	for i, name := range t.columns {
		if at := t.column(name); at != i {
			r.Add(pos(n), "columns: the columns %q and %q of the roster %s would both be %q; choose another name", t.head[at], t.head[i],
				file, name)
		}
	}
}

// heading is what a column is called in the file.
func (t *table) heading(i int) string {
	if t.head != nil {
		return t.head[i]
	}
	return t.columns[i]
}

// column finds the type that all values of a column have: whole number, number,
// truth value, position, or else text. A number that a text would hold better,
// such as 007 or +49, is a text. An empty cell has no value.
func column(t *table, i int, secret bool) (signal.Type, []signal.Value) {
	typ := signal.Null
	if secret {
		typ = signal.Text
	}
	for _, row := range t.rows {
		if row[i] == "" || typ == signal.Text {
			continue
		}
		typ = widen(typ, cellType(row[i]))
	}
	if typ == signal.Null {
		typ = signal.Text
	}
	values := make([]signal.Value, len(t.rows))
	for k, row := range t.rows {
		if row[i] != "" {
			values[k] = cell(row[i], typ)
		}
	}
	return typ, values
}

// widen is the type that serves values of both; Null is that of none yet.
func widen(a, b signal.Type) signal.Type {
	number := func(t signal.Type) bool { return t == signal.Int || t == signal.Float }
	switch {
	case a == b, b == signal.Null:
		return a
	case a == signal.Null:
		return b
	case number(a) && number(b):
		return signal.Float
	}
	return signal.Text
}

func cellType(s string) signal.Type {
	if s == "true" || s == "false" {
		return signal.Bool
	}
	if isNumber(s) {
		if _, err := strconv.ParseInt(s, 10, 64); err == nil {
			return signal.Int
		}
		if _, err := strconv.ParseFloat(s, 64); err == nil && strings.ContainsAny(s, ".eE") {
			return signal.Float
		}
		return signal.Text // too long for a number
	}
	if _, err := quantity.ParsePosition(s); err == nil {
		return signal.Place
	}
	return signal.Text
}

func cell(s string, typ signal.Type) signal.Value {
	switch typ {
	case signal.Bool:
		return signal.OfBool(s == "true")
	case signal.Int:
		v, _ := strconv.ParseInt(s, 10, 64)
		return signal.OfInt(v)
	case signal.Float:
		v, _ := strconv.ParseFloat(s, 64)
		return signal.OfFloat(v)
	case signal.Place:
		p, _ := quantity.ParsePosition(s)
		return signal.OfPlace(p)
	}
	return signal.OfText(s)
}

// withoutSecrets is a roster's table with the secret cells taken out.
func withoutSecrets(t *table, secrets []string) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	if t.head != nil {
		w.Write(t.head)
	} else {
		w.Write(t.columns)
	}
	for _, row := range t.rows {
		out := append([]string(nil), row...)
		for i := range out {
			if contains(secrets, t.columns[i]) && out[i] != "" {
				out[i] = crowd.Redacted
			}
		}
		w.Write(out)
	}
	w.Flush()
	return b.Bytes()
}

// recordedFile is a file of recorded values, read once for all its columns.
type recordedFile struct {
	table *table // CSV, or
	rows  []map[string]any
	lines []int
}

// recording reads columns of a file of recorded values; the error says where it is
// wrong. A file that cannot be read is noted already: then both are nil.
func (r *reader) recording(n *yaml.Node, what, name, column, timeColumn string) (*signal.Recording, error) {
	if r.from.WithoutValues {
		return &signal.Recording{Values: []signal.Value{{}}}, nil
	}
	f := r.file(n, what, name)
	if f == nil {
		return nil, nil
	}
	rf := r.recordings[name]
	if rf == nil {
		var err error
		if rf, err = readRecorded(f); err != nil {
			return nil, err
		}
		r.recordings[name] = rf
	}
	return rf.series(column, timeColumn)
}

func readRecorded(f *crowd.File) (*recordedFile, error) {
	trimmed := bytes.TrimSpace(f.Data)
	if len(trimmed) == 0 {
		return nil, errors.New("is empty")
	}
	rf := &recordedFile{}
	if trimmed[0] != '{' {
		t, err := readTable(f.Data)
		if err != nil {
			return nil, err
		}
		rf.table = t
		return rf, nil
	}
	for i, line := range bytes.Split(f.Data, []byte("\n")) {
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(line))
		d.UseNumber()
		var row map[string]any
		if err := d.Decode(&row); err != nil || row == nil || d.More() {
			return nil, fmt.Errorf("line %d is not one JSON object", i+1)
		}
		if len(rf.rows) == maxRows {
			return nil, fmt.Errorf("has more than %d rows", maxRows)
		}
		rf.rows, rf.lines = append(rf.rows, row), append(rf.lines, i+1)
	}
	return rf, nil
}

// known lists the columns.
func (rf *recordedFile) known() []string {
	if rf.table != nil {
		return rf.table.columns
	}
	set := map[string]bool{}
	for _, row := range rf.rows {
		for k := range row {
			set[k] = true
		}
	}
	return slices.Sorted(maps.Keys(set))
}

// cells gives the values of a column, with the line of each.
func (rf *recordedFile) cells(name string) ([]signal.Value, []int, error) {
	if !contains(rf.known(), name) {
		return nil, nil, &columnError{name, formula.Hint(name, rf.known())}
	}
	if t := rf.table; t != nil {
		i := t.column(name)
		list := make([]signal.Value, len(t.rows))
		for k, row := range t.rows {
			if list[k] = signal.NoValue(); row[i] != "" {
				list[k] = cell(row[i], cellType(row[i])).Written(asWritten(row[i]))
			}
		}
		return list, t.lines, nil
	}
	list := make([]signal.Value, len(rf.rows))
	for k, row := range rf.rows {
		switch x := row[name].(type) {
		case nil:
			list[k] = signal.NoValue()
		case json.Number:
			if list[k], _ = crowd.Number(x.String()); list[k].Type() == signal.Null {
				return nil, nil, fmt.Errorf("line %d: %s in %q is not a number that a message can carry", rf.lines[k], x, name)
			}
		case bool:
			list[k] = signal.OfBool(x)
		case string:
			list[k] = signal.OfText(x)
		default:
			return nil, nil, fmt.Errorf("line %d: %q is not a single value", rf.lines[k], name)
		}
	}
	return list, rf.lines, nil
}

func (rf *recordedFile) series(column, timeColumn string) (*signal.Recording, error) {
	values, _, err := rf.cells(column)
	if err != nil {
		return nil, err
	}
	if len(values) == 0 {
		return nil, errors.New("has no row")
	}
	rec := &signal.Recording{Values: values, Gives: signal.Null}
	for _, v := range values {
		if v.Type() != signal.LeftOut {
			rec.Gives = widen(rec.Gives, v.Type())
		}
	}
	if timeColumn == "" {
		return rec, nil
	}
	times, lines, err := rf.cells(timeColumn)
	if err != nil {
		return nil, err
	}
	first := 0.0
	for k, v := range times {
		var at float64
		switch v.Type() {
		case signal.Int, signal.Float:
			at = v.Float()
		case signal.Text:
			t, err := time.Parse(time.RFC3339Nano, v.Text())
			if err != nil {
				return nil, fmt.Errorf("line %d: %q in the column %q is not a time; it must be RFC 3339, or seconds", lines[k],
					v.Text(), timeColumn)
			}
			at = float64(t.UnixMicro()) / 1e6
		default:
			return nil, fmt.Errorf("line %d: the column %q has no time", lines[k], timeColumn)
		}
		if k == 0 {
			first = at
		}
		if k > 0 && at-first < rec.Times[k-1] {
			return nil, fmt.Errorf("line %d: the time in the column %q is before that of the row above", lines[k], timeColumn)
		}
		rec.Times = append(rec.Times, at-first)
	}
	return rec, nil
}

// columnError is the error for a column that a recorded file does not have.
type columnError struct{ name, hint string }

func (e *columnError) Error() string { return fmt.Sprintf("there is no column %q%s", e.name, e.hint) }
