// Package recording reads and writes recorded traffic: JSON Lines, a message a line, in an
// open format that docs/recording.md describes. Both are streamed: memory does not grow with
// the file.
package recording

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"runcrowd/internal/wholefile"
)

// Line is one recorded message.
type Line struct {
	At          time.Time // when it came
	Topic       string    // over MQTT; or
	Path        string    // over HTTP
	Method      string
	Body        []byte
	QoS         byte
	Retained    bool
	ContentType string
	Headers     []Pair // of HTTP
	// Of MQTT 5: user properties, the topic for an answer, what that is matched by, how long
	// the message lasts in seconds (0: for ever), whether its body is said to be a text.
	Properties  []Pair
	Response    string
	Correlation []byte
	Expiry      uint32
	UTF8        bool

	// Whose it is, where the file tells that beside the topic: of CSV.
	Device, Reading string
}

// Pair is a name and a value: names come more than once, and in an order.
type Pair [2]string

// line is a Line as it stands in a file.
type line struct {
	At          time.Time `json:"at"`
	Topic       string    `json:"topic,omitempty"`
	Path        string    `json:"path,omitempty"`
	Method      string    `json:"method,omitempty"`
	Body        *string   `json:"body,omitempty"`
	Base64      []byte    `json:"body_base64,omitempty"`
	QoS         byte      `json:"qos,omitempty"`
	Retained    bool      `json:"retained,omitempty"`
	ContentType string    `json:"content_type,omitempty"`
	Headers     []Pair    `json:"headers,omitempty"`
	Properties  []Pair    `json:"properties,omitempty"`
	Response    string    `json:"response_topic,omitempty"`
	Correlation []byte    `json:"correlation_base64,omitempty"`
	Expiry      uint32    `json:"expires_s,omitempty"`
	UTF8        bool      `json:"utf8,omitempty"`
}

// Append appends the line to b, with the line break.
func (l *Line) Append(b []byte) ([]byte, error) {
	x := line{At: l.At.UTC(), Topic: l.Topic, Path: l.Path, Method: l.Method, QoS: l.QoS, Retained: l.Retained,
		ContentType: l.ContentType, Headers: l.Headers, Properties: l.Properties,
		Response: l.Response, Correlation: l.Correlation, Expiry: l.Expiry, UTF8: l.UTF8}
	if utf8.Valid(l.Body) {
		s := string(l.Body)
		x.Body = &s
	} else {
		x.Base64 = l.Body
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(&x); err != nil {
		return b, err
	}
	return append(b, out.Bytes()...), nil
}

// Parse reads a line. Keys that it does not know are passed over.
func Parse(b []byte) (Line, error) {
	var x line
	if err := json.Unmarshal(b, &x); err != nil {
		return Line{}, fmt.Errorf("it is no recorded message: %w", err)
	}
	l := Line{At: x.At, Topic: x.Topic, Path: x.Path, Method: x.Method, QoS: x.QoS, Retained: x.Retained,
		ContentType: x.ContentType, Headers: x.Headers, Properties: x.Properties,
		Response: x.Response, Correlation: x.Correlation, Expiry: x.Expiry, UTF8: x.UTF8}
	switch {
	case x.At.IsZero():
		return l, errors.New(`it has no time ("at")`)
	case x.Topic == "" && x.Path == "":
		return l, errors.New(`it has neither a "topic" nor a "path"`)
	case x.Body != nil && x.Base64 != nil:
		return l, errors.New(`it has both "body" and "body_base64"`)
	case x.QoS > 2:
		return l, fmt.Errorf("there is no QoS %d", x.QoS)
	}
	if l.Body = x.Base64; x.Body != nil {
		l.Body = []byte(*x.Body)
	}
	return l, nil
}

// MostLine bounds a line, in bytes.
const MostLine = 64 << 20

// Reader reads one or several files, one behind the other.
type Reader struct {
	paths []string
	name  string // of the file that is read
	n     int    // its lines so far
	file  *os.File
	zip   *gzip.Reader
	buf   *bufio.Reader
	// Torn is where the last line of a file was not written whole; empty: nowhere.
	Torn  string
	empty int // lines
}

// Open opens recordings; gzip is recognised by its first bytes.
func Open(paths ...string) *Reader { return &Reader{paths: paths} }

// Next is the next line; io.EOF at the end. Other errors say where. A last line that was not
// written whole is passed over.
func (r *Reader) Next() (Line, error) {
	for {
		if r.buf == nil {
			if len(r.paths) == 0 {
				return Line{}, io.EOF
			}
			if err := r.open(r.paths[0]); err != nil {
				return Line{}, err
			}
			r.paths = r.paths[1:]
		}
		b, err := r.line()
		switch {
		case err == io.EOF && len(bytes.TrimSpace(b)) == 0:
			r.Close()
			continue
		case errors.Is(err, io.ErrUnexpectedEOF) && len(bytes.TrimSpace(b)) == 0: // compressed, and cut off
			r.Torn = fmt.Sprintf("%s:%d", r.name, r.n)
			r.Close()
			continue
		case err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF):
			return Line{}, fmt.Errorf("%s:%d: %w", r.name, r.n, err)
		case len(bytes.TrimSpace(b)) == 0:
			if r.empty++; r.empty > mostEmpty {
				return Line{}, fmt.Errorf("%s:%d: more than %d empty lines: this is no recording", r.name, r.n, mostEmpty)
			}
			continue
		}
		l, wrong := Parse(b)
		if wrong != nil && err != nil {
			r.Torn = fmt.Sprintf("%s:%d", r.name, r.n)
			r.Close()
			continue
		}
		if wrong != nil {
			return Line{}, fmt.Errorf("%s:%d: %w", r.name, r.n, wrong)
		}
		return l, nil
	}
}

