package sketch

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// Sample is what real messages look like: their shape as a template, and their fields.
type Sample struct {
	Template string   // JSON or a plain text, with ${…}
	Payload  string   // in place of a template: the form, as a crowd file has it
	Fields   []string // lines of a crowd file
	Notes    []string // what somebody should look at
	Mark     string   // the name of the member that is the mark
	Beside   bool     // it has no place for a mark, which has to ride beside it
}

// mostSamples bounds how many messages are looked at.
const mostSamples = 100_000

// Samples takes a text apart into messages: JSON values, one after the other.
func Samples(text []byte) (list []json.RawMessage, err error) {
	d := json.NewDecoder(bytes.NewReader(text))
	for len(list) < mostSamples {
		var raw json.RawMessage
		if err := d.Decode(&raw); err == io.EOF {
			break
		} else if err != nil {
			return nil, fmt.Errorf("message %d is not JSON: %w", len(list)+1, err)
		}
		if _, err := strictjson.Decode(raw); err != nil {
			return nil, fmt.Errorf("message %d: %w", len(list)+1, err)
		}
		list = append(list, raw)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("there is no message in it")
	}
	return list, nil
}

// Learn makes a sample of messages of one shape: that of the first.
func Learn(messages []json.RawMessage) (*Sample, error) {
	s := newLearner()
	for i, m := range messages {
		v, err := strictjson.Decode(m)
		if err != nil {
			return nil, err
		}
		s.take(v, 0, float64(i))
	}
	return s.learn(messages[0])
}

func newLearner() *learner {
	return &learner{used: map[string]bool{"mark": true}, values: map[string][]observed{}, top: map[string]bool{}}
}

// take takes a message of a device, so many seconds after the first.
func (s *learner) take(v any, device int, at float64) {
	if o, is := v.(map[string]any); is {
		if text, is := o["mark"].(string); is {
			if _, err := ledger.ParseMark(text); err == nil {
				delete(o, "mark") // a crowd sent it; the next one has marks of its own
				s.ours = true
			}
		}
		for k := range o {
			s.top[k] = true
		}
	}
	s.gather("", v, device, at)
}

// learn makes the sample: its shape is that of one message.
func (s *learner) learn(list []byte) (*Sample, error) {
	is := bytes.HasPrefix(bytes.TrimSpace(list), []byte("{"))
	mark := s.markName()
	d := json.NewDecoder(bytes.NewReader(list))
	d.UseNumber()
	var b strings.Builder
	if err := s.write(&b, d, ""); err != nil {
		return nil, err
	}
	text := b.String()
	switch mark := `"` + mark + `": "${mark}"`; {
	case !is:
	case text == "{}":
		text = "{" + mark + "}"
	default:
		text = text[:len(text)-1] + ", " + mark + "}"
	}
	return &Sample{Template: text, Fields: s.fields, Notes: s.remarks(), Mark: mark, Beside: !is}, nil
}

// markName is a name that no member has.
func (s *learner) markName() string {
	mark := "mark"
	for i := 2; s.top[mark]; i++ {
		mark = fmt.Sprintf("mark_%d", i)
	}
	return mark
}

// noDevice is the remark on a sample that names no device.
const noDevice = "nothing in it looks like the name of a device: put ${device} where it belongs"

// remarks are what somebody should look at.
func (s *learner) remarks() []string {
	if !s.device && s.fit == nil {
		s.notes = append(s.notes, noDevice)
	}
	if len(s.guessed) > 0 {
		s.notes = append(s.notes, "ranges are guessed, as there is one value alone: "+strings.Join(s.guessed, ", "))
	}
	return s.notes
}

// learner looks at messages.
type learner struct {
	values  map[string][]observed // by path; of lists, by place
	fields  []string
	notes   []string
	guessed []string        // paths of numbers of which there is one value
	used    map[string]bool // names of fields
	top     map[string]bool // names of members at the top
	device  bool            // it has a place
	typed   bool            // the form tells whole numbers from others
	ours    bool            // a member "mark" is a mark of ours
	fit     *fitter         // of traffic: what values are over time; nil: of a sample
}

// observed is a value, and whose it was when.
type observed struct {
	v      any
	device int
	at     float64 // seconds
}

