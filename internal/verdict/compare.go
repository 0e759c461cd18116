package verdict

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/decimal"
	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// comparer compares what was sent in a stream with what a witness found of it.
type comparer struct {
	stream *ledger.Stream
	rules  map[string]ledger.FieldRule // of the witness, by field
	types  ledger.Types                // that it keeps
	// quick: what is found as it was sent needs no look at each field.
	quick bool
}

func newComparer(s *ledger.Stream, w *ledger.Witness) *comparer {
	c := &comparer{stream: s, rules: w.Fields, types: w.Types, quick: true}
	for _, r := range w.Fields {
		c.quick = c.quick && !r.Changes()
	}
	return c
}

// comparers makes a comparer of each stream and witness.
func comparers(f *ledger.Facts) func(stream, witness int) *comparer {
	list := make([]*comparer, len(f.Streams)*len(f.Witnesses))
	return func(stream, witness int) *comparer {
		c := &list[stream*len(f.Witnesses)+witness]
		if *c == nil {
			*c = newComparer(&f.Streams[stream], &f.Witnesses[witness])
		}
		return *c
	}
}

// Same tells whether what a witness found is what was sent, in the streams of a run. The
// facts may grow between two calls.
func Same(f *ledger.Facts) func(stream, witness int, sent, found []byte) bool {
	var of func(stream, witness int) *comparer
	streams, witnesses := -1, -1
	return func(stream, witness int, sent, found []byte) bool {
		if witness < 0 || witness >= len(f.Witnesses) {
			return false
		}
		if streams != len(f.Streams) || witnesses != len(f.Witnesses) {
			streams, witnesses, of = len(f.Streams), len(f.Witnesses), comparers(f)
		}
		diffs, known := of(stream, witness).differences(sent, found)
		return known && len(diffs) == 0
	}
}

// differences compares the JSON object that was sent with what was found. A field the
// platform added is no difference. It is not known what was sent where it could not be
// read back from our own body: that is noted as null.
func (c *comparer) differences(sent, found []byte) (diffs []Difference, known bool) {
	if c.quick && untouched(sent, found) {
		return nil, true
	}
	want, err := strictjson.Members(sent)
	if err != nil {
		return nil, false
	}
	v, err := strictjson.Decode(found)
	have, is := v.(map[string]any)
	if !is && c.stream.List {
		have, is = strictjson.Object(v)
	}
	if err != nil || !is {
		note := "not an object of fields"
		if err != nil {
			note = "not JSON that can be read in one way only: " + err.Error()
		}
		return []Difference{{Field: "(all)", Sent: string(sent), Found: clip(foreign.Line(string(found), 0)), Note: note}}, true
	}
	for _, m := range want {
		v, there := have[m.Name]
		diffs = c.member(diffs, m.Name, m.Value, v, there, have)
	}
	return diffs, true
}

// member adds how a member differs. What is nested is compared part by part; a position
// and a vector are one value each. All is the object that was found.
func (c *comparer) member(diffs []Difference, path string, sent, found any, there bool,
	all map[string]any) []Difference {
	rule, ruled := c.rules[path]
	if ruled && rule.Ignored {
		return diffs
	}
	if rule.As != "" {
		found, there = at(all, rule.As)
	}
	if c.types != ledger.AllTypes {
		if found, there = c.typed(sent, found, there); sent == nil && !there {
			return diffs // a text cannot say null
		}
	}
	if !there {
		note := "missing"
		if rule.As != "" {
			note = "missing: there is no " + rule.As
		}
		return append(diffs, Difference{Field: path, Sent: show(sent), Note: note, Unit: c.stream.Units[path]})
	}
	switch x := sent.(type) {
	case map[string]any:
		if f, is := found.(map[string]any); is && !oneValue(x) {
			for _, name := range slices.Sorted(maps.Keys(x)) {
				v, there := f[name]
				diffs = c.member(diffs, path+"."+name, x[name], v, there, all)
			}
			return diffs
		}
	case []any:
		if f, is := found.([]any); is && len(f) == len(x) {
			for i := range x {
				diffs = c.member(diffs, path+"."+strconv.Itoa(i), x[i], f[i], true, all)
			}
			return diffs
		}
	}
	tolerance := c.stream.Tolerances[path]
	if rule.Tolerance > 0 {
		tolerance = rule.Tolerance
	}
	if n, is := sent.(json.Number); is && (rule.Factor != 0 || rule.Offset != 0) {
		if f, is := found.(json.Number); is {
			d := Difference{Field: path, Sent: show(sent), Found: show(found), Unit: c.stream.Units[path]}
			x, okX := decimal.Parse(n.String())
			y, okY := decimal.Parse(f.String())
			if okX {
				want, allowed := rule.Apply(x, tolerance)
				if okY && y.Within(want, allowed) {
					return diffs
				}
				d.Note = "expected " + want.String()
			}
			return append(diffs, d)
		}
	}
	if note, same := compare(sent, found, tolerance, c.stream.Units[path]); !same {
		diffs = append(diffs, Difference{Field: path, Sent: show(sent), Found: show(found), Note: note,
			Unit: c.stream.Units[path]})
	}
	return diffs
}

