package recording

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"runcrowd/internal/quantity"
)

// Source gives recorded messages in turn; io.EOF at the end.
type Source interface {
	Next() (Line, error)
	Close()
}

// Places say where a recorded message tells whose it is.
type Places struct {
	Topic *regexp.Regexp // of topics and paths, with the groups device and reading; see Pattern
	// Columns of CSV; Time empty: it is no CSV.
	Time, Device, Reading string
}

// Pattern makes the expression of a topic such as harbour/+/${device}/${reading}: + stands for
// a level, # at the end for all further ones. An empty one takes the last two levels.
func Pattern(s string) (*regexp.Regexp, error) {
	if s == "" {
		return regexp.MustCompile(`^(?:.*/)?(?P<device>[^/]+)/(?P<reading>[^/]+)$`), nil
	}
	var b strings.Builder
	b.WriteString("^")
	levels := strings.Split(s, "/")
	for i, level := range levels {
		if level == "#" && i == len(levels)-1 {
			b.WriteString(`(?:/.*)?`)
			break
		}
		if i > 0 {
			b.WriteString("/")
		}
		if level == "+" {
			b.WriteString(`[^/]*`)
			continue
		}
		q := regexp.QuoteMeta(level)
		q = strings.ReplaceAll(q, `\$\{device\}`, `(?P<device>[^/]+)`)
		b.WriteString(strings.ReplaceAll(q, `\$\{reading\}`, `(?P<reading>[^/]+)`))
	}
	b.WriteString("$")
	re, err := regexp.Compile(b.String())
	if err != nil || re.SubexpIndex("device") < 0 {
		return nil, fmt.Errorf("%q does not say where the device stands; write one such as harbour/+/${device}/${reading}", s)
	}
	return re, nil
}

// Whose finds out whose message a line is. Reading is empty where nothing tells it.
func (p *Places) Whose(l *Line) (device, reading string, ok bool) {
	if l.Device != "" {
		return l.Device, l.Reading, true
	}
	at := l.Topic
	if at == "" {
		at, _, _ = strings.Cut(l.Path, "?")
	}
	m := p.Topic.FindStringSubmatch(at)
	if m == nil {
		return "", "", false
	}
	if i := p.Topic.SubexpIndex("reading"); i >= 0 {
		reading = m[i]
	}
	return m[p.Topic.SubexpIndex("device")], reading, true
}

// Rows reads a CSV file with a head line (RFC 4180), a message a row: the columns that are none
// of the places are the fields of a JSON body.
type Rows struct {
	places *Places
	name   string
	file   io.Closer
	csv    *csv.Reader
	head   []string
	n      int
}

// OpenRows opens a CSV file.
func OpenRows(path string, p *Places) (*Rows, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return RowsOf(f, filepath.Base(path), p)
}

// RowsOf reads rows of a stream, which it closes.
func RowsOf(f io.ReadCloser, name string, p *Places) (*Rows, error) {
	r := &Rows{places: p, name: name, file: f, csv: csv.NewReader(f)}
	r.csv.ReuseRecord = true
	head, err := r.csv.Read()
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s has no head line: %w", name, err)
	}
	r.head = append([]string(nil), head...)
	for _, want := range []string{p.Time, p.Device, p.Reading} {
		if want != "" && !r.has(want) {
			f.Close()
			return nil, fmt.Errorf("%s has no column %q; its columns are %s", name, want, strings.Join(r.head, ", "))
		}
	}
	return r, nil
}

func (r *Rows) has(name string) bool {
	for _, h := range r.head {
		if h == name {
			return true
		}
	}
	return false
}

// Next implements Source.
func (r *Rows) Next() (Line, error) {
	row, err := r.csv.Read()
	if err != nil {
		if err != io.EOF {
			err = fmt.Errorf("%s: %w", r.name, err)
		}
		return Line{}, err
	}
	r.n++
	var l Line
	var b bytes.Buffer
	b.WriteByte('{')
	for i, name := range r.head {
		switch v := row[i]; name {
		case r.places.Time:
			at, ok := ParseTime(v)
			if !ok {
				return l, fmt.Errorf("%s: row %d: %q is no time", r.name, r.n, v)
			}
			l.At = at
		case r.places.Device:
			l.Device = v
		case r.places.Reading:
			l.Reading = v
		default:
			if v == "" {
				continue
			}
			if b.Len() > 1 {
				b.WriteByte(',')
			}
			key, _ := json.Marshal(name)
			b.Write(key)
			b.WriteByte(':')
			if json.Valid([]byte(v)) && strings.IndexAny(v[:1], `-0123456789tfn`) == 0 {
				b.WriteString(v)
			} else {
				text, _ := json.Marshal(v)
				b.Write(text)
			}
		}
	}
	b.WriteByte('}')
	l.Body, l.ContentType = b.Bytes(), "application/json"
	if l.Device == "" {
		return l, fmt.Errorf("%s: row %d names no device (column %q)", r.name, r.n, r.places.Device)
	}
	return l, nil
}

// Close implements Source.
func (r *Rows) Close() { r.file.Close() }

// ParseTime reads a time as people and machines write it: RFC 3339, or a number since 1970.
func ParseTime(s string) (time.Time, bool) {
	if t, ok := quantity.ParseInstant(s); ok {
		return t, true
	}
	return quantity.ParseUnix(s)
}

// OfBytes reads a recording that is in memory.
func OfBytes(b []byte) *Reader {
	return &Reader{name: "the recording", buf: bufio.NewReaderSize(bytes.NewReader(b), 64<<10)}
}
