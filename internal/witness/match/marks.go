package match

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// Part is one message found in a body or row: its mark, as it stands there, and
// its values as JSON has them.
type Part struct {
	Mark   any
	Values any
}

// Parts takes a body apart into its messages. Filed is the stream under which it
// was found, or -1; forms are tried in turn where it is not known.
func (c *Catalog) Parts(body []byte, filed int) []Part {
	forms := c.forms
	json := true
	if filed >= 0 {
		forms, json = nil, c.Fleet.Streams[filed].Form == nil
		if !json {
			forms = []payload.Form{c.Fleet.Streams[filed].Form}
		}
	}
	if json {
		if v, err := strictjson.Decode(body); err == nil {
			if parts, marked := c.Objects(v); marked || len(forms) == 0 {
				return parts
			}
		}
	}
	for _, f := range forms {
		found, err := f.Read(body)
		if err != nil {
			continue
		}
		var parts []Part
		marked := false
		for _, x := range found {
			parts = append(parts, Part{x.Mark, x.Values})
			marked = marked || x.Mark != nil
		}
		if marked || filed >= 0 {
			return parts
		}
	}
	return nil
}

// Objects are the messages of a JSON value: of an object, or of a list of them
// where messages are sent in batches.
func (c *Catalog) Objects(v any) (parts []Part, marked bool) {
	list := []any{v}
	if several, is := v.([]any); is && c.batches {
		list = several
	}
	for _, x := range list {
		p := Part{Values: x}
		if object, is := x.(map[string]any); is {
			for _, place := range c.Places {
				if m, has := strictjson.At(object, place.Name); has && p.Mark == nil && place.Place <= crowd.MarkSequence {
					p.Mark, marked = m, true
				}
			}
		}
		parts = append(parts, p)
	}
	return parts, marked
}

// MarkIn is what stands in a value under the name of a mark: a store may keep a property or a
// header in a column.
func (c *Catalog) MarkIn(v any) (any, bool) {
	for _, place := range c.Places {
		if m, has := strictjson.At(v, place.Name); has {
			return m, true
		}
	}
	return nil, false
}

// Whose is what a mark says.
type Whose struct {
	ledger.Mark
	Stream int  // -1: none of the run
	Ours   bool // the mark is of this run
	Marked bool // it is a mark at all
}

// Mark reads a mark as it rides at one place.
func (c *Catalog) Mark(v any) (w Whose) {
	w.Stream = -1
	text := ""
	switch x := v.(type) {
	case string:
		if m, err := ledger.ParseMark(x); err == nil {
			return c.Whose(m)
		}
		text = x
	case json.Number:
		text = x.String()
	case float64, int:
		text = formula.String(x)
	default:
		return w
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || text[0] == '0' && len(text) > 1 {
		return w
	}
	w.Marked = true
	if i, seq, ok := c.numbers.Message(n); ok && i < len(c.Fleet.Streams) {
		s := c.Fleet.Streams[i]
		w.Mark, w.Stream, w.Ours = ledger.Mark{Run: c.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq}, i, true
	}
	return w
}

// Raw finds the mark of a corrupted message that stands anywhere in bytes that cannot be read.
func (c *Catalog) Raw(b []byte) (w Whose, found bool) {
	w.Stream = -1
	if c.Corrupted == nil {
		return w, false
	}
	run := []byte(c.Run + "/")
	for {
		i := bytes.Index(b, run)
		if i < 0 {
			return w, false
		}
		b = b[i:]
		end := bytes.IndexAny(b, "\"'\\<>&,; \t\r\n\x00")
		if end < 0 {
			return w, false // its number may be cut off
		}
		if m, err := ledger.ParseMark(string(b[:end])); err == nil {
			if w = c.Whose(m); w.Stream >= 0 && c.Corrupted(w.Stream, m.Seq) {
				return w, true
			}
		}
		b = b[len(run):]
	}
}

// Whose is what a mark that is a text says.
func (c *Catalog) Whose(m ledger.Mark) Whose {
	return Whose{Mark: m, Stream: c.Stream(m.Device, m.Reading), Ours: m.Run == c.Run, Marked: true}
}

// TimeOf reads a time as platforms tell it: RFC 3339, or a number since 1970 in
// seconds, milliseconds, microseconds or nanoseconds, told apart by its size, with or
// without a fraction.
func TimeOf(v any) (time.Time, bool) {
	switch x := v.(type) {
	case string:
		if t, ok := quantity.ParseInstant(x); ok {
			return t, true
		}
		return quantity.ParseUnix(x)
	case json.Number:
		return quantity.ParseUnix(x.String())
	case float64, int:
		return quantity.ParseUnix(formula.String(x))
	}
	return time.Time{}, false
}

// Compile compiles an expression; nil for an empty one.
func Compile(into **jq.Query, source string, variables ...string) (err error) {
	if source != "" {
		*into, err = jq.Parse(source, variables...)
	}
	return err
}

// Fill adds to a sighting what the file's jq expressions pick out of a row; columns says
// that what it picks may be a column of text.
func Fill(x *ledger.Sighting, row any, columns bool, device, reading, at, values *jq.Query) {
	text := func(p *jq.Query, into *string) {
		if p == nil {
			return
		}
		if v, err := p.One(row); err == nil && v != nil {
			if n, is := v.(json.Number); is {
				v = n.String()
			}
			*into = formula.String(v)
		}
	}
	text(device, &x.FiledDevice)
	text(reading, &x.FiledReading)
	if at != nil {
		if v, err := at.One(row); err == nil {
			x.Stored, _ = TimeOf(v)
		}
	}
	if values != nil {
		v, err := values.One(row)
		if err != nil {
			v = nil
		}
		if s, is := v.(string); is && columns { // a column that holds an object as text
			if object, err := strictjson.Decode([]byte(s)); err == nil {
				if _, is := object.(map[string]any); is {
					v = object
				}
			}
		}
		x.Values, _ = json.Marshal(v)
	}
}

// Clip is the beginning of a foreign text, quoted.
func Clip(s string) string {
	if r := []rune(s); len(r) > 160 {
		s = string(r[:160]) + "…"
	}
	return foreign.Quote(s)
}

// Text is a value as JSON writes it.
func Text(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
