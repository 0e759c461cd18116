// Package rowfile reads rows out of the files that platforms export: CSV (RFC 4180), JSON
// and JSON Lines, SenML in JSON (RFC 8428) and line protocol, plain or compressed with gzip
// (RFC 1952) or zstd (RFC 8878). A file is read line by line, in bounded memory, while
// others may still write to it.
package rowfile

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"runcrowd/internal/decimal"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// Form is how rows are written in a file.
type Form string

// The forms.
const (
	CSV          Form = "csv"
	JSON         Form = "json"
	SenML        Form = "senml"
	LineProtocol Form = "line-protocol"
)

// Forms are all of them.
var Forms = []string{string(CSV), string(JSON), string(SenML), string(LineProtocol)}

var endings = map[string]Form{".csv": CSV, ".tsv": CSV, ".json": JSON, ".jsonl": JSON, ".ndjson": JSON,
	".senml": SenML, ".senmlj": SenML, ".lp": LineProtocol, ".line": LineProtocol}

// FormOf is the form of a file, or of those that match a pattern, by the ending, before that
// of a compressed one; empty where it is not known.
func FormOf(name string) Form {
	name = strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(name), "*"), ".")
	for _, c := range []string{".gz", ".zst"} {
		name = strings.TrimSuffix(name, c)
	}
	return endings[filepath.Ext(name)]
}

// Names lists the files that a pattern stands for: one file, those that match, or those in
// a folder, whose endings tell their form, unless one is given. A compressed file is left
// out while the one that it is made of is still there. They are in order.
func Names(pattern string, form Form) ([]string, error) {
	var list []string
	if info, err := os.Stat(pattern); err == nil && info.IsDir() {
		entries, err := os.ReadDir(pattern)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if !e.IsDir() && (form != "" || FormOf(e.Name()) != "") {
				list = append(list, filepath.Join(pattern, e.Name()))
			}
		}
	} else {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return nil, fmt.Errorf("%q is no pattern of file names: %w", pattern, err)
		}
		for _, name := range found {
			if info, err := os.Stat(name); err == nil && !info.IsDir() {
				list = append(list, name)
			}
		}
	}
	slices.Sort(list)
	return slices.DeleteFunc(list, func(name string) bool {
		for _, c := range []string{".gz", ".zst"} {
			if whole, is := strings.CutSuffix(name, c); is && slices.Contains(list, whole) {
				return true
			}
		}
		return false
	}), nil
}

// Reader reads the rows of a file.
type Reader struct {
	path, name string
	form       Form
	most       int64
	columns    []string
	close      []func() error

	in     *bounded
	lines  *bufio.Reader
	csv    *csv.Reader
	head   []string
	packed bool
	n      int   // lines, or rows of CSV
	rows   []any // that a line held and that were not given yet
	ahead  []string
	err    error // behind what is ahead
	ended  bool
}

// Options say how a file is read.
type Options struct {
	Form   Form  // empty: by its ending
	MaxRow int64 // bytes
	// Columns are names that the head of CSV has to have. A line that holds all of them is
	// another head.
	Columns []string
}

// HalfError is the error for a last line that is not whole, or may not be: somebody may
// still be writing it. Row is what it holds so far, or nil.
type HalfError struct {
	File string
	Row  any
}

func (e *HalfError) Error() string {
	return fmt.Sprintf("%s ends in the middle of a line", e.File)
}

// CutError is the error for a compressed file that is not whole: somebody may still be
// writing it.
type CutError struct{ File string }

func (e *CutError) Error() string { return fmt.Sprintf("%s is compressed, and not whole", e.File) }