// typed gives what was found the type of what was sent, where the store keeps no types and
// its text or number says the same in the one way that such a store has.
func (c *comparer) typed(sent, found any, there bool) (any, bool) {
	if n, is := found.(json.Number); is {
		if _, truth := sent.(bool); truth && (n == "0" || n == "1") {
			return n == "1", there
		}
	}
	text, is := found.(string)
	if !is || c.types != ledger.TextAlone {
		return found, there
	}
	switch sent.(type) {
	case nil:
		return found, there && text != ""
	case json.Number:
		if v, err := strictjson.Decode([]byte(text)); err == nil {
			if n, is := v.(json.Number); is {
				return n, there
			}
		}
	case bool:
		switch text {
		case "true", "TRUE", "True", "t", "1":
			return true, there
		case "false", "FALSE", "False", "f", "0":
			return false, there
		}
	case map[string]any, []any:
		if v, err := strictjson.Decode([]byte(text)); err == nil {
			return v, there
		}
	}
	return found, there
}

// at is what stands at a path of names in an object.
func at(object map[string]any, path string) (any, bool) {
	if v, there := object[path]; there {
		return v, true
	}
	name, rest, deeper := strings.Cut(path, ".")
	if !deeper {
		return nil, false
	}
	inner, _ := object[name].(map[string]any) // nil: nothing stands in it
	return at(inner, rest)
}

// Field is one value that was sent, and what was found of it.
type Field struct {
	Difference
	Same bool
}

// Fields compares what was sent with what was found, value by value: all of them,
// not the differences alone.
func Fields(sent, found []byte, s *ledger.Stream, w *ledger.Witness) []Field {
	want, err := strictjson.Members(sent)
	if err != nil {
		return nil
	}
	different := map[string]Difference{}
	diffs, _ := newComparer(s, w).differences(sent, found)
	for _, d := range diffs {
		different[d.Field] = d
	}
	var list []Field
	var add func(path string, v any)
	add = func(path string, v any) {
		if d, is := different[path]; is {
			list = append(list, Field{d, false})
			return
		}
		switch x := v.(type) {
		case map[string]any:
			if !oneValue(x) {
				for _, name := range slices.Sorted(maps.Keys(x)) {
					add(path+"."+name, x[name])
				}
				return
			}
		case []any:
			for i := range x {
				add(path+"."+strconv.Itoa(i), x[i])
			}
			return
		}
		list = append(list, Field{Difference{Field: path, Sent: show(v), Found: show(v), Unit: s.Units[path]}, true})
	}
	for _, m := range want {
		if d, all := different["(all)"]; all {
			list = append(list, Field{Difference{Field: m.Name, Sent: show(m.Value), Found: d.Found, Note: d.Note,
				Unit: s.Units[m.Name]}, false})
			continue
		}
		add(m.Name, m.Value)
	}
	return list
}

// oneValue tells whether an object is a position or a vector.
func oneValue(m map[string]any) bool {
	has := func(name string) bool { _, is := m[name]; return is }
	return len(m) == 2 && has("lat") && has("lon") || len(m) == 3 && has("x") && has("y") && has("z")
}