// line reads to the next line break.
func (r *Reader) line() ([]byte, error) {
	r.n++
	var all []byte
	for {
		b, err := r.buf.ReadSlice('\n')
		if err == nil && all == nil {
			return b, nil
		}
		if all = append(all, b...); len(all) > MostLine {
			return nil, fmt.Errorf("the line is longer than %d MiB", MostLine>>20)
		}
		if err != bufio.ErrBufferFull {
			return all, err
		}
	}
}

// mostEmpty is how many empty lines a recording may have.
const mostEmpty = 1_000_000

func (r *Reader) open(path string) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("%s: it is no regular file", filepath.Base(path))
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	r.name, r.n, r.file, r.buf = filepath.Base(path), 0, f, bufio.NewReaderSize(f, 64<<10)
	if head, _ := r.buf.Peek(2); len(head) == 2 && head[0] == 0x1f && head[1] == 0x8b {
		if r.zip, err = gzip.NewReader(r.buf); err != nil {
			r.Close()
			return fmt.Errorf("%s: %w", r.name, err)
		}
		r.buf = bufio.NewReaderSize(r.zip, 64<<10)
	}
	return nil
}

// Close closes the file that is being read.
func (r *Reader) Close() {
	if r.file != nil {
		r.file.Close()
	}
	r.file, r.zip, r.buf = nil, nil, nil
}

// Options say how a recording is written.
type Options struct {
	MaxSize int64         // begin a new file at this size, in bytes; 0: never
	Every   time.Duration // begin a new file after this time; 0: never
	Zip     bool          // compress with gzip; so does a name that ends in .gz
}

// Writer writes a recording. Each line is whole on the disk, or at the end of the file and not
// whole: what was written before is never touched.
type Writer struct {
	path  string
	opt   Options
	file  *os.File
	zip   *gzip.Writer
	began time.Time
	size  int64
	buf   []byte
	// Files are those that were written, Lines how many lines.
	Files []string
	Lines int64
}

// Create opens a file to append to, or makes it. It is its owner's alone.
func Create(path string, opt Options) (*Writer, error) {
	opt.Zip = opt.Zip || strings.HasSuffix(path, ".gz")
	w := &Writer{path: path, opt: opt}
	return w, w.begin(time.Now())
}

// begin opens the next file.
func (w *Writer) begin(now time.Time) error {
	path := w.path
	if w.opt.Zip && !strings.HasSuffix(path, ".gz") {
		path += ".gz"
	}
	// Behind a compressed file that was cut off nothing could be read: a new one is begun.
	if err := wholefile.NoEvidence(path); err != nil {
		return err
	}
	info, err := os.Stat(path)
	if w.opt.MaxSize > 0 || w.opt.Every > 0 || w.opt.Zip && err == nil && info.Size() > 0 {
		dir, name := filepath.Split(path)
		stem, ext, _ := strings.Cut(name, ".")
		for n := 0; ; n++ {
			stamp := now.UTC().Format("20060102-150405")
			if n > 0 {
				stamp += fmt.Sprintf("-%d", n)
			}
			path = dir + stem + "-" + stamp + "." + ext
			if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
				break
			}
		}
	}
	f, err := os.OpenFile(path, os.O_RDWR|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	info, err = f.Stat()
	if err == nil && info.Size() > 0 && !w.opt.Zip {
		last := make([]byte, 1)
		if _, err = f.ReadAt(last, info.Size()-1); err == nil && last[0] != '\n' { // somebody was killed
			_, err = f.Write([]byte{'\n'})
		}
	}
	if err != nil {
		f.Close()
		return err
	}
	w.file, w.began, w.size = f, now, info.Size()
	if w.opt.Zip {
		w.zip = gzip.NewWriter(f)
	}
	w.Files = append(w.Files, path)
	return nil
}

// Write appends a line.
func (w *Writer) Write(l *Line) error {
	var err error
	if w.buf, err = l.Append(w.buf[:0]); err != nil {
		return err
	}
	now := time.Now()
	if w.opt.MaxSize > 0 && w.size > 0 && w.size+int64(len(w.buf)) > w.opt.MaxSize ||
		w.opt.Every > 0 && now.Sub(w.began) >= w.opt.Every {
		if err := w.Close(); err != nil {
			return err
		}
		if err := w.begin(now); err != nil {
			return err
		}
	}
	w.Lines++
	w.size += int64(len(w.buf))
	if w.zip != nil {
		_, err = w.zip.Write(w.buf)
		return err
	}
	_, err = w.file.Write(w.buf)
	return err
}

// Flush puts what is compressed on the disk.
func (w *Writer) Flush() error {
	if w.zip == nil {
		return nil
	}
	return w.zip.Flush()
}

// Close ends the file.
func (w *Writer) Close() error {
	var err error
	if w.zip != nil {
		err = w.zip.Close()
		w.zip = nil
	}
	return errors.Join(err, w.file.Close())
}