// Open opens a file.
func Open(path string, opt Options) (*Reader, error) {
	r := &Reader{path: path, name: filepath.Base(path), form: opt.Form, most: opt.MaxRow, columns: opt.Columns}
	if r.form == "" {
		if r.form = FormOf(path); r.form == "" {
			return nil, fmt.Errorf("the ending of %s tells no form; say form: csv, json, senml or line-protocol", path)
		}
	}
	// Looked at first: to open a pipe waits for somebody who writes to it.
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no regular file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r.close = append(r.close, f.Close)
	var in io.Reader = f
	switch lower := strings.ToLower(path); {
	case strings.HasSuffix(lower, ".gz"):
		r.packed = true
		z, err := gzip.NewReader(bufio.NewReader(f))
		if err != nil {
			r.Close()
			return nil, r.unpacked(err)
		}
		in = z
	case strings.HasSuffix(lower, ".zst"):
		r.packed = true
		z, err := zstd.NewReader(f, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			r.Close()
			return nil, r.unpacked(err)
		}
		r.close = append(r.close, func() error { z.Close(); return nil })
		in = z
	}
	return r, r.from(in)
}

// Read reads rows from what is no file; name is what it is called in errors. Its form has to be told.
func Read(name string, in io.Reader, opt Options) (*Reader, error) {
	r := &Reader{path: name, name: name, form: opt.Form, most: opt.MaxRow, columns: opt.Columns}
	return r, r.from(in)
}

// from begins to read.
func (r *Reader) from(in io.Reader) error {
	r.in = &bounded{r: in, most: r.most + 64<<10}
	r.in.reset()
	r.lines = bufio.NewReader(r.in)
	if mark, err := r.lines.Peek(3); err == nil && string(mark) == "\xef\xbb\xbf" { // a byte order mark
		r.lines.Discard(3)
	}
	if r.form == CSV {
		return r.begin()
	}
	return nil
}

// Close closes the file.
func (r *Reader) Close() {
	for _, f := range slices.Backward(r.close) {
		f()
	}
	r.close = nil
}

// bounded is a reader that gives no more than most bytes between two resets.
type bounded struct {
	r    io.Reader
	most int64
	left int64
	last byte
	over bool // it ended: what is written behind its end meanwhile belongs to the next reading
}

var errLong = errors.New("too long")

func (b *bounded) reset() { b.left = b.most }

func (b *bounded) Read(p []byte) (int, error) {
	if b.over {
		return 0, io.EOF
	}
	if b.left <= 0 {
		return 0, errLong
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	if n > 0 {
		b.last = p[n-1]
	}
	b.over = err == io.EOF
	return n, err
}

// wrong tells what is wrong where.
func (r *Reader) wrong(format string, args ...any) error {
	return fmt.Errorf("%s:%d: %s", r.path, r.n, fmt.Sprintf(format, args...))
}

// unpacked is what is wrong with a compressed file, or with reading any.
func (r *Reader) unpacked(err error) error {
	switch {
	case errors.Is(err, errLong):
		return r.wrong("a row is longer than max_row, %s; raise it", quantity.FormatSize(r.most))
	case r.packed && (errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF)):
		return &CutError{r.path}
	}
	return fmt.Errorf("%s: %w", r.path, err)
}

// begin reads the head of a CSV file.
func (r *Reader) begin() error {
	r.in.reset()
	first, err := r.lines.Peek(4096)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		r.Close()
		return r.unpacked(err)
	}
	line, _, whole := bytes.Cut(first, []byte("\n"))
	r.csv = csv.NewReader(r.lines)
	r.csv.FieldsPerRecord, r.csv.Comma = -1, ','
	for _, c := range ";\t|" {
		if bytes.Count(line, []byte(string(c))) > bytes.Count(line, []byte(string(r.csv.Comma))) {
			r.csv.Comma = c
		}
	}
	if len(first) == 0 || !whole && len(first) < 4096 {
		r.ended = true // the head is not there yet
		return nil
	}
	head, err := r.csv.Read()
	if err != nil {
		r.Close()
		return r.unpacked(err)
	}
	r.n = 1
	if err := r.setHead(head); err != nil {
		r.Close()
		return err
	}
	return nil
}