// compare tells whether a found value is the one that was sent, and if not, how
// it differs where that has a name.
func compare(sent, found any, tolerance float64, unit string) (note string, same bool) {
	if found == nil && sent != nil {
		return "null", false
	}
	switch s := sent.(type) {
	case json.Number:
		switch f := found.(type) {
		case json.Number:
			return compareNumbers(s, f, tolerance, unit)
		case string:
			if f == s.String() {
				return "text in place of a number", false
			}
			return compareTimes(sent, found)
		}
		return "", false
	case string:
		if f, is := found.(string); is && f == s {
			return "", true
		}
		if note, same := compareTimes(sent, found); same || note != "" {
			return note, same
		}
		f, is := found.(string)
		if !is {
			return "", false
		}
		return compareTexts(s, f), false
	case map[string]any:
		f, is := found.(map[string]any)
		if !is {
			return "", false
		}
		for _, name := range slices.Sorted(maps.Keys(s)) {
			other, there := f[name]
			if !there {
				return name + " is missing", false
			}
			if note, same := compare(s[name], other, tolerance, ""); !same {
				return strings.TrimSpace(name + " " + note), false
			}
		}
		return "", true
	case []any:
		f, is := found.([]any)
		if !is || len(f) != len(s) {
			return "", false
		}
		for i := range s {
			if note, same := compare(s[i], f[i], tolerance, ""); !same {
				return note, false
			}
		}
		return "", true
	}
	return "", sent == found
}

// compareTexts names how a text differs, where that has a name.
func compareTexts(sent, found string) string {
	switch {
	case found == "":
		return "empty"
	case strings.HasPrefix(sent, found):
		return fmt.Sprintf("cut off after %d letters", len([]rune(found)))
	case strings.EqualFold(sent, found):
		return "upper and lower case changed"
	case strings.TrimSpace(sent) == strings.TrimSpace(found):
		return "blanks changed"
	}
	return ""
}

// aBillion is the least number that is taken for a time since 1970: it is of 2001.
var aBillion = decimal.Int(1e9)

// instant reads a time: a text, or a number since 1970.
func instant(v any) (t time.Time, text, ok bool) {
	switch x := v.(type) {
	case string:
		t, ok = quantity.ParseInstant(x)
		return t, true, ok
	case json.Number:
		if n, ok := decimal.Parse(x.String()); ok && n.Cmp(aBillion) >= 0 {
			t, ok = n.Instant()
			return t, text, ok
		}
	}
	return t, text, ok
}

// compareTimes compares two notations of a time, of which one is a text.
func compareTimes(sent, found any) (note string, same bool) {
	a, textA, ok := instant(sent)
	b, textB, is := instant(found)
	if !ok || !is || !textA && !textB {
		return "", false
	}
	d := b.Sub(a)
	switch {
	case d == 0:
		return "", true
	case b.Equal(a.Truncate(time.Second)):
		return "cut off to whole seconds", false
	case b.Equal(a.Truncate(time.Millisecond)):
		return "cut off to milliseconds", false
	case b.Equal(a.Truncate(time.Microsecond)):
		return "cut off to microseconds", false
	case d%(15*time.Minute) == 0 && d.Abs() <= 14*time.Hour:
		return fmt.Sprintf("moved by %s: another time zone", d), false
	}
	return fmt.Sprintf("another time, %s", later(d)), false
}

func later(d time.Duration) string {
	if d < 0 {
		return Span(-d) + " earlier"
	}
	return Span(d) + " later"
}

func compareNumbers(sent, found json.Number, tolerance float64, unit string) (string, bool) {
	if sent == found || within(sent, found, tolerance) {
		return "", true
	}
	x, errX := sent.Float64()
	y, errY := found.Float64()
	switch {
	case errX != nil || errY != nil: // beyond what a 64-bit number holds
		return "", false
	// Two notations of one 64-bit number are one number (RFC 8259, section 6); beyond 2^53
	// they may be of several whole numbers.
	case x == y && math.Abs(x) < 1<<53:
		return "", true
	case x == y:
		return "kept as a 64-bit floating point number", false
	}
	return changed(x, y, unit), false
}

