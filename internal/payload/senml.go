package payload

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/signal"
	"runcrowd/internal/strictjson"
)

// SenML is a pack of records as in RFC 8428, in JSON or in CBOR. The first
// record carries the base name and the base time, each field is a record of its
// own, and a position is two of them: position/lat and position/lon. SenML has no
// null: a null is left out. The time of a sample is cut to microseconds.
type SenML struct {
	fields   []Field
	columns  []scalar
	mark     string
	baseName string
	binary   bool
}

// NewSenML makes the form.
func NewSenML(fields []Field, mark, baseName string, binary bool) *SenML {
	return &SenML{fields, scalars(fields, "/"), mark, baseName, binary}
}

// CheckSenMLName tells why a text cannot be a name in SenML (RFC 8428, section
// 4.5.1); base name and name together must hold to it.
func CheckSenMLName(name string) error {
	for i, c := range name {
		switch {
		case c >= 'A' && c <= 'Z', c >= 'a' && c <= 'z', c >= '0' && c <= '9':
		case i > 0 && strings.ContainsRune("-:./_", c):
		default:
			return fmt.Errorf("%q cannot be a name in SenML: letters, digits and - : . / _, a letter or digit first (RFC "+
				"8428, section 4.5.1)", name)
		}
	}
	return nil
}

// ContentType implements Form (RFC 8428, section 12.3).
func (s *SenML) ContentType() string {
	if s.binary {
		return "application/senml+cbor"
	}
	return "application/senml+json"
}

// The labels of SenML in CBOR (RFC 8428, section 6, table 4).
const (
	labelBaseTime = -3
	labelBaseName = -2
	labelName     = 0
	labelUnit     = 1
	labelValue    = 2
	labelText     = 3
	labelBool     = 4
	labelTime     = 6
)

// Append implements Form. A record's time is relative to the base time, that of
// the first sample; the last record of a sample comes before the first of the next.
func (s *SenML) Append(dst []byte, samples []Sample) ([]byte, error) {
	base := micros(samples[0].Time)
	type entry struct {
		*scalar
		v  signal.Value
		at float64
	}
	var list []entry
	for i := range samples {
		at := math.Round((micros(samples[i].Time)-base)*1e6) / 1e6
		for k := range s.columns {
			if v := s.columns[k].of(&samples[i]); plain(v) {
				list = append(list, entry{&s.columns[k], v, at})
			}
		}
	}
	if s.binary {
		dst = cborHead(dst, 4, uint64(len(list)))
	} else {
		dst = append(dst, '[')
	}
	for i, e := range list {
		if s.binary {
			n := 2
			if i == 0 {
				n++
				if s.baseName != "" {
					n++
				}
			}
			if e.unit != "" {
				n++
			}
			if e.at != 0 {
				n++
			}
			dst = cborHead(dst, 5, uint64(n))
			if i == 0 {
				if s.baseName != "" {
					dst = cborText(cborInt(dst, labelBaseName), s.baseName)
				}
				dst = cborFloat(cborInt(dst, labelBaseTime), base)
			}
			dst = cborText(cborInt(dst, labelName), e.name)
			if e.unit != "" {
				dst = cborText(cborInt(dst, labelUnit), e.unit)
			}
			switch e.v.Type() {
			case signal.Text:
				dst = cborText(cborInt(dst, labelText), e.v.Text())
			case signal.Bool:
				dst = cborValue(cborInt(dst, labelBool), e.v)
			default:
				dst = cborValue(cborInt(dst, labelValue), e.v)
			}
			if e.at != 0 {
				dst = cborFloat(cborInt(dst, labelTime), e.at)
			}
			continue
		}
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, '{')
		if i == 0 {
			if s.baseName != "" {
				dst = append(Text(append(dst, `"bn":`...), s.baseName), ',')
			}
			dst = append(number(append(dst, `"bt":`...), base), ',')
		}
		dst = Text(append(dst, `"n":`...), e.name)
		if e.unit != "" {
			dst = Text(append(dst, `,"u":`...), e.unit)
		}
		key := `,"v":`
		switch e.v.Type() {
		case signal.Text:
			key = `,"vs":`
		case signal.Bool:
			key = `,"vb":`
		}
		dst = Value(append(dst, key...), e.v)
		if e.at != 0 {
			dst = number(append(dst, `,"t":`...), e.at)
		}
		dst = append(dst, '}')
	}
	if !s.binary {
		dst = append(dst, ']')
	}
	return dst, nil
}

func micros(t time.Time) float64 { return float64(t.UnixMicro()) / 1e6 }

