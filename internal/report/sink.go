package report

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
	"runcrowd/internal/wholefile"
)

// Sink writes a run in one form. It takes the messages one by one, as far as it wants them,
// and the judgement at the end. Its methods are called from one goroutine; after an error
// nothing more is handed to it.
type Sink interface {
	// Message takes a message, which is valid until it returns.
	Message(m *Message) error
	// End writes what is left to write.
	End(in *Input) error
}

// Format is a form in which a run can be written.
type Format struct {
	Name, Doc string
	endings   []string
	// Messages: it wants each message.
	Messages bool
	open     func(w io.Writer) Sink
	// file makes a sink that writes a file of its own; nil: open does.
	file func(path string) (Sink, error)
}

// Formats are all of them, in the order of the help.
var Formats = []*Format{
	{Name: "json", Doc: "the report as JSON (runcrowd schema report)", endings: []string{".json"}, open: whole(JSON)},
	{Name: "text", Doc: "the report as text", endings: []string{".txt"},
		open: whole(func(in *Input) ([]byte, error) { return []byte(Text(in, Style{})), nil })},
	{Name: "html", Doc: "a page for people, in one file", endings: []string{".html", ".htm"}, open: whole(HTML)},
	{Name: "markdown", Doc: "a summary for a ticket or a CI page", endings: []string{".md"},
		open: whole(func(in *Input) ([]byte, error) { return []byte(Markdown(in)), nil })},
	{Name: "junit", Doc: "JUnit XML, for CI systems", endings: []string{".xml"}, open: whole(JUnit)},
	{Name: "messages-csv", Doc: "every message, as CSV", endings: []string{".csv"}, Messages: true, open: newMessagesCSV},
	{Name: "messages-jsonl", Doc: "every message, as JSON Lines", endings: []string{".jsonl", ".ndjson"}, Messages: true,
		open: newMessagesJSON},
	{Name: "devices-csv", Doc: "every reading of every device, as CSV (also by a name that begins with devices)",
		open: whole(DevicesCSV)},
	{Name: "devices-jsonl", Doc: "the same as JSON Lines", open: whole(DevicesJSON)},
	{Name: "sqlite", Doc: "a database with tables and views to query", endings: []string{".db", ".sqlite", ".sqlite3"},
		Messages: true, file: newSQLite},
}

// FormatNamed finds a format by its name; nil: there is none.
func FormatNamed(name string) *Format {
	i := slices.IndexFunc(Formats, func(f *Format) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	return Formats[i]
}

// FormatOf finds a format by the name of a file; nil: its ending tells none.
func FormatOf(path string) *Format {
	name := strings.TrimSuffix(strings.ToLower(filepath.Base(path)), ".zst")
	ending := filepath.Ext(name)
	if strings.HasPrefix(name, "devices") && (ending == ".csv" || ending == ".jsonl") {
		return FormatNamed("devices-" + ending[1:])
	}
	i := slices.IndexFunc(Formats, func(f *Format) bool { return slices.Contains(f.endings, ending) })
	if i < 0 {
		return nil
	}
	return Formats[i]
}

// document is a sink that writes all at the end.
type document struct {
	w    io.Writer
	make func(in *Input) ([]byte, error)
}

func whole(make func(in *Input) ([]byte, error)) func(w io.Writer) Sink {
	return func(w io.Writer) Sink { return &document{w, make} }
}

// Message implements Sink.
func (d *document) Message(*Message) error { return nil }

// End implements Sink.
func (d *document) End(in *Input) error {
	text, err := d.make(in)
	if err == nil {
		_, err = d.w.Write(text)
	}
	return err
}

// File is a sink that writes a file, whole or not at all: what was there stays until then. A
// name that ends in .zst is compressed (RFC 8878); - is standard output.
type File struct {
	Path   string
	Format *Format
	sink   Sink
	whole  *wholefile.File // nil: standard output
	flush  []func() error
	failed error
}

// Create begins a file, over one that is there only by force. Out is standard output.
func Create(path string, f *Format, out io.Writer, force bool) (*File, error) {
	x := &File{Path: path, Format: f}
	packed := strings.HasSuffix(strings.ToLower(path), ".zst")
	if path == "-" {
		if f.open == nil {
			return nil, fmt.Errorf("%s cannot be written to standard output; name a file", f.Name)
		}
		b := bufio.NewWriter(out)
		x.flush, x.sink = append(x.flush, b.Flush), f.open(b)
		return x, nil
	}
	if f.file != nil && packed {
		return nil, fmt.Errorf("%s: %s is not compressed; leave out .zst", path, f.Name)
	}
	to, err := wholefile.New(path, force)
	if err != nil {
		return nil, err
	}
	x.whole = to
	if f.file != nil {
		err := errors.New("it is no regular file")
		if to.Regular() {
			x.sink, err = f.file(to.Name())
		}
		if err != nil {
			to.Drop()
			return nil, fmt.Errorf("%s cannot be written: %w", path, wholefile.Cause(err))
		}
		return x, nil
	}
	var w io.Writer = to
	if packed {
		z, err := zstd.NewWriter(to)
		if err != nil {
			to.Drop()
			return nil, err
		}
		x.flush = append(x.flush, z.Close)
		w = z
	}
	b := bufio.NewWriterSize(w, 64<<10)
	x.flush = append(x.flush, b.Flush)
	x.sink = f.open(b)
	return x, nil
}

// Message takes a message; an error is told by End.
func (x *File) Message(m *Message) {
	if x.failed == nil && x.Format.Messages {
		x.failed = x.sink.Message(m)
	}
}

// End writes the rest and puts the file in its place.
func (x *File) End(in *Input) error {
	if x.failed == nil {
		x.failed = x.sink.End(in)
	} else if c, is := x.sink.(io.Closer); is {
		c.Close()
	}
	for _, f := range slices.Backward(x.flush) {
		if err := f(); x.failed == nil {
			x.failed = err
		}
	}
	switch {
	case x.whole == nil:
	case x.failed == nil:
		x.failed = x.whole.Keep()
	default:
		x.whole.Drop()
	}
	if x.failed != nil {
		name := x.Path
		if name == "-" {
			name = "standard output"
		}
		return fmt.Errorf("%s could not be written: %w", name, wholefile.Cause(x.failed))
	}
	return nil
}

// Remove takes away what is written so far, from any goroutine, before the program ends.
func (x *File) Remove() {
	if x.whole != nil {
		x.whole.Drop()
	}
}

// Abandon leaves nothing behind.
func (x *File) Abandon() {
	x.failed = errors.New("abandoned")
	x.End(nil)
}

// Feed makes messages of what is judged, and hands them to files that want them. It is for
// tally.Options.Feed.
func Feed(f *ledger.Facts, only func(device string, v verdict.Verdict) bool, files []*File) tally.Each {
	var m Message
	return func(j *verdict.Judge, c *evidence.Case, r *verdict.Ruling, recovered bool) error {
		if only != nil && !only(f.Streams[c.Stream].Device, r.Verdict) {
			return nil
		}
		m.of(f, j, c, r, recovered)
		for _, x := range files {
			x.Message(&m)
		}
		return nil
	}
}