func (s *learner) gather(path string, v any, device int, at float64) {
	switch x := v.(type) {
	case map[string]any:
		for k, y := range x {
			s.gather(path+"."+k, y, device, at)
		}
	case []any:
		for i, y := range x {
			s.gather(fmt.Sprintf("%s.%d", path, i), y, device, at)
		}
	default:
		s.values[path] = append(s.values[path], observed{v, device, at})
	}
}

// write writes a value as a template.
func (s *learner) write(b *strings.Builder, d *json.Decoder, path string) error {
	t, err := d.Token()
	if err != nil {
		return err
	}
	switch x := t.(type) {
	case json.Delim:
		n := 0
		b.WriteString(x.String())
		for ; d.More(); n++ {
			at, name := fmt.Sprintf("%s.%d", path, n), ""
			if x == '{' {
				k, err := d.Token()
				if err != nil {
					return err
				}
				name = fmt.Sprint(k)
				at = path + "." + name
				if at == ".mark" && s.ours {
					var skipped json.RawMessage
					if err := d.Decode(&skipped); err != nil {
						return err
					}
					n--
					continue
				}
			}
			if n > 0 {
				b.WriteString(", ")
			}
			if x == '{' {
				b.WriteString(literal(name) + ": ")
			}
			if err := s.write(b, d, at); err != nil {
				return err
			}
		}
		end, err := d.Token()
		if err == nil {
			b.WriteString(end.(json.Delim).String())
		}
		return err
	case json.Number:
		if s.fit != nil {
			b.WriteString(s.fit.number(path, x))
			break
		}
		b.WriteString(s.number(path, x))
	case string:
		if s.fit != nil {
			b.WriteString(s.fit.text(path, x))
			break
		}
		b.WriteString(s.text(path, x))
	case bool:
		if s.fit != nil {
			b.WriteString(s.fit.truth(path, x))
			break
		}
		if differ(s.values[path]) > 1 {
			b.WriteString(s.field(path, "{signal: choice, of: [true, false]}"))
		} else {
			b.WriteString(strconv.FormatBool(x))
		}
	default:
		b.WriteString("null")
	}
	return nil
}

// literal is a text as it stands in a template: our placeholders have no meaning in it.
func literal(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(s)                                      // a text can be written
	text := foreign.JSON(bytes.TrimSpace(b.Bytes())) // the rest may stand neither in YAML nor on a terminal
	return strings.ReplaceAll(string(text), "${", "$${")
}

// shown is a path as people read it.
func shown(path string) string { return foreign.Line(strings.TrimPrefix(path, "."), 60) }

// differ is how many different values there are.
func differ(list []observed) int {
	seen := map[string]bool{}
	for _, o := range list {
		seen[fmt.Sprintf("%T %v", o.v, o.v)] = true
	}
	return len(seen)
}

var noLetter = regexp.MustCompile(`[^A-Za-z0-9_]+`)

// field adds a field and gives its placeholder.
func (s *learner) field(path, of string) string {
	name := s.name(path)
	s.fields = append(s.fields, name+": "+of)
	return "${" + name + "}"
}

// name is a new name for what stands at a path.
func (s *learner) name(path string) string {
	base := clean(path)
	name := base
	for i := 2; s.used[name]; i++ {
		name = fmt.Sprintf("%s_%d", base, i)
	}
	s.used[name] = true
	return name
}

// clean is a name that a field can have.
func clean(path string) string {
	name := strings.Trim(noLetter.ReplaceAllString(path, "_"), "_")
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		name = "value_" + name
	}
	name = strings.TrimRight(name, "_")
	for _, word := range []string{"device", "kind", "n", "seq", "time", "elapsed", "reading", "crowd", "env", "tags", "previous", "true",
		"false", "null", "in", "not", "and", "or", "link"} {
		if name == word {
			name += "_"
		}
	}
	return name
}

// deviceName is a name that a member has which holds that of the device.
var deviceName = regexp.MustCompile(`(?i)^(device|dev|sensor|thing|client|station|meter|node|asset|gateway|machine|serial|sn|imei|eui)(_?(id|name|no|number|nr|eui|key))?$|^(id|name)$`)

