package cli

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"runcrowd/examples"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/foreign"
	"runcrowd/internal/quantity"
	"runcrowd/internal/recording"
	"runcrowd/internal/sketch"
	"runcrowd/internal/witness/listen"
)

// learning is traffic that a fleet is learnt from: a recording, or what comes at an address.
type learning struct {
	at      sketch.Options // who listens
	address string
	topic   string
	path    string // of the recording
	length  string // how long is listened
}

// recorded tells whether a file is a recording: its first line is a recorded message.
func recorded(path string) bool {
	if path == "-" {
		return false
	}
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return false
	}
	line, err := bufio.NewReaderSize(f, 1<<16).ReadSlice('\n')
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return false
	}
	if bytes.HasPrefix(line, []byte{0x1f, 0x8b}) { // gzip: no sample is compressed
		return true
	}
	_, err = recording.Parse(line)
	return err == nil
}

// writeHeard writes a crowd file that is learnt from traffic.
func (e *env) writeHeard(dir string, l *learning) error {
	name, err := nameFor(dir)
	if err != nil {
		return err
	}
	var heard sketch.Heard
	redact := func(s string) string { return s }
	if l.length != "" {
		redact, err = e.hear(l, &heard)
	} else {
		err = readHeard(l.path, &heard)
	}
	if err != nil {
		return err
	}
	if heard.Messages == 0 && l.length != "" {
		return fmt.Errorf("nothing came in %s: listen longer, or check --topic and what the user may read", l.length)
	}
	fleet, err := heard.Learn(l.topic)
	if err != nil {
		return err
	}
	address := l.address
	switch {
	case address != "":
	case fleet.OverHTTP:
		address = "http://" + examples.HTTPAddress
	default:
		address = "mqtt://" + examples.MQTTAddress
	}
	o := l.at
	o.Name, o.Address, o.For = name, address, "1m"
	text, err := fleet.Crowd(o)
	if err != nil {
		return err
	}
	text = redact(text)
	files := map[string][]byte{}
	for column, values := range fleet.Columns {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.Write([]string{column})
		for _, v := range values {
			w.Write([]string{redact(fmt.Sprint(v))})
		}
		w.Flush()
		files[column+".csv"] = b.Bytes()
	}
	path, err := writeCrowd(dir, text, files)
	if err != nil {
		return err
	}
	if _, err := file.Load(path); err != nil {
		return fmt.Errorf("%s was written, and has a mistake: %w", path, sketchError(err))
	}
	fmt.Fprintf(e.stdout, "Learnt from %s: %s.\n", plural(heard.Messages, "message"), strings.Join(fleet.Kinds(), ", "))
	fmt.Fprintf(e.stdout, "Wrote %s", path)
	for _, other := range fileNames(files) {
		fmt.Fprintf(e.stdout, ", %s", filepath.Join(dir, other))
	}
	fmt.Fprintln(e.stdout, ".")
	for _, note := range fleet.Looks() {
		fmt.Fprintf(e.stdout, "Look at this: %s.\n", redact(note))
	}
	fmt.Fprintf(e.stdout, "\nSee what it would send:\n  %s check %s\n  %s preview %s\n\nPlay it, or a hundred times as many:\n  %s run %s\n",
		e.program, path, e.program, path, e.program, path)
	return nil
}

// readHeard reads a recording.
func readHeard(path string, heard *sketch.Heard) error {
	r := recording.Open(path)
	defer r.Close()
	for {
		l, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("--sample: %w", err)
		}
		if heard.Add(&l); heard.Full {
			return nil
		}
	}
}

// hear listens for a while.
func (e *env) hear(l *learning, heard *sketch.Heard) (redact func(string) string, err error) {
	if l.address == "" {
		return nil, errors.New("--listen needs --address, the broker to listen at")
	}
	d, err := quantity.ParseDuration(l.length)
	if err != nil || d <= 0 {
		return nil, fmt.Errorf("--listen: %q is not a time above zero, such as 2m", l.length)
	}
	l.at.Address = l.address
	filter := "#"
	if l.topic != "" {
		levels := strings.Split(strings.ReplaceAll(l.topic, "${device}", "{device}"), "/")
		if i := slices.Index(levels, "{device}"); i >= 0 {
			levels[i] = "+"
		}
		filter = strings.Join(levels, "/")
	}
	f, spec, err := e.listenerAt(l.at, filter)
	if err != nil {
		return nil, err
	}
	l.at.Password = "" // it was the listener's; devices have their own
	ctx, stop := interruptible()
	defer stop()
	fmt.Fprintf(e.stderr, "Listening to %s on %s for %s. Ctrl-C ends it earlier.\n", foreign.Line(filter, 60), spec.Link.URL(), quantity.FormatDuration(d))
	unheard, err := listen.Record(ctx, d, f, spec, heard.Add)
	if err != nil {
		return nil, fail(err, f.Crowd)
	}
	e.tellUnheard(&unheard, f.Crowd.Redact)
	return f.Crowd.Redact, nil
}
