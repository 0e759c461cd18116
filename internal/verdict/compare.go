package verdict

import (
	"bytes"
	"encoding/json"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

func compareObjects(sent, found []byte, s *ledger.Stream) (diffs []Difference, known bool) {
	want, err := strictjson.Members(sent)
	if err != nil {
		return nil, false
	}
	v, err := strictjson.Decode(found)
	have, is := v.(map[string]any)
	if err != nil || !is {
		note := "not an object of fields"
		if err != nil {
			note = "not JSON that can be read in one way only: " + err.Error()
		}
		return []Difference{{Field: "(all)", Sent: string(sent), Found: clip(string(found)), Note: note}}, true
	}
	for _, m := range want {
		v, there := have[m.Name]
		diffs = compareMember(diffs, m.Name, m.Value, v, there, s)
	}
	return diffs, true
}

// compareMember adds how a member differs. What is nested is compared part by
// part; a position and a vector are one value each.
func compareMember(diffs []Difference, path string, sent, found any, there bool, s *ledger.Stream) []Difference {
	if !there {
		return append(diffs, Difference{Field: path, Sent: show(sent), Note: "missing", Unit: s.Units[path]})
	}
	switch x := sent.(type) {
	case map[string]any:
		if f, is := found.(map[string]any); is && !oneValue(x) {
			for _, name := range slices.Sorted(maps.Keys(x)) {
				v, there := f[name]
				diffs = compareMember(diffs, path+"."+name, x[name], v, there, s)
			}
			return diffs
		}
	case []any:
		if f, is := found.([]any); is && len(f) == len(x) {
			for i := range x {
				diffs = compareMember(diffs, path+"."+strconv.Itoa(i), x[i], f[i], true, s)
			}
			return diffs
		}
	}
	if note, same := compare(sent, found, s.Tolerances[path]); !same {
		diffs = append(diffs, Difference{Field: path, Sent: show(sent), Found: show(found), Note: note, Unit: s.Units[path]})
	}
	return diffs
}

// Field is one value that was sent, and what was found of it.
type Field struct {
	Difference
	Same bool
}

// Fields compares what was sent with what was found, value by value: all of them,
// not the differences alone.
func Fields(sent, found []byte, s *ledger.Stream) []Field {
	want, err := strictjson.Members(sent)
	if err != nil {
		return nil
	}
	different := map[string]Difference{}
	diffs, _ := compareObjects(sent, found, s)
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
			list = append(list, Field{Difference{Field: m.Name, Sent: show(m.Value), Found: d.Found, Note: d.Note, Unit: s.Units[m.Name]}, false})
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
func compare(sent, found any, tolerance float64) (note string, same bool) {
	switch s := sent.(type) {
	case json.Number:
		f, is := found.(json.Number)
		if !is {
			if text, isText := found.(string); isText && text == s.String() {
				return "text in place of a number", false
			}
			return "", false
		}
		return compareNumbers(s, f, tolerance)
	case map[string]any:
		f, is := found.(map[string]any)
		if !is {
			return "", false
		}
		for name, v := range s {
			other, there := f[name]
			if !there {
				return name + " is missing", false
			}
			if note, same := compare(v, other, tolerance); !same {
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
			if note, same := compare(s[i], f[i], tolerance); !same {
				return note, false
			}
		}
		return "", true
	}
	if found == nil && sent != nil {
		return "null", false
	}
	return "", sent == found
}

func compareNumbers(sent, found json.Number, tolerance float64) (string, bool) {
	if sent == found {
		return "", true
	}
	a, errA := strconv.ParseInt(sent.String(), 10, 64)
	b, errB := strconv.ParseInt(found.String(), 10, 64)
	if errA == nil && errB == nil && tolerance == 0 {
		return "", a == b // beyond 2^53 a float64 would hide a difference
	}
	x, _ := sent.Float64()
	y, _ := found.Float64()
	switch {
	case x == y || math.Abs(x-y) <= tolerance:
		return "", true
	case y == math.Round(x):
		return "rounded", false
	case y == math.Trunc(x):
		return "cut off", false
	}
	for digits := 1; digits <= 6; digits++ {
		p := math.Pow(10, float64(digits))
		if y == math.Round(x*p)/p {
			return "rounded", false
		}
	}
	if float64(float32(x)) == y {
		return "kept as a 32-bit number", false
	}
	return "", false
}

func show(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return "?"
	}
	return clip(string(b))
}

func clip(s string) string {
	if r := []rune(s); len(r) > 100 {
		return string(r[:100]) + "…"
	}
	return s
}

// differences compares the JSON object that was sent with what was found. A
// field the platform added is no difference. It is not known what was sent where it
// could not be read back from our own body: that is noted as null.
func differences(sent, found []byte, s *ledger.Stream) (diffs []Difference, known bool) {
	if untouched(sent, found) {
		return nil, true
	}
	return compareObjects(sent, found, s)
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
	name, rest, named := bytes.Cut(rest, []byte(`":"`))
	text, ends := bytes.CutSuffix(rest, []byte(`",`))
	if !begins || !named || !ends || !simple(name) || !simple(text) {
		return false
	}
	// The name must not stand in what was sent, however it may be written there.
	return bytes.IndexByte(sent, '\\') < 0 && !bytes.Contains(sent, found[1:3+len(name)])
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