func (r *Reader) setHead(head []string) error {
	for i, name := range head {
		head[i] = strings.TrimSpace(name)
		if slices.Contains(head[:i], head[i]) {
			return r.wrong("two columns are called %q", head[i])
		}
	}
	for _, name := range r.columns {
		if !slices.Contains(head, name) {
			list := head[:min(len(head), 20)]
			return r.wrong("there is no column %q; the head has %s", name, strings.Join(list, ", "))
		}
	}
	r.head = head
	return nil
}

// Next gives the next row; io.EOF at the end. Other errors than a *HalfError or a *CutError
// are of a file that cannot be read on.
func (r *Reader) Next() (any, error) {
	if r.form == CSV {
		return r.nextCSV()
	}
	for len(r.rows) == 0 {
		if r.ended {
			return nil, io.EOF
		}
		line, err := r.line()
		if err != nil && err != io.EOF {
			return nil, err
		}
		r.ended = err == io.EOF
		line = bytes.TrimSpace(line)
		if len(line) == 0 {
			continue
		}
		rows, wrong := r.parse(line)
		switch {
		case r.ended && (wrong != nil || r.form == LineProtocol): // its last number may go on
			half := &HalfError{File: r.path}
			if wrong == nil {
				half.Row = rows[0]
			}
			return nil, half
		case wrong != nil:
			return nil, r.wrong("%s", wrong)
		}
		r.rows = rows
	}
	row := r.rows[0]
	r.rows = r.rows[1:]
	return row, nil
}

// line reads a line; io.EOF with one that has no end.
func (r *Reader) line() ([]byte, error) {
	r.in.reset()
	r.n++
	line, err := r.lines.ReadBytes('\n')
	if int64(len(line)) > r.most {
		return nil, r.unpacked(errLong)
	}
	if err != nil && err != io.EOF {
		return nil, r.unpacked(err)
	}
	return line, err
}

// parse reads what stands on a line.
func (r *Reader) parse(line []byte) ([]any, error) {
	switch r.form {
	case LineProtocol:
		if line[0] == '#' {
			return nil, nil
		}
		x, err := payload.ParseLine(string(line))
		if err != nil {
			return nil, err
		}
		tags := map[string]any{}
		for name, v := range x.Tags {
			tags[name] = v
		}
		row := map[string]any{"series": x.Series, "tags": tags, "fields": x.Fields, "time": nil}
		if x.Time != "" {
			row["time"] = x.Time
		}
		return []any{row}, nil
	case SenML:
		v, err := r.decode(line)
		if err != nil {
			return nil, err
		}
		return packRows(v)
	}
	v, err := r.decode(line)
	if list, is := v.([]any); is {
		return list, err
	}
	return []any{v}, err
}

// decode reads a JSON value that begins on a line, and may go on over further ones.
func (r *Reader) decode(line []byte) (any, error) {
	v, err := strictjson.Decode(line)
	if err == nil || r.n > 1 || line[0] != '[' && line[0] != '{' || json.Valid(line) {
		return v, err
	}
	r.in.left = MaxDocument
	rest, readErr := io.ReadAll(io.LimitReader(r.lines, MaxDocument))
	if readErr != nil || len(rest) == 0 || !json.Valid(append(append([]byte(nil), line...), rest...)) {
		if len(rest) == MaxDocument {
			return nil, fmt.Errorf("it is one JSON value of more than %s; write a row a line", quantity.FormatSize(MaxDocument))
		}
		r.ended = r.ended || len(rest) > 0
		return nil, err
	}
	return strictjson.Decode(append(append([]byte(nil), line...), rest...))
}

// MaxDocument is the longest JSON file that is one value, in bytes.
const MaxDocument = 64 << 20