// record is one SenML record as it is read.
type record struct {
	BaseName string      `json:"bn" cbor:"-2,keyasint"`
	BaseTime json.Number `json:"bt" cbor:"-"`
	Name     string      `json:"n" cbor:"0,keyasint"`
	Number   json.Number `json:"v" cbor:"-"`
	Text     *string     `json:"vs" cbor:"3,keyasint"`
	Bool     *bool       `json:"vb" cbor:"4,keyasint"`
	Time     json.Number `json:"t" cbor:"-"`

	BaseTimeCBOR any `json:"-" cbor:"-3,keyasint"`
	NumberCBOR   any `json:"-" cbor:"2,keyasint"`
	TimeCBOR     any `json:"-" cbor:"6,keyasint"`
}

// known is the longest name of a column that a resolved name ends in, or else def.
func (s *SenML) known(resolved, def string) string {
	best := ""
	for i := range s.columns {
		if n := s.columns[i].name; len(n) > len(best) && strings.HasSuffix(resolved, n) {
			best = n
		}
	}
	if best == "" {
		return def
	}
	return best
}

var errBase = errors.New("a SenML record has a base value or base sum, which is not read here")

// strictLabels checks what encoding/json lets pass: a name twice, a label in other
// letters (they are case-sensitive), and a base that would change the values.
func strictLabels(body []byte) error {
	v, err := strictjson.Decode(body)
	if err != nil {
		return fmt.Errorf("not SenML in JSON: %w", err)
	}
	list, _ := v.([]any)
	for _, x := range list {
		object, _ := x.(map[string]any)
		for label := range object {
			switch {
			case label == "bv" || label == "bs":
				return errBase
			case label != strings.ToLower(label):
				return fmt.Errorf("a SenML record has the unknown label %q", label)
			}
		}
	}
	return nil
}

// Read implements Form: records are resolved (RFC 8428, section 4.6), and those
// of one time are one sample.
func (s *SenML) Read(body []byte) ([]Found, error) {
	var records []record
	if s.binary {
		var labels []map[int]any
		if err := cborMode.Unmarshal(body, &labels); err != nil {
			return nil, fmt.Errorf("not SenML in CBOR: %w", err)
		}
		for _, r := range labels {
			if r[-5] != nil || r[-6] != nil {
				return nil, errBase
			}
		}
		if err := cborMode.Unmarshal(body, &records); err != nil {
			return nil, fmt.Errorf("not SenML in CBOR: %w", err)
		}
		for i := range records {
			r := &records[i]
			r.BaseTime, r.Number, r.Time = cborNumber(r.BaseTimeCBOR), cborNumber(r.NumberCBOR), cborNumber(r.TimeCBOR)
		}
	} else {
		if err := strictLabels(body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(body, &records); err != nil {
			return nil, fmt.Errorf("not SenML in JSON: %w", err)
		}
	}
	byName := map[string]*scalar{}
	for i := range s.columns {
		byName[s.columns[i].name] = &s.columns[i]
	}
	var found []Found
	var samples []string // the time of each
	values := map[string]map[string]any{}
	names := map[string]bool{} // time and name of what has a value
	baseName := ""
	for i := range records {
		r := &records[i]
		if r.BaseName != "" {
			baseName = r.BaseName
		}
		at := r.Time.String()
		if f, err := strconv.ParseFloat(at, 64); err != nil || f == 0 {
			at = "0"
		}
		into := values[at]
		if into == nil {
			into = map[string]any{}
			values[at] = into
			samples = append(samples, at)
		}
		// A platform may have resolved the names, and a message filed under another
		// device has the base name of its own.
		name := strings.TrimPrefix(baseName+r.Name, s.baseName)
		if byName[name] == nil {
			name = s.known(baseName+r.Name, name)
		}
		var v any
		kinds := 0
		for _, has := range []bool{r.Text != nil, r.Bool != nil, r.Number != ""} {
			if has {
				kinds++
			}
		}
		if kinds > 1 {
			return nil, fmt.Errorf("a SenML record has %d values", kinds)
		}
		if kinds == 1 && names[at+" "+name] {
			return nil, fmt.Errorf("the name %q stands twice at one time", name)
		}
		names[at+" "+name] = true
		switch {
		case r.Text != nil:
			v = *r.Text
		case r.Bool != nil:
			v = *r.Bool
		case r.Number != "":
			v = r.Number
		default:
			continue
		}
		if c := byName[name]; c != nil {
			c.put(s.fields, into, v)
		} else {
			into[name] = v
		}
	}
	for _, at := range samples {
		found = append(found, split(values[at], s.mark))
	}
	return found, nil
}