// stampName is one of a time.
var stampName = regexp.MustCompile(`(?i)(^|_)(t|ts|time|timestamp|at|date|datetime|when|epoch|(measured|sent|created|updated)(_?at)?)$`)

func last(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }

func (s *learner) text(path, v string) string {
	values := s.values[path]
	if _, is := quantity.ParseInstant(v); is && strings.Contains(v, ":") {
		return `"` + s.field(path, "{signal: clock}") + `"`
	}
	if deviceName.MatchString(last(path)) && !s.device {
		s.device = true
		return `"${device}"`
	}
	n := differ(values)
	if n < 2 || n > 20 {
		if n > 20 {
			s.notes = append(s.notes, fmt.Sprintf("%s had %d different texts, and is always %s now", shown(path), n,
				foreign.Line(literal(v), 60)))
		}
		return literal(v)
	}
	var words []string
	for _, x := range values {
		if w, is := x.v.(string); is && !slices.Contains(words, quoted(w)) {
			words = append(words, quoted(w))
		}
	}
	slices.Sort(words)
	return `"` + s.field(path, "{signal: choice, of: ["+strings.Join(words, ", ")+"]}") + `"`
}

func (s *learner) number(path string, v json.Number) string {
	low, high, digits, whole, rising, step := math.Inf(1), math.Inf(-1), 0, true, true, 0.0
	var before float64
	n := 0
	for _, x := range s.values[path] {
		num, is := x.v.(json.Number)
		f, err := num.Float64()
		if !is || err != nil {
			continue
		}
		low, high = min(low, f), max(high, f)
		_, after, point := strings.Cut(num.String(), ".")
		whole = whole && !point && !strings.ContainsAny(num.String(), "eE")
		digits = max(digits, len(after))
		if n > 0 {
			if n == 1 {
				step = f - before
			}
			rising = rising && f > before && f-before == step
		}
		before = f
		n++
	}
	if as := stamp(low, high); as != "" && (stampName.MatchString(last(path)) || n > 2 && low < high) {
		return s.field(path, "{signal: clock, as: "+as+"}")
	}
	if tooLarge := math.Exp2(53); !(low <= high) || max(-low, high) >= tooLarge || digits > 15 { // none may be one that we can hold
		s.notes = append(s.notes, fmt.Sprintf("%s is always %s now: it has more digits than values are made with", shown(path),
			foreign.Line(v.String(), 60)))
		return v.String()
	}
	num := func(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }
	switch {
	case whole && rising && n > 2:
		return s.field(path, fmt.Sprintf("{signal: counter, from: %s, step: %s}", num(low), num(step)))
	case deviceName.MatchString(last(path)) && whole && low == high && !s.device:
		s.device = true
		return "${n}"
	case low == high: // one alone: a tenth around it
		width := math.Abs(low) / 10
		if width == 0 {
			width = 1
		}
		low, high = low-width, high+width
		s.guessed = append(s.guessed, fmt.Sprintf("%s (%s)", shown(path), v))
		if whole {
			low, high = math.Floor(low), math.Ceil(high)
		}
	}
	low, high = rounded(low, digits), rounded(high, digits)
	if high-low == 0 {
		high++
	}
	if whole && s.typed {
		return s.field(path, fmt.Sprintf("{signal: whole, low: %s, high: %s}", num(low), num(high)))
	}
	round := strconv.Itoa(min(9, digits))
	return s.field(path, fmt.Sprintf("{signal: walk, low: %s, high: %s, step: %s, round: %s}", num(low), num(high),
		strconv.FormatFloat((high-low)/20, 'g', 3, 64), round))
}

func rounded(x float64, digits int) float64 {
	p := math.Pow10(min(9, digits+1))
	return math.Round(x*p) / p
}

// stamp is in what units numbers are times of our days, since 1970; empty: they are none.
func stamp(low, high float64) string {
	from := float64(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).Unix())
	to := float64(time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC).Unix())
	for _, u := range []struct {
		as    string
		times float64
	}{{"s", 1}, {"ms", 1e3}, {"us", 1e6}} {
		if low >= from*u.times && high < to*u.times {
			return u.as
		}
	}
	return ""
}