// within tells whether two numbers differ by the tolerance at most, by their digits.
func within(a, b json.Number, tolerance float64) bool {
	x, okX := decimal.Parse(a.String())
	y, okY := decimal.Parse(b.String())
	return okX && okY && x.Within(y, decimal.Float(tolerance))
}

// changed names how a number was changed, where that has a name.
func changed(x, y float64, unit string) string {
	switch {
	case y == math.Round(x):
		return "rounded"
	case y == math.Trunc(x):
		return "cut off"
	case y == math.Floor(x):
		return "rounded down"
	case y == math.Ceil(x):
		return "rounded up"
	case y == -x:
		return "the sign turned"
	}
	for digits := 1; digits <= 9; digits++ {
		p := math.Pow(10, float64(digits))
		switch y {
		case math.Round(x*p) / p:
			return "rounded"
		case math.Trunc(x*p) / p:
			return "cut off"
		}
	}
	if float64(float32(x)) == y {
		return "kept as a 32-bit number"
	}
	for _, f := range []float64{10, 100, 1000, 1e6} {
		if close(y, x*f) {
			return fmt.Sprintf("%.0f times as much", f)
		}
		if close(y, x/f) {
			return fmt.Sprintf("divided by %.0f", f)
		}
	}
	for _, c := range conversions {
		if close(y, x*c.factor+c.offset) && (unit == "" || slices.Contains(c.from, unit)) {
			return "converted: " + c.what
		}
	}
	return ""
}

func close(a, b float64) bool { return a != 0 && math.Abs(a-b) <= 1e-6*math.Abs(b) }

// conversions are those between units that platforms make.
var conversions = []struct {
	what           string
	from           []string
	factor, offset float64
}{
	{"°C to °F", []string{"Cel", "°C"}, 1.8, 32},
	{"°F to °C", []string{"[degF]", "°F"}, 1 / 1.8, -32 / 1.8},
	{"°C to K", []string{"Cel", "°C"}, 1, 273.15},
	{"K to °C", []string{"K"}, 1, -273.15},
	{"m to ft", []string{"m"}, 1 / 0.3048, 0},
	{"ft to m", []string{"[ft_i]", "ft"}, 0.3048, 0},
	{"m/s to km/h", []string{"m/s"}, 3.6, 0},
	{"km/h to m/s", []string{"km/h"}, 1 / 3.6, 0},
	{"m/s to knots", []string{"m/s"}, 3600 / 1852.0, 0},
	{"knots to m/s", []string{"kn", "[kn_i]"}, 1852 / 3600.0, 0},
	{"degrees to radians", []string{"deg", "°"}, math.Pi / 180, 0},
	{"radians to degrees", []string{"rad"}, 180 / math.Pi, 0},
	{"bar to psi", []string{"bar"}, 14.503773773, 0},
}

func show(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return "?"
	}
	return clip(string(foreign.JSON(b)))
}

func clip(s string) string {
	if r := []rune(s); len(r) > 100 {
		return string(r[:100]) + "…"
	}
	return s
}

// untouched is a quick yes for the usual case: what was found is the object that was
// sent, with nothing but a mark put in front of its members. It never says yes where
// parsing both would say no. What was sent is one JSON object, as our own writer made it.
func untouched(sent, found []byte) bool {
	if len(sent) <= 2 || sent[0] != '{' || !bytes.HasSuffix(found, sent[1:]) {
		return false
	}
	front := found[:len(found)-len(sent)+1]
	if string(front) == "{" {
		return true
	}
	rest, begins := bytes.CutPrefix(front, []byte(`{"`))
	name, rest, _ := bytes.Cut(rest, []byte(`":"`)) // without it, no end follows
	text, ends := bytes.CutSuffix(rest, []byte(`",`))
	if !begins || !ends || !simple(name) || !simple(text) {
		return false
	}
	// The name must not stand in what was sent, however it may be written there.
	return bytes.IndexByte(sent, '\\') == -1 && !bytes.Contains(sent, found[1:3+len(name)])
}

// simple tells whether a JSON text of these letters stands for itself.
func simple(b []byte) bool {
	for _, c := range b {
		if c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}