// nextCSV gives the next row of CSV. One is read ahead: the last may not be whole.
func (r *Reader) nextCSV() (any, error) {
	for {
		if r.ahead == nil && r.err == nil && !r.ended {
			r.ahead, r.err = r.record()
		}
		if r.ahead == nil {
			if r.err != nil && !r.ended {
				r.ended = true
				return nil, r.err
			}
			return nil, io.EOF
		}
		record := r.ahead
		r.ahead, r.err = r.record()
		if r.ahead == nil && r.err == io.EOF && r.in.last != '\n' {
			r.ended = true
			half := &HalfError{File: r.path}
			if len(record) == len(r.head) {
				half.Row = r.row(record)
			}
			return nil, half
		}
		r.n++
		switch {
		case r.isHead(record):
			if err := r.setHead(record); err != nil {
				return nil, err
			}
			continue
		case len(record) != len(r.head):
			return nil, r.wrong("the row has %d cells, and the head has %d columns", len(record), len(r.head))
		}
		return r.row(record), nil
	}
}

// isHead tells whether a row is a head again: a file that was put together of several has
// more than one.
func (r *Reader) isHead(record []string) bool {
	if slices.Equal(record, r.head) {
		return true
	}
	for _, name := range r.columns {
		if !slices.Contains(record, name) {
			return false
		}
	}
	return len(r.columns) > 0
}

func (r *Reader) record() ([]string, error) {
	r.in.reset()
	record, err := r.csv.Read()
	switch {
	case err == nil || err == io.EOF:
		return record, err
	case errors.Is(err, csv.ErrQuote) && r.in.last != '\n':
		return nil, &HalfError{File: r.path}
	case errors.Is(err, csv.ErrQuote) || errors.Is(err, csv.ErrBareQuote):
		r.n++
		return nil, r.wrong("a quote does not end, or stands where none belongs")
	}
	r.n++
	return nil, r.unpacked(err)
}

func (r *Reader) row(record []string) any {
	row := make(map[string]any, len(record))
	for i, name := range r.head {
		row[name] = record[i]
	}
	return row
}

// packRows makes rows of a SenML pack: what has one base name and one time is one (RFC
// 8428, section 4.6).
func packRows(v any) ([]any, error) {
	list, is := v.([]any)
	if one, object := v.(map[string]any); object {
		list, is = []any{one}, true
	}
	if !is {
		return nil, errors.New("not SenML: it is no list of records")
	}
	var rows []any
	known := map[string]map[string]any{}
	base, baseTime := "", decimal.Number{}
	for _, x := range list {
		r, is := x.(map[string]any)
		if !is {
			return nil, errors.New("not SenML: a record is no object")
		}
		if r["bv"] != nil || r["bs"] != nil {
			return nil, errors.New("a SenML record has a base value or base sum, which is not read here")
		}
		if s, is := r["bn"].(string); is {
			base = s
		}
		if n, is := r["bt"].(json.Number); is {
			if baseTime, is = decimal.Parse(n.String()); !is {
				return nil, fmt.Errorf("the SenML base time %s is beyond all bounds", n)
			}
		}
		name, _ := r["n"].(string)
		device := base
		if base == "" { // resolved: the name is whole
			if i := strings.LastIndexAny(name, "/:"); i >= 0 {
				device, name = name[:i+1], name[i+1:]
			}
		}
		at := baseTime
		if n, is := r["t"].(json.Number); is {
			t, is := decimal.Parse(n.String())
			if !is {
				return nil, fmt.Errorf("the SenML time %s is beyond all bounds", n)
			}
			at = at.Add(t)
		}
		var value any
		for _, label := range []string{"v", "vs", "vb", "vd"} {
			if x, there := r[label]; there {
				value = x
			}
		}
		if value == nil {
			continue
		}
		k := fmt.Sprintf("%s %s", device, at)
		row := known[k]
		if row == nil {
			row = map[string]any{"name": device, "time": json.Number(at.String()), "values": map[string]any{}}
			known[k] = row
			rows = append(rows, row)
		}
		values := row["values"].(map[string]any)
		if _, twice := values[name]; twice {
			return nil, fmt.Errorf("the name %q stands twice at one time", name)
		}
		values[name] = value
	}
	return rows, nil
}
