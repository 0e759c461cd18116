package recording

import (
	"bytes"
	"encoding/json"
	"io"
	"strconv"
	"strings"
	"time"
)

// Change is what is done to the body of a recorded message, which is a JSON object.
type Change struct {
	Drop  string            // a member of the top that is left out: an old mark
	Set   map[string][]byte // members of the top to other JSON values; those that are not there are added
	Shift time.Duration     // by which times are moved
	Times []string          // names of members that hold times, at any depth
	All   bool              // or all that is a time within a day of Near
	Near  time.Time
}

// Apply changes a body; the rest of it stays as it is, to the byte. Ok is false where it is no
// JSON object.
func (c *Change) Apply(body []byte) (out []byte, ok bool) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return body, false
	}
	set := map[string]bool{}
	from := 0 // of what was not copied yet
	replace := func(a, b int, with []byte) {
		out = append(append(out, body[from:a]...), with...)
		from = b
	}
	begin := int(d.InputOffset())
	first, dropped := true, false
	for d.More() {
		before := int(d.InputOffset())
		key, err := d.Token()
		if err != nil {
			return body, false
		}
		name := key.(string)
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return body, false
		}
		end := int(d.InputOffset())
		start := end - len(raw)
		switch with, has := c.Set[name]; {
		case name == c.Drop && c.Drop != "":
			a, b := before, end
			if first { // and the comma behind it
				a = begin
				rest := bytes.TrimLeft(body[end:], " \t\r\n")
				if len(rest) > 0 && rest[0] == ',' {
					b = len(body) - len(rest) + 1
				}
				dropped = true
			}
			replace(a, b, nil)
		case has:
			set[name] = true
			replace(start, end, with)
		case c.Shift != 0:
			if moved := c.move(name, raw); moved != nil {
				replace(start, end, moved)
			}
		}
		first = first && dropped
		dropped = false
	}
	if t, err := d.Token(); err != nil || t != json.Delim('}') {
		return body, false
	}
	close := int(d.InputOffset()) - 1
	if _, err := d.Token(); err != io.EOF { // something stands behind it
		return body, false
	}
	var more []byte
	for name, v := range c.Set {
		if !set[name] {
			key, _ := json.Marshal(name)
			more = append(append(append(append(more, ','), key...), ':'), v...)
		}
	}
	if len(more) > 0 {
		head := append(append([]byte(nil), out...), body[from:close]...)
		if bytes.HasSuffix(bytes.TrimRight(head, " \t\r\n"), []byte("{")) {
			more = more[1:]
		}
		replace(close, close, more)
	}
	return append(out, body[from:]...), true
}

// move moves times in a value, at any depth; nil where there is none.
func (c *Change) move(name string, raw []byte) []byte {
	switch raw[0] {
	case '{':
		inner := Change{Shift: c.Shift, Times: c.Times, All: c.All, Near: c.Near}
		if out, ok := inner.Apply(raw); ok && !bytes.Equal(out, raw) {
			return out
		}
		return nil
	case '[':
		var list []json.RawMessage
		if json.Unmarshal(raw, &list) != nil {
			return nil
		}
		changed := false
		for i, x := range list {
			if m := c.move(name, x); m != nil {
				list[i], changed = m, true
			}
		}
		if !changed {
			return nil
		}
		out, err := json.Marshal(list)
		if err != nil {
			return nil
		}
		return out
	}
	named := false
	for _, t := range c.Times {
		named = named || t == name
	}
	if !named && !c.All {
		return nil
	}
	var text string
	number := string(raw)
	if raw[0] == '"' {
		if json.Unmarshal(raw, &text) != nil {
			return nil
		}
		number = text
	}
	at, ok := ParseTime(number)
	if off := at.Sub(c.Near).Abs(); !ok || !named && off > 24*time.Hour {
		return nil
	}
	moved := Notation(number, at.Add(c.Shift))
	if raw[0] == '"' {
		out, _ := json.Marshal(moved)
		return out
	}
	return []byte(moved)
}

// Notation writes a time as another one is written: with its offset and its digits, or as a
// number of the same unit.
func Notation(like string, t time.Time) string {
	if whole, frac, is := strings.Cut(like, "."); is && !strings.ContainsAny(like, "-:TZ") {
		n := t.Unix()
		_ = whole
		digits := len(frac)
		nanos := strconv.FormatInt(1_000_000_000+int64(t.Nanosecond()), 10)[1:]
		for len(nanos) < digits {
			nanos += "0"
		}
		return strconv.FormatInt(n, 10) + "." + nanos[:digits]
	}
	if n, err := strconv.ParseInt(like, 10, 64); err == nil {
		switch {
		case n < 1e11:
			return strconv.FormatInt(t.Unix(), 10)
		case n < 1e14:
			return strconv.FormatInt(t.UnixMilli(), 10)
		case n < 1e17:
			return strconv.FormatInt(t.UnixMicro(), 10)
		}
		return strconv.FormatInt(t.UnixNano(), 10)
	}
	layout := "2006-01-02T15:04:05"
	if strings.Contains(like, " ") {
		layout = "2006-01-02 15:04:05"
	}
	rest := ""
	if len(like) > 19 {
		rest = like[19:]
	}
	if strings.HasPrefix(rest, ".") || strings.HasPrefix(rest, ",") {
		n := 1
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		layout += rest[:1] + strings.Repeat("0", n-1)
		rest = rest[n:]
	}
	switch {
	case rest == "":
		return t.UTC().Format(layout)
	case rest == "Z":
		return t.UTC().Format(layout) + "Z"
	}
	if z, err := time.Parse("-07:00", rest); err == nil {
		return t.In(z.Location()).Format(layout + "-07:00")
	}
	if z, err := time.Parse("-0700", rest); err == nil {
		return t.In(z.Location()).Format(layout + "-0700")
	}
	return t.UTC().Format(time.RFC3339Nano)
}
